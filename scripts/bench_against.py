"""Whether lanes cost more than at another commit: processor seconds, old and new in turn, the median of paired ratios.

./scripts/bench --against=REV [--rounds=7] [--rows=200000] [WORD …]

Each measure is a process of its own, from the first row to the stored file; its imports do not count. Only lanes of ours with
one of the words in their name. Exit status 1 where the median ratio of a lane is beyond 1.03: that is what *within 3 %* means.
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path

from bench import LANES, ROOT, Sources, databases, option

LEAST_ROUNDS = 7
WITHIN = 1.03
LANE = """
import json, resource, sys
from pathlib import Path
import psycopg, pymongo
import bench
from patient_ladle.service.children import child
list(child.warm_up())
def used():
    told = [resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    return sum(each.ru_utime + each.ru_stime for each in told)
sources, target = bench.Sources(**json.loads(sys.argv[2])), Path(sys.argv[3])
before = used()
bench.LANES[sys.argv[1]][1](sources, target)
print(used() - before)
"""


@contextmanager
def checked_out(revision: str) -> Iterator[Path]:
    """The tree of that commit in a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="ladle-bench-old-") as folder:
        archive = subprocess.run(["git", "archive", revision], cwd=ROOT, capture_output=True, check=False)
        if archive.returncode:
            sys.exit(f"there is no commit '{revision}': {archive.stderr.decode().strip()}")
        subprocess.run(["tar", "xf", "-", "-C", folder], input=archive.stdout, check=True)
        yield Path(folder)


def processor(tree: Path, lane: str, sources: Sources, folder: Path) -> float:
    """Seconds of one measure by the code of that tree."""
    target = folder / "out"
    shutil.rmtree(target, ignore_errors=True)
    target.mkdir()
    environment = os.environ | {"PYTHONPATH": os.pathsep.join([str(tree / "src"), str(tree / "scripts")])}
    words = [sys.executable, "-c", LANE, lane, json.dumps(asdict(sources)), str(target)]
    done = subprocess.run(words, env=environment, capture_output=True, text=True, check=False, cwd=folder)
    if done.returncode:
        sys.exit(f"'{lane}' failed with the code in {tree}:\n{done.stderr[-2000:]}")
    return float(done.stdout.split()[-1])


def main() -> int:
    """Measure, and say of each lane whether it is within 3 %."""
    revision, rounds = option("against", "HEAD"), int(option("rounds", str(LEAST_ROUNDS)))
    if rounds < LEAST_ROUNDS:
        sys.exit(f"{rounds} rounds tell nothing: at least {LEAST_ROUNDS}.")
    wanted = [word for word in sys.argv[1:] if not word.startswith("--")]
    lanes = [name for name in LANES if name.endswith("ours") and (not wanted or any(word in name for word in wanted))]
    if not lanes:
        sys.exit(f"no lane of ours has {' or '.join(map(repr, wanted))} in its name. There are: {', '.join(LANES)}.")
    beyond = 0
    print(f"processor seconds beside {revision}, {rounds} rounds: median of ratios (spread), medians old and new")
    with checked_out(revision) as old, databases(int(option("rows", "200000"))) as (sources, folder):
        for lane in lanes:
            pairs = []
            for number in range(rounds):
                order = [(0, old), (1, ROOT)][:: -1 if number % 2 else 1]  # neither is always the first
                found = {which: processor(tree, lane, sources, folder) for which, tree in order}
                pairs.append((found[0], found[1]))
            ratios = [new / before for before, new in pairs]
            median = statistics.median(ratios)
            beyond += median > WITHIN
            olds, news = (statistics.median(pair[which] for pair in pairs) for which in (0, 1))
            said = "beyond 3 %" if median > WITHIN else "within 3 %"
            print(f"{lane:<32} {median:.3f} ({min(ratios):.2f}–{max(ratios):.2f})  {olds:.2f} {news:.2f}  {said}", flush=True)
    return 1 if beyond else 0


if __name__ == "__main__":
    sys.exit(main())
