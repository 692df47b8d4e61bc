"""The contract of a query language: all that the service must know of what authors write, without knowing the language.

A member owns its rules: where parameters stand, where a statement ends, what is refused, how a value is written into a text
and taken out again, what can be said while a person types, which words come next, how views of a table are written.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from ...errors import BadInput, LadleError, StatementRefused
from ...values.parameters import BUILT_IN, BoundValues, Parameter
from ..completion import Completion
from ..diagnostics import Diagnostic, OtherCatalogue, Table, of_refusal, of_undeclared, of_unused
from ..outlines.base import Outlines
from ..parts import FilledPart, Part, Rendered
from ..views import TableViews


class QueryLanguage(ABC):
    """One member of the family. Parameters are written ``:name`` in every language; where one stands, the language says."""

    name: str
    """Of letters and digits; two engines of one language run each other's statements."""
    title: str
    """For people: *SQL of PostgreSQL*."""
    gives_documents: bool = False
    """Whether the rows of its results are made of documents, so that the output's options of those apply."""

    @abstractmethod
    def parts(self, text: str) -> list[Part]:
        """The statements of a text, each one that only reads. Raises StatementRefused with line and column."""

    @abstractmethod
    def parameters(self, text: str) -> list[str]:
        """Names of the parameters used, each once, in the order of their first use. Raises StatementRefused."""

    @abstractmethod
    def fill_in(self, text: str, bound: BoundValues) -> Rendered:
        """The text with each value written into it, sensitive ones masked, so that ``restore`` finds it again.

        Raises BadInput for a name that no value was given for.
        """

    @abstractmethod
    def restore(self, text: str) -> str:
        """The text with its parameters where values were filled in. Raises BadInput with line and column."""

    def gate(self, text: str) -> str:
        """The text of what must be one statement that only reads, without its end. Raises StatementRefused."""
        parts = self.parts(text)
        if len(parts) > 1:
            raise StatementRefused("a second statement stands where one is wanted.", "Take the statements one by one.")
        return parts[0].text

    def refuse_misread(self, text: str, declared: Iterable[str]) -> None:
        """A declared parameter at a place where the database would not take it for one. Raises StatementRefused."""
        return

    def warm(self) -> None:
        """Whatever a first statement would have to wait for."""
        return

    def names_used(self, text: str) -> list[str]:
        """``parameters`` of a text whose statements only read. Raises StatementRefused."""
        self.parts(text)
        return self.parameters(text)

    def filled_parts(self, text: str, bound: BoundValues) -> tuple[list[Part], list[FilledPart]]:
        """A text's statements, and what each is with its values. Raises StatementRefused, BadInput."""
        parts = self.parts(text)
        made = []
        for part in parts:
            own = text[part.start : part.end].strip()
            made.append(FilledPart(part.title, own, self.parameters(own), self.fill_in(own, bound).text))
        return parts, made

    def total(self, text: str) -> str:
        """A statement that gives the number of rows of another as ``total``. Raises BadInput where there is none."""
        raise BadInput(f"rows cannot be counted in {self.title}.", "Look at the preview's first rows instead.")

    def views(self, table: Table) -> TableViews:
        """What writes statements for views of a table. Raises BadInput where tables cannot be looked into."""
        raise BadInput(f"tables cannot be looked into in {self.title}.", "Write a statement, and look at its preview.")

    def outlines(self) -> Outlines:
        """What puts statements together from outlines. Raises BadInput where the language knows none."""
        raise BadInput(f"statements cannot be put together by choosing in {self.title}.", "Write the statement.")

    def diagnostics(self, text: str, declared: Sequence[Parameter]) -> tuple[list[Diagnostic], list[Part]]:
        """What the text alone tells, and its statements; none where it is refused as a whole."""
        try:
            parts, used = self.parts(text), self.parameters(text)
            self.refuse_misread(text, [part.name for parameter in declared for part in parameter.parts()])
        except StatementRefused as error:
            return [of_refusal(error)], []
        known = {part.name: parameter for parameter in declared for part in parameter.parts()} | dict(BUILT_IN)
        missing = [name for name in used if name not in known]
        found = [of_undeclared(text, name, known, max(text.find(f":{name}"), 0), len(name) + 1) for name in missing]
        return found + of_unused(declared, set(used)), parts

    def diagnostics_on_columns(self, text: str, declared: Sequence[Parameter], catalogue: Sequence[Table]) -> list[Diagnostic]:
        """What the stored description of the tables adds: parameters compared with columns of another type, unknown fields."""
        return []

    def diagnostics_on_names(self, text: str, catalogue: Sequence[Table], others: Sequence[OtherCatalogue]) -> list[Diagnostic]:
        """Tables that the stored catalogue does not know, for when the source cannot be asked."""
        return []

    def diagnostic_on_error(
        self, error: LadleError, text: str, part: str, catalogue: Sequence[Table] | None, others: Sequence[OtherCatalogue]
    ) -> Diagnostic:
        """The database's word on a statement, with what the catalogues add to it."""
        return of_refusal(error)

    def completion(
        self, text: str, position: int, tables: Sequence[Table], parameters: Sequence[str], asked: bool
    ) -> Completion | None:
        """What may come at a position (in code points); None where nothing is proposed. ``asked``: by a key, not by typing."""
        return None

    @property
    def editor(self) -> Mapping[str, Any]:
        """Plain JSON by which an editor colours the text; see ``SqlLanguage.editor`` for its fields. Empty: as plain text."""
        return {}
