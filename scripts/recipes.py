"""Carries out CONTRIBUTING's recipes in a copy of the tree: copies a member, registers it, asks its contract, and counts the
files that were touched.

.venv/bin/python scripts/recipes.py [NAME …]
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
CORE, ADAPTERS, TESTS = "src/patient_ladle/core", "src/patient_ladle/adapters", "tests"
MEMBERS = "member.name: member for member in ("


@dataclass(frozen=True)
class Recipe:
    """``steps`` change the tree; ``asked`` are commands that must pass; ``most`` files may be touched, new ones among them."""

    steps: Callable[[Path], None]
    asked: tuple[tuple[str, ...], ...]
    most: int = 3


def copied(tree: Path, source: str, target: str, *changes: tuple[str, str]) -> None:
    """A file, and what is otherwise in its copy."""
    text = (tree / source).read_text()
    for before, after in changes:
        text = _changed(text, before, after, source)
    (tree / target).write_text(text)


def edited(tree: Path, path: str, *changes: tuple[str, str]) -> None:
    """A file changed where it stands."""
    copied(tree, path, path, *changes)


def _changed(text: str, before: str, after: str, where: str) -> str:
    if before not in text:
        raise SystemExit(f"recipes: '{before}' does not stand in {where} any more.")
    return text.replace(before, after, 1)


def add_format(tree: Path) -> None:
    """One more way to write JSON."""
    formats = f"{CORE}/files/formats"
    copied(tree, f"{formats}/json.py", f"{formats}/copied.py", ('name = "json"', 'name = "copied"'), ('".json"', '".copied"'))
    registry = (tree / formats / "__init__.py").read_text()
    registry = _changed(registry, "from .delimited", "from .copied import JsonFormat as CopiedFormat\nfrom .delimited", formats)
    (tree / formats / "__init__.py").write_text(
        _changed(registry, "CsvFormat(), TsvFormat(),", "CsvFormat(), CopiedFormat(), TsvFormat(),", formats)
    )
    edited(
        tree,
        f"{TESTS}/core/formats/cases.py",
        ('    "csv": Case(', '    "copied": Case(check_json, read_json),\n    "csv": Case('),
    )


def add_engine(tree: Path) -> None:
    """One more that reads SQLite's files."""
    sources = f"{ADAPTERS}/sources"
    copied(
        tree,
        f"{sources}/sqlite.py",
        f"{sources}/copied.py",
        ('name = "sqlite"', 'name = "copied"'),
        ('("sqlite",)', '("copied",)'),
    )
    edited(
        tree,
        f"{sources}/__init__.py",
        ("from .duckdb ", "from .copied import SqliteEngine as CopiedEngine\nfrom .duckdb "),
        ("SqliteEngine(),", "SqliteEngine(), CopiedEngine(),"),
    )
    copied(tree, f"{TESTS}/adapters/sources/cases/sqlite.py", f"{TESTS}/adapters/sources/cases/copied.py")


def add_language(tree: Path) -> None:
    """One more SQL."""
    languages = f"{CORE}/statements/languages"
    copied(
        tree, f"{languages}/sqlite.py", f"{languages}/copied.py", ('    "sqlite",', '    "copied",'), ("SQLITE = ", "COPIED = ")
    )
    edited(
        tree,
        f"{languages}/__init__.py",
        ("from .duckdb", "from .copied import COPIED\nfrom .duckdb"),
        ("DUCKDB, DOCUMENTS)", "DUCKDB, DOCUMENTS, COPIED)"),
    )
    edited(tree, f"{TESTS}/core/languages/cases.py", ('    "duckdb": SQL,', '    "duckdb": SQL,\n    "copied": SQL,'))


def add_target(tree: Path) -> None:
    """The shelf that the tests have, as a kind that ships."""
    deliveries = f"{ADAPTERS}/deliveries"
    copied(
        tree, f"{TESTS}/adapters/deliveries/memory_kind.py", f"{deliveries}/shelf.py",
        ("from patient_ladle.adapters.deliveries import TargetKind", "from .base import TargetKind"),
    )  # fmt: skip
    edited(
        tree,
        f"{deliveries}/__init__.py",
        ("from .folder import FolderKind", "from .folder import FolderKind\nfrom .shelf import Shelves"),
        ("(FolderKind(),)", "(FolderKind(), Shelves())"),
    )


COUNT = """def calendar_count(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = len(ladle.schedules.calendars())
    print_json(found) if args.json else print(f"{found} calendars")


"""


COUNTS = '    calendar.verb("count", calendar_count, "Count calendars.", "ladle calendar count")\n'


def add_command(tree: Path) -> None:
    """``ladle calendar count``."""
    edited(
        tree, "src/patient_ladle/cli/commands/calendars.py",
        ("def _origin(", COUNT + "def _origin("),
        ('    calendar.verb("list"', COUNTS + '    calendar.verb("list"'),
    )  # fmt: skip


RUNS = '  ["runs", page(() => import("../features/runs/RunsPage"), "RunsPage"), "Runs"],\n'


def add_page(tree: Path) -> None:
    """``/copied``."""
    pages = "console/src/features"
    copied(
        tree,
        f"{pages}/workers/WorkersPage.tsx",
        f"{pages}/copied/CopiedPage.tsx",
        ("export function WorkersPage", "export function CopiedPage"),
    )
    edited(
        tree, "console/src/app/App.tsx",
        (RUNS, RUNS.replace("runs", "copied").replace("RunsPage", "CopiedPage").replace("Runs", "Copied") + RUNS),
    )  # fmt: skip


PYTEST = (sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "--hypothesis-profile=suite")
RECIPES = {
    "format": Recipe(add_format, ((*PYTEST, "tests/core/formats", "-k", "copied or every"),)),
    "engine": Recipe(add_engine, ((*PYTEST, "tests/adapters/sources/test_contract.py", "-k", "copied or every"),)),
    "language": Recipe(add_language, ((*PYTEST, "tests/core/languages", "-k", "copied or every"),)),
    "target": Recipe(add_target, ((*PYTEST, "tests/adapters/deliveries", "-k", "shelf or every"),)),
    "command": Recipe(
        add_command,
        (
            (sys.executable, "-m", "patient_ladle.cli.main", "calendar", "count", "--help"),
            (*PYTEST, "tests/cli", "-k", "help or synonym"),
        ),
        most=1,
    ),
    "page": Recipe(
        add_page,
        (
            ("npm", "--prefix", "console", "run", "-s", "typecheck"),
            ("npm", "--prefix", "console", "exec", "--", "eslint", "console/src/features/copied", "console/src/app/App.tsx"),
        ),
    ),
}


def carried_out(name: str, recipe: Recipe) -> None:
    """In a copy of its own. Raises SystemExit where a step does not fit any more, or the contract fails."""
    with tempfile.TemporaryDirectory(prefix="ladle-recipe-") as folder:
        tree = Path(folder)
        tracked = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
        for path in filter(None, tracked.split("\0")):
            if not re.match(r"docs/screenshots/", path) and (ROOT / path).is_file():
                (tree / path).parent.mkdir(parents=True, exist_ok=True)
                shutil.copy2(ROOT / path, tree / path)
        if name == "page":
            (tree / "console/node_modules").symlink_to(ROOT / "console/node_modules")
            (tree / "console/src/features/copied").mkdir()
        subprocess.run("git init -q && git add -A", cwd=tree, shell=True, check=True)
        recipe.steps(tree)
        touched = subprocess.run(["git", "status", "--porcelain"], cwd=tree, capture_output=True, text=True, check=True).stdout
        changed = [line[3:] for line in touched.splitlines() if line[1] in "M?"]
        if len(changed) > recipe.most:
            raise SystemExit(f"recipes: {name} touches {len(changed)} files: {', '.join(changed)}.")
        for command in recipe.asked:
            done = subprocess.run(
                command,
                cwd=tree,
                env={
                    **os.environ,
                    "PYTHONPATH": str(tree / "src"),
                    "PYTEST_ADDOPTS": "",
                },  # options given to the suite are not for it
                capture_output=True,
                text=True,
                check=False,
            )
            if done.returncode:
                said = f"{done.stdout[-3000:]}{done.stderr[-2000:]}"
                raise SystemExit(f"recipes: the {name} that was added does not pass {' '.join(command)}:\n{said}")
        print(f"recipe: {name} is {' + '.join(changed)}")


if __name__ == "__main__":
    for wanted in sys.argv[1:] or RECIPES:
        carried_out(wanted, RECIPES[wanted])
