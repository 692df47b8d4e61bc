"""All tests, told: what failed is tried once more, alone; what passes then is unsteady and is named in the last lines.

./scripts/test                       the checks and all tests in the short form
./scripts/test tests/core -k dates   one part of it, as pytest takes it
./scripts/test --long                the long form, drawn anew; writes docs/long-form.md
./scripts/test --latency             how soon things happen, alone on the machine
./scripts/test --clock=2028-02-29T23:50:00 [PART …]   the same with every clock set to that moment, by libfaketime

Exit status: 0 where all passed, or what failed once may be forgiven and is named; 1 else.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import tomllib
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timezone
from pathlib import Path

import platformdirs

ROOT = Path(__file__).resolve().parent.parent
PAGE = ROOT / "docs" / "long-form.md"
FORGIVEN = (
    "tests/browser/", "tests/cli/", "tests/client/",
    *(f"tests/service/test_{name}.py" for name in (
        "browsing", "combinations", "documents", "drafts", "http", "interactive", "lists", "looking", "lookups", "outlines",
        "outputs", "repository", "steps", "toy", "unsaved", "without_source", "writing",
    )),
)  # fmt: skip
"""Where a failure that does not come again is only told: these drive several processes at once. The rest, with ledger, storms,
security and whatever is generated, holds every time or is a fault."""
PROCESSES = (os.cpu_count() or 2) + 1
"""One more than cores: whoever waits for a page, or for a worker to come back, leaves a fifth of them idle."""
ALONE = ("--latency", "-p", "no:xdist")
TABLE = ("| what | median | longest | bound |", "|---|---:|---:|---:|")
TRIED_AGAIN = 8
"""More failures than that are no chance, and nobody should wait for them twice."""
RUNS_REMEMBERED = 10
MOST_UNSTEADY = 2
"""In so many of the runs remembered: then it fails."""


@dataclass
class Told:
    """One test of a run. ``seconds`` of its set-up, itself and its end; ``found`` is what it says for the page."""

    name: str
    outcome: str = "passed"
    seconds: float = 0.0
    generated: bool = False
    found: list[str] = field(default_factory=list)

    @property
    def forgivable(self) -> bool:
        return self.name.startswith(FORGIVEN) and not self.generated


def run_pytest(root: Path, words: Sequence[str], environment: Mapping[str, str]) -> tuple[int, dict[str, Told]]:
    """Exit status, and the tests by name."""
    with tempfile.TemporaryDirectory(prefix="ladle-told-") as folder:
        lines = Path(folder) / "tests.jsonl"
        status = subprocess.run(
            [sys.executable, "-m", "pytest", *words], cwd=root, env={**environment, "LADLE_TOLD": str(lines)}, check=False
        ).returncode
        tests: dict[str, Told] = {}
        for line in lines.read_text().splitlines() if lines.exists() else ():
            given = json.loads(line)
            one = tests.setdefault(given["name"], Told(given["name"]))
            one.seconds += given["seconds"]
            one.generated |= given["generated"]
            one.found += given["found"]
            if given["outcome"] != "passed" and one.outcome != "failed":
                one.outcome = given["outcome"]
    return status, tests


def by_folder(tests: Mapping[str, Told]) -> dict[str, float]:
    """Minutes."""
    minutes: dict[str, float] = defaultdict(float)
    for one in tests.values():
        parts = one.name.partition("::")[0].split("/")
        minutes["/".join(parts[:2]) if len(parts) > 2 else parts[0]] += one.seconds / 60
    return dict(minutes)


def over_budget(root: Path, minutes: Mapping[str, float]) -> list[str]:
    """Folders that took half as long again as they may."""
    budget = tomllib.loads((root / "tests" / "budget.toml").read_text())["minutes"]
    return [
        f"over its budget: {folder} took {minutes[folder]:.1f} min of {budget.get(folder, 0)}"
        for folder in sorted(minutes)
        if minutes[folder] > 1.5 * budget.get(folder, 0)
    ]


class History:
    """The last runs on this machine, and what was unsteady in each."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self.runs: list[list[str]] = json.loads(path.read_text())
        except (OSError, ValueError):
            self.runs = []

    def add(self, unsteady: Sequence[str]) -> list[str]:
        """Remembers this run; which tests have been unsteady too often by now."""
        self.runs = [*self.runs, list(unsteady)][-RUNS_REMEMBERED:]
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self.path.write_text(json.dumps(self.runs))
        return [name for name in unsteady if sum(name in run for run in self.runs) >= MOST_UNSTEADY]


@dataclass
class Verdict:
    """Of one run: names that failed for good, those that passed the second time, and all that stands against it."""

    failed: list[str]
    unsteady: list[str]
    against: list[str]


def judged(root: Path, tests: Mapping[str, Told], environment: Mapping[str, str], history: History) -> Verdict:
    """After what failed was tried once more, alone."""
    failed = sorted((one for one in tests.values() if one.outcome == "failed"), key=lambda one: one.name)
    if len(failed) > TRIED_AGAIN:
        names = [one.name for one in failed]
        return Verdict(names, [], [f"failed: {name}" for name in names])
    verdict = Verdict([], [], [])
    for one in failed:
        print(f"\nonce more, alone: {one.name}", flush=True)
        status, _ = run_pytest(root, [one.name], environment)
        (verdict.failed if status else verdict.unsteady).append(one.name)
        if status:
            verdict.against.append(f"failed: {one.name}")
        elif not one.forgivable:
            verdict.against.append(f"failed, passed alone, and is none that may: {one.name}")
    often = history.add(verdict.unsteady)
    verdict.against += [f"unsteady {MOST_UNSTEADY} times in {RUNS_REMEMBERED} runs: {name}" for name in often]
    return verdict


def whole(root: Path, environment: Mapping[str, str], history: History, page: Path | None = None) -> int:
    """All tests of one form, and what is to be said of them."""
    began = time.monotonic()
    words = ["-n", str(PROCESSES), "--dist", "loadfile", "--no-loadscope-reorder"]
    status, tests = run_pytest(root, words, environment)
    verdict = judged(root, tests, environment, history)
    if status and not verdict.failed and not verdict.unsteady:
        verdict.against.append(f"pytest ended with status {status}")
    if page is not None:
        _, latencies = run_pytest(root, ALONE, environment)
        late = [one.name for one in latencies.values() if one.outcome == "failed"]
        verdict.failed += late
        verdict.against += [f"failed: {name}" for name in late]
        write_page(page, tests, latencies, verdict.against, time.monotonic() - began)
        tests |= latencies
    minutes = by_folder(tests)
    print("\n" + " · ".join(f"{folder} {minutes[folder]:.1f}" for folder in sorted(minutes)), "min")
    unsteady = [f"unsteady: {name}" for name in verdict.unsteady]
    for line in [*(over_budget(root, minutes) if page is None else ()), *unsteady, *verdict.against]:
        print(line)
    print(f"{'not well' if verdict.against else 'all is well'}, in {(time.monotonic() - began) / 60:.1f} min")
    print(f"tests: {len(tests) - len(verdict.failed)} passed, {len(verdict.failed)} failed", flush=True)
    return 1 if verdict.against else 0


def write_page(
    page: Path, tests: Mapping[str, Told], latencies: Mapping[str, Told], against: Sequence[str], seconds: float
) -> None:
    """What the long form found, with date and commit."""
    asked = ["git", "rev-parse", "--short", "HEAD"]
    commit = subprocess.run(asked, cwd=ROOT, capture_output=True, text=True, check=False).stdout.strip() or "unknown"
    minutes = by_folder(tests)
    lines = [
        "# The long form of the tests",
        "",
        f"`./scripts/test --long`, written by it on {datetime.now(timezone.utc):%Y-%m-%d} at commit {commit}: "
        f"{len(tests) + len(latencies)} tests in {seconds / 60:.0f} minutes on {os.cpu_count()} cores, drawn anew with seed "
        f"{os.environ.get('LADLE_SEED', 'unknown')} (`LADLE_SEED` repeats it).",
        "",
        "## What stands against it",
        "",
        *([f"- {line}" for line in against] or ["Nothing."]),
        "",
        "## What it found",
        "",
        *(f"- {line}" for one in tests.values() for line in one.found),
        "",
        "## How soon things happen",
        "",
        "Alone on the machine, ten tries and more of each; a test fails beyond the bound.",
        "",
        *TABLE,
        *(line for one in latencies.values() for line in one.found),
        "",
        "## Minutes",
        "",
        "| folder | minutes |",
        "|---|---:|",
        *(f"| {folder} | {minutes[folder]:.1f} |" for folder in sorted(minutes)),
    ]
    page.write_text("\n".join(lines) + "\n")


def set_clock(moment: str) -> dict[str, str]:
    """What sets the clock of every process that is started with it; monotonic clocks go on as they are."""
    found = sorted(Path("/usr/lib").glob("*/faketime/libfaketime.so.1"))
    if not found:
        sys.exit("libfaketime is not installed: apt-get install libfaketime")
    at = datetime.fromisoformat(moment)
    at = at if at.tzinfo else at.replace(tzinfo=timezone.utc)
    away = (at - datetime.now(timezone.utc)).total_seconds()
    shim = os.pathsep.join(filter(None, [str(ROOT / "tests" / "another_day"), os.environ.get("PYTHONPATH")]))
    return {"LD_PRELOAD": str(found[-1]), "FAKETIME": f"{away:+.0f}", "FAKETIME_DONT_FAKE_MONOTONIC": "1", "PYTHONPATH": shim}


def main(words: list[str]) -> int:
    """See above."""
    if "--help" in words:
        print(__doc__)
        return 0
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))  # ended from outside, it ends the tests, and they what they started
    environment = dict(os.environ)
    for word in [each for each in words if each.startswith("--clock=")]:
        words.remove(word)
        environment |= set_clock(word.removeprefix("--clock="))
    long = "--long" in words
    if long:
        words.remove("--long")
        os.environ.setdefault("LADLE_SEED", str(time.time_ns() % 1_000_000))
        environment |= {"LADLE_TESTS": "long", "LADLE_SEED": os.environ["LADLE_SEED"]}
        print(f"the long form, with seed {environment['LADLE_SEED']}", flush=True)
    if words == ["--latency"]:
        status, latencies = run_pytest(ROOT, ALONE, environment)
        print("\n".join([*TABLE, *(line for one in latencies.values() for line in one.found)]))
        return status
    if words:
        return subprocess.run([sys.executable, "-m", "pytest", *words], cwd=ROOT, env=environment, check=False).returncode
    history = History(Path(platformdirs.user_cache_dir("patient-ladle")) / "unsteady.json")
    return whole(ROOT, environment, history, PAGE if long else None)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
