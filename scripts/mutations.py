"""Switches the guards of tests/mutations.toml off, one at a time, in a copy of the tree: each time their tests must fail.

.venv/bin/python scripts/mutations.py [WORD …]     only guards with one of the words in their name
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
GUARDS = ROOT / "tests" / "mutations.toml"
SOURCE = "src/patient_ladle"


def copied(tree: Path) -> None:
    """What git tracks, and what is new and not ignored, with the console that is built."""
    listed = ["git", "ls-files", "-z", "--cached", "--others", "--exclude-standard"]
    for path in filter(None, subprocess.run(listed, cwd=ROOT, capture_output=True, text=True, check=True).stdout.split("\0")):
        if (ROOT / path).is_file():
            (tree / path).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / path, tree / path)
    built = Path(SOURCE) / "service" / "console" / "build"
    shutil.copytree(ROOT / built, tree / built, dirs_exist_ok=True)
    (tree / ".venv").symlink_to(ROOT / ".venv")


def failing(tree: Path, tests: str) -> str:
    """The first of the tests that fails; empty where none does."""
    words = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", "--no-header", *tests.split()]
    environment = os.environ | {"PYTHONPATH": str(tree / "src"), "PYTEST_ADDOPTS": ""}
    done = subprocess.run(words, cwd=tree, env=environment, capture_output=True, text=True, check=False)
    told = [line.split(" - ")[0] for line in done.stdout.splitlines() if line.startswith(("FAILED ", "ERROR "))]
    if done.returncode in (0, 1):
        return told[0] if told else ""
    return told[0] if told else f"pytest ended with {done.returncode}: {(done.stdout + done.stderr).strip().splitlines()[-1]}"


def main() -> int:
    """Exit status 1 where a guard is off and nothing fails, or the tree has it no more."""
    guards = tomllib.loads(GUARDS.read_text())["guard"]
    wanted = [each for each in guards if not sys.argv[1:] or any(word in each["name"] for word in sys.argv[1:])]
    unseen = 0
    with tempfile.TemporaryDirectory(prefix="ladle-mutations-") as folder:
        tree = Path(folder)
        tree.chmod(0o755)
        copied(tree)
        for each in wanted:
            path, began = tree / SOURCE / each["file"], time.monotonic()
            text = path.read_text()
            if text.count(each["find"]) != 1:
                sys.exit(f"mutations: '{each['name']}' stands {text.count(each['find'])} times in {each['file']}, not once.")
            path.write_text(text.replace(each["find"], each["put"]))
            seen = failing(tree, each["tests"])
            path.write_text(text)
            unseen += not seen
            print(f"{each['name']}: {seen or 'SEEN BY NOTHING'} ({time.monotonic() - began:.0f} s)", flush=True)
    print(f"{len(wanted) - unseen} of {len(wanted)} guards are seen when they are off")
    return 1 if unseen else 0


if __name__ == "__main__":
    sys.exit(main())
