"""Help while writing, over HTTP: diagnostics on a statement, words to complete it with, previews."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from datetime import timezone as utc
from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput, LadleError, unknown_name
from patient_ladle.core.files.formats import FORMATS
from patient_ladle.core.files.options import checked
from patient_ladle.core.files.output import DOCUMENT_OPTIONS, FILE_OPTIONS, OutputSettings
from patient_ladle.core.files.reading import sample_of
from patient_ladle.core.files.shaping import TYPES
from patient_ladle.core.inputs.declared import schema as input_schema
from patient_ladle.core.results.columns import KINDS, Column
from patient_ladle.core.statements.completion import Completion
from patient_ladle.core.steps.declared import schema
from patient_ladle.core.values.parameters import Parameter, check_declared
from patient_ladle.service.children.judging import judged
from patient_ladle.service.common.api import DayField, RoleView, StatementField, StrictSerializer, body_of
from patient_ladle.service.common.clock import today
from patient_ladle.service.lookups.services import resolved
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.sources import interactive
from patient_ladle.service.sources.browse_api import QueryView
from patient_ladle.service.sources.models import Address, Source
from patient_ladle.service.sources.queries import address_in, environment_named, source_named
from patient_ladle.service.sources.reading import Reading, language_of
from patient_ladle.service.sources.understanding import kept_catalogue

from .diagnostics import Combined, diagnose, tables_of
from .inputs import columns_of, handed_in, live_reader
from .named import extract_named
from .services import refuse_unsaved
from .shared_values import with_shared
from .steps import checked as checked_steps
from .steps import looks_up_inputs, lookups_of, refuse_other_inputs, understood

MOST_CHOICES = 1_000
CHOICES_KEPT = timedelta(minutes=10)
"""How long an answer serves everybody who asks for the same choices in the same environment."""


class WritingBody(StrictSerializer):
    source = serializers.CharField(max_length=64, allow_blank=True, help_text="Empty: it reads none.")  # type: ignore[assignment]  # a field of that name
    environment = serializers.CharField(max_length=64)
    statement = StatementField(allow_blank=True)
    inputs = serializers.ListField(
        child=serializers.DictField(), required=False, help_text="What it combines, where it has no source: /input-schema."
    )
    parameters = serializers.ListField(child=serializers.DictField(), required=False)
    steps = serializers.ListField(
        child=serializers.DictField(),
        required=False,
        help_text="Done to the first rows; those of the other statements do nothing.",
    )


class PreviewBody(WritingBody):
    statement_number = serializers.IntegerField(min_value=1, default=1, help_text="Which of several statements, from 1.")
    values = serializers.DictField(required=False)
    data_date = DayField(required=False)
    rows = serializers.IntegerField(required=False, min_value=1, max_value=interactive.MOST_ROWS)
    total = serializers.BooleanField(default=False, help_text="Count all rows instead.")
    plan = serializers.BooleanField(
        default=False, help_text="How the database means to carry it out, instead; the statement is not run."
    )
    documents = serializers.DictField(required=False, help_text="How documents become rows, as an output's settings have it.")


class DiagnosticView(serializers.Serializer[Any]):
    severity = serializers.ChoiceField(["error", "warning", "note"])
    code = serializers.CharField()
    message = serializers.CharField()
    hint = serializers.CharField()
    line = serializers.IntegerField()
    column = serializers.IntegerField(help_text="From 1, in code points.")
    length = serializers.IntegerField()


class StatementView(serializers.Serializer[Any]):
    title = serializers.CharField()
    line = serializers.IntegerField()
    end_line = serializers.IntegerField()
    columns = serializers.ListField(child=serializers.DictField())


class DiagnosticsView(serializers.Serializer[Any]):
    diagnostics = DiagnosticView(many=True)
    asked = serializers.BooleanField(help_text="The database gave its own word.")
    statements = StatementView(many=True)
    seconds = serializers.FloatField()


class CompletionBody(StrictSerializer):
    source = serializers.CharField(max_length=64, allow_blank=True, help_text="Empty: it reads none.")  # type: ignore[assignment]  # a field of that name
    environment = serializers.CharField(max_length=64)
    statement = StatementField(allow_blank=True)
    inputs = serializers.ListField(
        child=serializers.DictField(), required=False, help_text="What it combines, where it has no source."
    )
    position = serializers.IntegerField(min_value=0, help_text="Of the cursor, from 0, in code points.")
    parameters = serializers.ListField(
        child=serializers.CharField(max_length=64), required=False, max_length=200, help_text="Names that may be used."
    )
    asked = serializers.BooleanField(default=True, help_text="False: somebody only types, and nothing is proposed at a blank.")


class ProposalView(serializers.Serializer[Any]):
    label = serializers.CharField(help_text="As it is shown.")  # type: ignore[assignment]  # a field of that name
    kind = serializers.ChoiceField(
        ["column", "table", "alias", "with", "parameter", "keyword", "word"],
        help_text="with: a name that the statement makes; word: one that stands in the text already.",
    )
    detail = serializers.CharField(help_text="Its type, or where it comes from.")
    boost = serializers.IntegerField(help_text="The higher, the further up.")
    apply = serializers.CharField(help_text="What is put into the text.")


class CompletionView(serializers.Serializer[Any]):
    typed = serializers.CharField()
    proposals = ProposalView(many=True)
    complete = serializers.BooleanField(help_text="Typing on adds nothing new.")
    gathered_at = serializers.DateTimeField(allow_null=True, help_text="When the source's tables were last looked at.")


def _source(body: dict[str, Any]) -> Source | None:
    return source_named(body["source"]) if body["source"] else None


def _address(body: dict[str, Any]) -> Address | None:
    return Reading(_source(body), environment_named(body["environment"])).address()


class Diagnostics(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="diagnose", request=WritingBody, responses=DiagnosticsView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, WritingBody)
        address = _address(body)
        combined = None if address else Combined(environment_named(body["environment"]), body.get("inputs") or [])
        used = [name for each in body.get("inputs") or () for name in handed_in(each)]
        with suppress(BadInput):  # they are checked by themselves
            used += understood(body.get("steps")).parameters
        return Response(diagnose(request.user, address, body["statement"], body.get("parameters") or [], combined, used))


class Previews(RoleView):
    """Starts a query for the first rows of one statement, or for its count; poll it as any other."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="preview", request=PreviewBody, responses={202: QueryView})
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, PreviewBody)
        source, environment = _source(body), environment_named(body["environment"])
        address = Reading(source, environment).address()
        refuse_unsaved(source, body["statement"])
        language = language_of(source)
        parts = judged(language.parts, body["statement"])
        if body["statement_number"] > len(parts):
            raise BadInput(f"there is no statement {body['statement_number']}; there are {len(parts)}.", "Give one of those.")
        text = parts[body["statement_number"] - 1].text
        declared = [Parameter.from_dict(item) for item in body.get("parameters") or []]
        steps = understood(body.get("steps"))
        refuse_other_inputs(steps.steps, body.get("inputs") or [])
        check_declared(declared, [*judged(language.parameters, text), *steps.parameters])
        day = body.get("data_date") or today()
        values = with_shared(declared, body.get("values") or {}, environment)
        bound = resolved(declared, values, day, datetime.now(utc.utc))
        if body["total"] and body["plan"]:
            raise BadInput("a plan and a total were asked for at once.", "Ask for one after the other.")
        counted = body["total"] and bool(steps.steps)
        if body["total"] and not counted:
            text = language.total(text)
        job = {
            "statement": text,
            "parameters": [p.to_dict() for p in declared],
            "values": values,
            "data_date": day.isoformat(),
            "rows": body.get("rows") or 100,
            "documents": checked(body.get("documents") or {}, DOCUMENT_OPTIONS, "documents"),
        }
        if steps.steps and not body["plan"]:
            job |= {"steps": steps.steps, "lookups": [each.to_dict() for each in lookups_of(steps.steps)]}
            job |= {"statement_number": body["statement_number"], "count": counted}
        if body["plan"]:
            if address is None:
                raise BadInput("what has no source has no plan of its own.", "Ask for the plans of its inputs.")
            fields = ("schema", "name", "rows_about", "indexes")
            job |= {"do": "plan", "tables": [{key: t[key] for key in fields} for t in kept_catalogue(address) or []]}
        kind = "plan" if body["plan"] else "total" if body["total"] else "preview"
        if address is not None:
            made = interactive.ask_statement(request.user, address, kind, job)
        else:
            job["reader"], reads = live_reader(body.get("inputs") or [], text, environment, bound, day)
            made = interactive.ask_without_source(request.user, environment, kind, job, [*reads])
        return Response(QueryView(made).data, status=202)


class StepsBody(StrictSerializer):
    steps = serializers.ListField(child=serializers.DictField())
    columns = serializers.ListField(
        child=serializers.DictField(), help_text="Of the statement's result: name, kind, source_type."
    )
    parameters = serializers.ListField(child=serializers.DictField(), required=False)
    statement_number = serializers.IntegerField(min_value=1, default=1, help_text="Which of several statements, from 1.")
    inputs = serializers.ListField(
        child=serializers.DictField(), required=False, help_text="Of a combination: for steps that look up in one of them."
    )
    environment = serializers.CharField(max_length=64, required=False, help_text="With inputs: where they are asked.")


class StepColumn(serializers.Serializer[Any]):
    name = serializers.CharField()
    kind = serializers.CharField()


class CheckedStep(serializers.Serializer[Any]):
    number = serializers.IntegerField(help_text="From 1.")
    step = serializers.CharField(help_text="Its kind.")
    words = serializers.CharField(help_text="What it does, as a sentence.")
    columns = StepColumn(many=True, allow_null=True, help_text="After it; null where it was not come to, or does nothing.")


class StepProblem(serializers.Serializer[Any]):
    code = serializers.CharField()
    message = serializers.CharField()
    hint = serializers.CharField()
    where = serializers.CharField(help_text="The field: steps[1].where.")


class CheckedSteps(serializers.Serializer[Any]):
    steps = CheckedStep(many=True, help_text="All of them, in their order.")
    error = StepProblem(allow_null=True, help_text="What is wrong with the first step that cannot be done.")


class StepsCheck(RoleView):
    """Steps understood over the columns of a result; no row is read."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="check_steps", request=StepsBody, responses=CheckedSteps)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, StepsBody)
        for each in body["columns"]:
            if not isinstance(each.get("name"), str) or each.get("kind") not in KINDS:
                raise BadInput(f"{each} is not a column.", 'Send columns as a preview gives them: {"name": …, "kind": "text"}.')
        declared = [Parameter.from_dict(item) for item in body.get("parameters") or []]
        inputs: dict[str, Any] = {}
        if body.get("inputs") and looks_up_inputs(body["steps"]):
            inputs = columns_of(request.user, body["inputs"], environment_named(body.get("environment") or ""))
        found = checked_steps(body["steps"], body["columns"], declared, body["statement_number"], inputs)
        error = found["error"]
        if error is not None:
            found["error"] = {key: error[key] for key in ("code", "message", "hint")} | {
                "where": error["facts"].get("where", "")
            }
        return Response(found)


class InputSchema(RoleView):
    """What inputs of a combination may say (JSON Schema 2020-12)."""

    @extend_schema(operation_id="input_schema", responses=OpenApiTypes.OBJECT)
    def get(self, request: SignedIn) -> Response:
        return Response(input_schema())


class StepSchema(RoleView):
    """What steps may say (JSON Schema 2020-12)."""

    @extend_schema(operation_id="step_schema", responses=OpenApiTypes.OBJECT)
    def get(self, request: SignedIn) -> Response:
        return Response(schema())


class ChoicesBody(StrictSerializer):
    parameter = serializers.CharField()
    environment = serializers.CharField(max_length=64)


class Choices(RoleView):
    """Starts, or takes up, the query that proposes values for a parameter: values, and words for them."""

    needs = {"POST": "runner"}

    @extend_schema(operation_id="choices", request=ChoicesBody, responses={202: QueryView})
    def post(self, request: SignedIn, name: str) -> Response:
        body = body_of(request, ChoicesBody)
        declared = {p.name: p for p in extract_named(name).head.declared}
        if body["parameter"] not in declared:
            raise unknown_name("parameter", body["parameter"], declared)
        choices = declared[body["parameter"]].choices
        if not choices:
            raise BadInput(f"the parameter '{body['parameter']}' proposes no values.", "Give its declaration choices.")
        address = address_in(source_named(choices["source"]), environment_named(body["environment"]))
        job = {"statement": choices["statement"], "parameters": [], "values": {}, "rows": MOST_CHOICES}
        job["data_date"] = today().isoformat()
        made = interactive.ask_again_or_reuse(request.user, address, "choices", job, CHOICES_KEPT)
        return Response(QueryView(made).data, status=202)


class RestoreParametersBody(StrictSerializer):
    source = serializers.CharField(max_length=64, allow_blank=True, help_text="Empty: it reads none.")  # type: ignore[assignment]  # a field of that name
    statement = StatementField()


class StatementAnswer(serializers.Serializer[Any]):
    statement = serializers.CharField()


class RestoreParameters(RoleView):
    """A statement that was taken out with its values filled in, its parameters in place again."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="restore_parameters", request=RestoreParametersBody, responses=StatementAnswer)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, RestoreParametersBody)
        language = language_of(_source(body))
        return Response({"statement": judged(language.restore, body["statement"])})


class Completions(RoleView):
    """What may come next at a position of a statement: from its text and the stored catalogue, without asking the source."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="complete", request=CompletionBody, responses=CompletionView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, CompletionBody)
        address, text = _address(body), body["statement"]
        if body["position"] > len(text):
            raise BadInput(f"the statement has {len(text):,} characters.", "Give a position in it.")
        said = text.lower()
        catalogue: Sequence[Any] = (kept_catalogue(address) if address else None) or []
        if address is None and body.get("inputs"):
            with suppress(LadleError):  # the diagnostics say what is wrong with them
                catalogue = tables_of(columns_of(request.user, body["inputs"], environment_named(body["environment"])))
        tables = [
            {
                "schema": t["schema"],
                "name": t["name"],
                "kind": t["kind"],
                "columns": t["columns"] if t["name"].lower() in said else [],
            }
            for t in catalogue
        ]
        language = language_of(_source(body))
        found = judged(
            language.completion, text, body["position"], tables, body.get("parameters") or [], body["asked"]
        ) or Completion("", ())
        return Response(found.to_dict() | {"gathered_at": address.catalogue_at if address else None})


class OptionView(serializers.Serializer[Any]):
    name = serializers.CharField()
    kind = serializers.ChoiceField(["choice", "boolean", "integer", "texts", "text"])
    default = serializers.JSONField()
    choices = serializers.ListField(child=serializers.CharField(allow_blank=True))
    note = serializers.CharField()


class FormatView(serializers.Serializer[Any]):
    name = serializers.CharField()
    extension = serializers.CharField()
    note = serializers.CharField()
    lines = serializers.BooleanField(help_text="Its rows are lines of text, one after the other.")
    options = OptionView(many=True)


class FormatsView(serializers.Serializer[Any]):
    formats = FormatView(many=True)
    files = OptionView(many=True, help_text="Options of all files, whatever their format.")
    documents = OptionView(many=True, help_text="How documents of a document store become rows.")
    column_types = serializers.ListField(child=serializers.CharField())


class Formats(RoleView):
    """Every format with its options: the one place where they are declared."""

    @extend_schema(operation_id="formats", responses=FormatsView)
    def get(self, request: SignedIn) -> Response:
        told = [
            {
                "name": f.name,
                "extension": f.extension,
                "note": f.note,
                "lines": f.lines,
                "options": [option.to_dict() for option in f.options],
            }
            for f in FORMATS.values()
        ]
        of_all = {"files": FILE_OPTIONS, "documents": DOCUMENT_OPTIONS}
        told_of_all = {part: [option.to_dict() for option in options] for part, options in of_all.items()}
        return Response({"formats": told, **told_of_all, "column_types": list(TYPES)})


class SampleColumn(serializers.Serializer[Any]):
    name = serializers.CharField(allow_blank=True)
    kind = serializers.ChoiceField(KINDS)
    source_type = serializers.CharField(allow_blank=True, default="")


class SampleBody(StrictSerializer):
    columns = SampleColumn(many=True)
    rows = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField(allow_null=True, allow_blank=True, trim_whitespace=False)),
        max_length=50,
    )
    format = serializers.CharField()
    output = serializers.DictField(required=False)


class SampleView(serializers.Serializer[Any]):
    text = serializers.CharField(allow_null=True, help_text="The file's text; null for a format that is none.")
    columns = serializers.ListField(child=serializers.CharField())
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField(allow_null=True)))
    bytes = serializers.IntegerField()
    warnings = serializers.ListField(child=serializers.CharField())


class Samples(RoleView):
    """How a few rows of a preview would look in a file, with these output settings; nothing is kept."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="sample", request=SampleBody, responses=SampleView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, SampleBody)
        columns = [Column(c["name"], c["kind"], c["source_type"]) for c in body["columns"]]
        if any(len(row) != len(columns) for row in body["rows"]):
            raise BadInput("a row has not as many cells as there are columns.", "Send the rows of a preview as they are.")
        settings = OutputSettings.from_dict(body.get("output") or {})
        return Response(judged(sample_of, columns, body["rows"], body["format"], settings))
