"""The share of public names that say what they are; the checks refuse less than four in five.

.venv/bin/python scripts/docstrings.py [--missing]

A method needs no words of its own where a class that its own is made from has said them, and a call of the API none where
its words stand in the API's document. Made records, migrations and verbs of the command line, which have a help, do not count.
"""

from __future__ import annotations

import ast
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "patient_ladle"
LEAST = 0.8
_LEFT_OUT = ("migrations/", "client/records.py", "cli/commands/")
_CALLS = ("get", "post", "put", "patch", "delete")
Definition = ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef


def _names(expressions: list[ast.expr]) -> list[str]:
    """The last word of each: of ``models.Model`` it is ``Model``, of ``Listed[Run]`` ``Listed``."""
    plain = [each.value if isinstance(each, ast.Subscript) else each for each in expressions]
    return [each.attr if isinstance(each, ast.Attribute) else getattr(each, "id", "") for each in plain]


def _has_words(node: Definition) -> bool:
    decorators = [each.func if isinstance(each, ast.Call) else each for each in node.decorator_list]
    return bool(ast.get_docstring(node)) or any(
        name.endswith((".setter", "extend_schema")) for name in map(ast.unparse, decorators)
    )


class Names:
    """Every public class, function and method of the sources, by file."""

    def __init__(self) -> None:
        files = [path for path in SOURCE.rglob("*.py") if not any(part in path.as_posix() for part in _LEFT_OUT)]
        self.trees = {path.relative_to(SOURCE).as_posix(): ast.parse(path.read_text()) for path in files}
        classes = [node for tree in self.trees.values() for node in ast.walk(tree) if isinstance(node, ast.ClassDef)]
        self.classes = {node.name: node for node in classes}

    def said_above(self, of: ast.ClassDef, method: str) -> bool:
        """Whether a class that this one is made from has words for the method."""
        above = [self.classes[name] for name in _names(of.bases) if name in self.classes and self.classes[name] is not of]
        for base in above:
            own = [each for each in base.body if isinstance(each, ast.FunctionDef) and each.name == method]
            if any(map(_has_words, own)) or self.said_above(base, method):
                return True
        return False

    def all(self) -> Iterator[tuple[str, str, bool]]:
        """File, name, and whether it says what it is."""
        for file, tree in self.trees.items():
            for node in tree.body:
                if isinstance(node, Definition) and not node.name.startswith("_"):
                    yield file, node.name, _has_words(node)
                if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                    for each in node.body:
                        if isinstance(each, ast.FunctionDef) and not each.name.startswith("_"):
                            said = _has_words(each) or self.said_above(node, each.name)
                            yield file, f"{node.name}.{each.name}", said


def main() -> int:
    """Counts by room; with ``--missing`` the names without words. 1: less than four in five have some."""
    said: Counter[str] = Counter()
    count: Counter[str] = Counter()
    for file, name, has in Names().all():
        room = "/".join(file.split("/")[:2]) if file.count("/") > 1 else file.split("/")[0]
        count[room] += 1
        said[room] += has
        if "--missing" in sys.argv and not has:
            print(f"{file}: {name}")
    if "--missing" not in sys.argv:
        for room in sorted(count):
            print(f"{room:32} {said[room]:4} of {count[room]:4}  {said[room] / count[room]:4.0%}")
    share = said.total() / count.total()
    print(f"{share:.0%} of {count.total():,} public names say what they are; {LEAST:.0%} is the least.")
    return 0 if share >= LEAST else 1


if __name__ == "__main__":
    sys.exit(main())
