"""What becomes of a result: formats with their options, choice of columns, compression, splitting, delivery; and how documents
become its rows."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..errors import BadInput, unknown_name
from ..results.columns import Column
from . import naming
from .compression import COMPRESSIONS
from .formats import FORMATS, checked_options
from .options import Option, checked, shown
from .shaping import ColumnChoice, Shape, checked_choices


def _mode(value: str) -> str:
    digits = value.removeprefix("0o")
    if not 3 <= len(digits) <= 4 or any(digit not in "01234567" for digit in digits):
        raise BadInput(f"'{value}' is not a file mode.", "Give octal digits, such as 0644 or 0640.")
    mode = int(digits, 8)
    if mode & 0o7133 or not mode & 0o400:
        raise BadInput(
            f"files of mode {value} would be writable for others, executable, or unreadable.", "Give 0644, 0640 or 0600."
        )
    return f"{mode:04o}"


def _at_least(least: int, what: str) -> Callable[[int], int]:
    def check(value: int) -> int:
        if value and value < least:
            raise BadInput(f"{value:,} {what} a file are too few.", f"Give at least {least:,}, or 0 for one file.")
        return value

    return check


FILE_OPTIONS = (
    Option("compression", "none", "how files are compressed", COMPRESSIONS),
    Option("rows_per_file", 0, "rows after which the next file begins; 0: one file", check=_at_least(100, "rows")),
    Option("bytes_per_file", 0, "bytes, unpacked, after which the next begins; 0: one file", check=_at_least(100_000, "bytes")),
    Option("if_exists", "overwrite", "where a delivered file of that name exists: it is overwritten, the new one is renamed, or"
           " the run fails", ("overwrite", "rename", "fail")),
    Option("mode", "0644", "mode of delivered files, octal", check=_mode),
    Option("group", "", "group that delivered files are given to; default: the service's own"),
)  # fmt: skip


DEEPEST = 20


def _depth(value: int) -> int:
    if value > DEEPEST:
        raise BadInput(f"{value} levels are more than the {DEEPEST} that can be columns.", "Give a smaller number.")
    return value


DOCUMENT_OPTIONS = (
    Option(
        "depth", 3, "levels of objects whose fields become columns, named by their path; 0: objects stay JSON", check=_depth
    ),
    Option("rows_of", "", "path of a list, each of whose elements becomes a row; default: each document is one"),
    Option("identifier", False, "the documents' identifier is a column, also where the statement does not ask for it"),
    Option("strict_columns", False, "a field that is neither projected nor among the chosen columns fails the run"),
)
"""How documents become rows."""


@dataclass(frozen=True, slots=True)
class OutputSettings:
    """Checked settings: ``options`` by format (only what was set), ``columns`` by statement's title (empty: every one)."""

    options: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    columns: Mapping[str, Sequence[ColumnChoice]] = field(default_factory=dict)
    files: Mapping[str, Any] = field(default_factory=lambda: checked({}, FILE_OPTIONS, "files"))
    documents: Mapping[str, Any] = field(default_factory=lambda: checked({}, DOCUMENT_OPTIONS, "documents"))

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> OutputSettings:
        """From plain JSON: ``{"formats": {"csv": {…}}, "columns": […] or {title: […]}, "files": {…}, "documents": {…}}``.

        Raises BadInput.
        """
        known = ("formats", "columns", "files", "documents")
        for key in data:
            if key not in known:
                raise unknown_name("part of an output", str(key), known)
        formats, columns, files, documents = (data.get(key) or {} for key in known)
        if not isinstance(formats, Mapping) or not all(isinstance(each, Mapping) for each in formats.values()):
            raise BadInput("formats of an output is an object of options by format.", 'Write {"csv": {"delimiter": ";"}}.')
        if not isinstance(files, Mapping):
            raise BadInput("files of an output is an object of options.", 'Write {"compression": "gzip"}.')
        if not isinstance(documents, Mapping):
            raise BadInput("documents of an output is an object of options.", 'Write {"depth": 1}.')
        if isinstance(columns, list):
            columns = {"": columns}
        if not isinstance(columns, Mapping) or not all(isinstance(each, list) for each in columns.values()):
            raise BadInput(
                "columns of an output is a list, or lists by the title of a statement.",
                'Write [{"name": "id", "as": "Meter"}].',
            )
        made = {name: checked_options(name, each) for name, each in formats.items()}
        return cls(
            {name: shown(values, FORMATS[name].options) for name, values in made.items()},
            {str(title): checked_choices(each) for title, each in columns.items()},
            checked(files, FILE_OPTIONS, "files"),
            checked(documents, DOCUMENT_OPTIONS, "documents"),
        )

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, without what is as by default."""
        columns = {title: [choice.to_dict() for choice in each] for title, each in self.columns.items() if each}
        made = {
            "formats": {name: dict(each) for name, each in self.options.items() if each},
            "columns": columns[""] if set(columns) == {""} else columns,
            "files": shown(self.files, FILE_OPTIONS),
            "documents": shown(self.documents, DOCUMENT_OPTIONS),
        }
        return {key: value for key, value in made.items() if value}

    def check_fields(self, parameters: Collection[str]) -> None:
        """Refuse a line of a file that names what nothing fills in. Raises BadInput."""
        for name, given in self.options.items():
            for option in FORMATS[name].options:
                for text in given.get(option.name, ()) if option.has_fields else ():
                    naming.check_fields(text, f"line of {name}.{option.name}", naming.LINE_FIELDS, parameters)

    def with_changes(self, data: Mapping[str, Any]) -> OutputSettings:
        """With single options set anew, and the choice of columns where one is given. Raises BadInput."""
        OutputSettings.from_dict(data)
        own = self.to_dict()
        formats = dict(own.get("formats", {}))
        for name, options in (data.get("formats") or {}).items():
            formats[name] = formats.get(name, {}) | options
        columns = data.get("columns") or own.get("columns")
        both = {part: own.get(part, {}) | (data.get(part) or {}) for part in ("files", "documents")}
        return OutputSettings.from_dict({"formats": formats, "columns": columns, **both})

    def options_of(self, name: str) -> dict[str, Any]:
        """Every option of a format, as it will be used."""
        return checked_options(name, self.options.get(name, {}))

    def chosen(self, title: str) -> tuple[str, ...]:
        """Names of the columns that one statement's result must have; none where all are taken as they come."""
        return tuple(choice.name for choice in self.columns.get(title) or self.columns.get("") or ())

    def shape(self, title: str, columns: Sequence[Column]) -> Shape:
        """The choice of columns for one statement's result. Raises StatementWrong where one is not there."""
        chosen = self.columns.get(title) or self.columns.get("") or [ColumnChoice(column.name) for column in columns]
        return Shape(chosen, columns)
