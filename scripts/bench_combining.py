"""Two stored results joined and written as CSV, grouped and whole, beside two libraries of data frames that read and write the
same; and what an extract without steps costs beside one with a step that does next to nothing.

Interleaved rounds; every measurement is a process of its own. Writes its part of docs/benchmarks.md.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from datetime import date, datetime, timezone
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from bench import PAGE, Measure, measured, option
from bench_page import BenchPage

from patient_ladle.adapters.combining.combined import CombinedSession
from patient_ladle.adapters.stores.folder import FolderStore
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Batch, Column
from patient_ladle.core.runs.engine import RunJob, run_extract
from patient_ladle.core.runs.memory import MemoryLedger
from patient_ladle.core.values.parameters import resolve
from patient_ladle.service.children.child import _SystemClock

HEAD = "Combining"
ABOUT = """Two results, the second of 100,000 rows, joined and written as CSV. Ours reads them as members leave them, Parquet of
texts, and includes the checksums of both, the load into the private file, proof and fsync; the others read the same rows
as CSV, prove nothing, and keep decimals as floats. `./scripts/bench --combining` writes this part.

| rows, result | by | seconds | beside pandas | processor, s | peak MB | MB written |
|---|---|---:|---:|---:|---:|---:|"""
SITES = 100_000
READINGS = [
    Column("reading_id", "integer"), Column("site_id", "integer"), Column("litres", "decimal", "numeric(12,2)"),
    Column("flow", "float"), Column("read_at", "timestamp"), Column("read_on", "date"), Column("estimated", "boolean"),
    Column("note", "text"),
]  # fmt: skip
PLACES = [
    Column("site_id", "integer"),
    Column("title", "text"),
    Column("zone", "text"),
    Column("factor", "decimal", "numeric(8,3)"),
]
GROUPED = """select p.zone, count(*) as readings, sum(r.litres) as litres, max(r.read_on) as last_on
from readings r join places p on p.site_id = r.site_id group by p.zone order by p.zone"""
WIDE = "select r.*, p.title, p.zone, p.factor from readings r join places p on p.site_id = r.site_id"
FRAMES = {
    "pandas": """
import sys, pandas
readings, places, out, grouped = sys.argv[1:5]
both = pandas.read_csv(readings).merge(pandas.read_csv(places), on="site_id")
if grouped == "grouped":
    both = both.groupby("zone").agg(readings=("reading_id", "count"), litres=("litres", "sum"), last_on=("read_on", "max"))
both.to_csv(out, index=grouped == "grouped")
""",
    "polars": """
import sys, polars
readings, places, out, grouped = sys.argv[1:5]
both = polars.read_csv(readings).join(polars.read_csv(places), on="site_id")
if grouped == "grouped":
    c = polars.col
    both = both.group_by("zone").agg(c("reading_id").count(), c("litres").sum(), c("read_on").max()).sort("zone")
both.write_csv(out)
""",
}


class _Made:
    """A source session that makes its rows."""

    def __init__(self, columns: Sequence[Column], rows: int) -> None:
        self.columns, self.rows = columns, rows

    def identity(self) -> dict[str, str]:
        return {}

    def describe(self, statement: Statement) -> Sequence[Column]:
        return self.columns

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        for start in range(0, self.rows, 5_000):
            ids = pa.array(range(start, min(start + 5_000, self.rows)), pa.int64())
            text = ids.cast(pa.string())
            cells = self.readings(ids, text) if self.columns is READINGS else self.places(ids, text)
            yield Batch(cells, [None] * len(cells), len(ids))

    @staticmethod
    def readings(ids: Any, text: Any) -> list[Any]:
        def part(of: int, times: int = 7919) -> Any:
            scaled = pc.multiply(ids, times)
            return pc.subtract(scaled, pc.multiply(pc.divide(scaled, of), of))

        hundredths = pc.utf8_lpad(part(100).cast(pa.string()), 2, "0")
        seconds = pc.add(pc.multiply(part(40_000), 900), 1_700_000_000)
        moment = pc.strftime(seconds.cast(pa.timestamp("s")), "%Y-%m-%d %H:%M:%S")
        note = pc.if_else(pc.equal(part(4), 0), pc.binary_join_element_wise("dial ", part(97).cast(pa.string()), ""), None)
        return [
            text, part(SITES).cast(pa.string()),
            pc.binary_join_element_wise(part(90_000).cast(pa.string()), hundredths, "."),
            pc.binary_join_element_wise(part(5_000).cast(pa.string()), "25", "."),
            moment, pc.utf8_slice_codeunits(moment, 0, 10),
            pc.if_else(pc.equal(part(3), 0), "true", "false"), note,
        ]  # fmt: skip

    @staticmethod
    def places(ids: Any, text: Any) -> list[Any]:
        zone = pc.if_else(pc.less(ids, SITES // 3), "North", pc.if_else(pc.less(ids, SITES // 2), "South", "Coast"))
        return [
            text, pc.binary_join_element_wise("Site ", text, ""), zone,
            pc.binary_join_element_wise(pc.utf8_slice_codeunits(text, 0, 4), "125", "."),
        ]  # fmt: skip

    def cancel(self) -> None:
        """Nobody asks."""

    def close(self) -> None:
        """It holds nothing."""


def stored(store: Path, run: int, name: str, columns: Sequence[Column], rows: int) -> tuple[dict[str, Any], Path]:
    """The job of an input, and its file as CSV, for whoever reads that."""
    output = OutputSettings.from_dict({"formats": {"parquet": {"types": "text"}}})
    job = RunJob(name, name, Statement("select"), ("parquet", "csv"), output=output)
    folder = FolderStore(store).result(str(run), 1)
    made = run_extract(job, lambda: _Made(columns, rows), folder, MemoryLedger(), _SystemClock())
    kept = [file.to_dict() for file in made.files if file.format == "parquet"]
    told = [{"name": c.name, "kind": c.kind, "source_type": c.source_type} for c in columns]
    given = {
        "kind": "stored",
        "name": name,
        "store": str(store),
        "run": run,
        "attempt": 1,
        "rows": rows,
        "columns": told,
        "files": kept,
    }
    return given, next(store.rglob(f"{name}.csv"))


def _nobody(job: Any) -> Any:
    """No input is asked at a source."""
    raise AssertionError(job)


def ours(inputs: Sequence[dict[str, Any]], statement: str) -> Any:
    """As a child carries it out: load, combine, write, prove, fsync, store."""

    def lane(_: Any, target: Path) -> None:
        values = resolve([], {}, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc))
        job = RunJob("combined", "combined", Statement(statement, values), ("csv",))
        folder = FolderStore(target).result("9", 1)
        run_extract(job, lambda: CombinedSession(inputs, _nobody, statement), folder, MemoryLedger(), _SystemClock())

    return lane


def frames(library: str, files: Sequence[Path], shape: str) -> Any:
    """A library of data frames, in a process of its own."""

    def lane(_: Any, target: Path) -> None:
        beside = os.environ | {"PYTHONPATH": str(Path(sys.prefix) / "bench")}
        words = [sys.executable, "-c", FRAMES[library], *map(str, files), str(target / "out.csv"), shape]
        subprocess.run(words, check=True, env=beside)

    return lane


def _line(what: str, name: str, measures: Sequence[Measure], base: float) -> str:
    wall, processor = (statistics.median(getattr(one, each) for one in measures) for each in ("wall", "processor"))
    peak, size = max(one.peak for one in measures), measures[-1].size / 1e6
    return f"| {what} | {name} | {wall:.2f} | {wall / base:.2f} | {processor:.2f} | {peak:.0f} | {size:.1f} |"


def main() -> int:
    """Measure, and write the part of the page."""
    quick = "--quick" in sys.argv
    lines = []
    given = int(option("rows", "0"))
    for rows, rounds in ((given or 100_000, 1),) if quick or given else ((1_000_000, 3), (10_000_000, 1)):
        with tempfile.TemporaryDirectory(prefix="ladle-bench-") as home:
            folder = Path(home)
            (folder / "store").mkdir()
            first, readings = stored(folder / "store", 1, "readings", READINGS, rows)
            second, places = stored(folder / "store", 2, "places", PLACES, SITES)
            for shape, statement in (("grouped", GROUPED), ("wide", WIDE)):
                lanes = {"ours": ours([first, second], statement)}
                lanes |= {name: frames(name, (readings, places), shape) for name in FRAMES}
                found: dict[str, list[Measure]] = {name: [] for name in lanes}
                for _ in range(rounds):
                    for name, lane in lanes.items():
                        found[name].append(measured(lane, None, folder))  # type: ignore[arg-type]
                        one = found[name][-1]
                        print(
                            f"{rows:>10,} {shape:<8} {name:<7} {one.wall:6.2f} s {one.processor:6.2f} s {one.peak:5.0f} MB",
                            flush=True,
                        )
                base = statistics.median(one.wall for one in found["pandas"])
                lines += [_line(f"{rows:,} {shape}", name, measures, base) for name, measures in found.items()]
    print("\n".join([ABOUT, *lines]))
    if not quick:
        BenchPage(Path(option("page", str(PAGE)))).put(HEAD, [ABOUT, *lines])
    return 0


if __name__ == "__main__":
    sys.exit(main())
