"""What the service answers, by the name of each record. Made from the API's document: ./scripts/check --fix."""

from __future__ import annotations

from typing import Any, Literal, NotRequired, TypedDict

AlertViewKindEnum = Literal[
    "nothing_runs",
    "failed",
    "not_run",
    "not_delivered",
    "damaged",
    "late",
    "held",
    "missed",
    "source_unreachable",
    "changed",
    "recovered",
    "summary",
    "disk_space",
    "clock",
    "test",
    "own_run",
]


BackfillState = Literal["in_progress", "ended", "cancelled"]


BarsByEnum = Literal["", "number", "day", "week", "month", "quarter", "year"]


DecisionEnum = Literal["run", "skipped", "missed"]


DeliveryEnum = Literal["", "waiting", "in_progress", "delivered", "failed", "left"]


FieldKind = Literal["text", "integer"]


FindingViewThenEnum = Literal["hold", "warn"]


FoundThingKindEnum = Literal["extract", "schedule", "run", "source", "lookup", "table", "column", "result"]


HeldEnum = Literal["", "held", "released", "rejected"]


LevelEnum = Literal["info", "warning", "error"]


LineViewKindEnum = Literal["same", "removed", "added"]


LookupColumnKindEnum = Literal["text", "integer", "decimal", "float", "boolean", "date", "timestamp"]


NeedViewKindEnum = Literal["failed", "not_run", "not_delivered", "held", "late"]


OptionViewKindEnum = Literal["choice", "boolean", "integer", "texts", "text"]


OwnRunsEnum = Literal["nothing", "failed", "ended"]


ProposalViewKindEnum = Literal["column", "table", "alias", "with", "parameter", "keyword", "word"]


QueryState = Literal["waiting", "running", "finished", "failed", "cancelled"]


QueryViewKindEnum = Literal["check", "catalogue", "rows", "count", "counts", "profile", "preview", "total", "choices", "plan"]


RoleEnum = Literal["reader", "runner", "author", "administrator"]


RunState = Literal["waiting", "queued", "running", "finished", "failed", "cancelled", "not_run"]


SendingViewStateEnum = Literal["waiting", "sent", "failed"]


SeverityEnum = Literal["error", "warning", "note"]


SyntaxEnum = Literal["sql", "json"]


TypeEnum = Literal["text", "integer", "decimal", "boolean", "date", "timestamp", "period", "identifier"]


WhatEnum = Literal["rows", "times"]


WhyEnum = Literal["foreign_key", "equal_names"]


class Address(TypedDict):
    environment: str
    address: dict[str, str]
    place: str
    has_secret: bool
    last_check: list[CheckStep] | None
    last_check_at: str | None
    catalogue_at: str | None


class AlertPage(TypedDict):
    next: str | None
    previous: str | None
    results: list[Alert]


class Alert(TypedDict):
    id: str
    kind: AlertViewKindEnum
    title: str
    cause: str
    next_step: str
    path: str
    at: str
    own: bool


BackfillLine = TypedDict(
    "BackfillLine",
    {
        "from": "str",
        "id": "int",
        "schedule": "str",
        "to": "str",
        "again": "bool",
        "deliver": "bool",
        "started_by": "str",
        "started_at": "str",
        "cancelled_by": "str",
        "state": "BackfillState",
        "counts": "dict[str, int]",
    },
)


class BackfillPage(TypedDict):
    next: str | None
    previous: str | None
    results: list[BackfillLine]


Backfill = TypedDict(
    "Backfill",
    {
        "from": "str",
        "id": "int",
        "schedule": "str",
        "to": "str",
        "again": "bool",
        "deliver": "bool",
        "started_by": "str",
        "started_at": "str",
        "cancelled_by": "str",
        "state": "BackfillState",
        "counts": "dict[str, int]",
        "runs": "list[int]",
    },
)


Bar = TypedDict("Bar", {"from": "str", "to": "str", "rows": "int"})


class Bell(TypedDict):
    unseen: int
    open_problems: list[OpenProblem]


class Calendar(TypedDict):
    name: str
    country: str
    region: str
    created_by: str
    used_by: list[str]
    days: dict[str, str]


class Catalogue(TypedDict):
    source: str
    environment: str
    gathered_at: str | None
    gathering: bool
    tables: list[TableLine]
    families: list[Family]


class ChangedRow(TypedDict):
    before: list[str | None]
    after: list[str | None]


class ChannelKind(TypedDict):
    name: str
    note: str
    secret: str
    alerts: list[str]
    settings: list[ChannelSetting]


class ChannelSetting(TypedDict):
    name: str
    note: str
    required: bool
    default: str


class Channel(TypedDict):
    name: str
    kind: str
    settings: dict[str, str]
    has_secret: bool
    kinds: list[str]
    active: bool
    for_people: bool


class CheckStep(TypedDict):
    step: str
    passed: bool
    seconds: float
    detail: str
    hint: str
    warning: NotRequired[str]


class CheckedStep(TypedDict):
    number: int
    step: str
    words: str
    columns: list[StepColumn] | None


class CheckedSteps(TypedDict):
    steps: list[CheckedStep]
    error: StepProblem


class Code(TypedDict):
    command: str
    python: str
    driver: str


class Coming(TypedDict):
    schedule: str
    extract: str
    environment: str
    due_at: str


class Compiled(TypedDict):
    statement: str
    parameters: list[Parameter]
    remarks: list[Remark]
    asked: bool


class Completion(TypedDict):
    typed: str
    proposals: list[Proposal]
    complete: bool
    gathered_at: str | None


class CountedStep(TypedDict):
    name: str
    where: str
    part: str
    what: WhatEnum


class Counting(TypedDict):
    statement: str
    parameters: list[Parameter]
    steps: list[CountedStep]


class Day(TypedDict):
    date: str
    holiday: str
    counts: dict[str, int]
    to_come: int


class Diagnostic(TypedDict):
    severity: SeverityEnum
    code: str
    message: str
    hint: str
    line: int
    column: int
    length: int


class Diagnostics(TypedDict):
    diagnostics: list[Diagnostic]
    asked: bool
    statements: list[Statement]
    seconds: float


class Differences(TypedDict):
    before: Revision
    after: Revision
    settings: list[Setting]
    statement: list[Line]


class DraftLine(TypedDict):
    key: str
    extract: str
    base: int | None
    version: int
    saved_at: str | None


class Draft(TypedDict):
    key: str
    extract: str
    base: int | None
    version: int
    saved_at: str | None
    content: dict[str, Any] | None


class DryRunFile(TypedDict):
    name: str
    format: str
    statement: str
    options: dict[str, Any]
    delivered_path: str
    there: bool
    overwrites: bool


class DryRunInput(TypedDict):
    name: str
    extract: str
    lookup: str
    revision: int
    source: str
    values: dict[str, Any]


class DryRunStatement(TypedDict):
    title: str
    text: str
    bound: dict[str, Any]
    filled_in: str


class DryRun(TypedDict):
    extract: str
    revision: int
    source: str
    engine: str
    environment: str
    reads: dict[str, str]
    place: str
    data_date: str
    values: dict[str, Any]
    inputs: list[DryRunInput]
    statements: list[DryRunStatement]
    steps: list[str]
    files: list[DryRunFile]
    deliver_into: str
    expected: Expected
    limits: Limits
    warnings: list[str]
    code: Code


class DueTimePage(TypedDict):
    next: str | None
    previous: str | None
    results: list[DueTime]


class DueTime(TypedDict):
    due_at: str
    data_date: str
    decision: DecisionEnum
    reason: str
    runs: list[int]


class Editor(TypedDict):
    words: list[str]
    types: list[str]
    name_quotes: str
    double_quoted_strings: bool
    backslash_escapes: bool
    syntax: SyntaxEnum
    dollar_quoted_strings: bool
    hash_comments: bool
    formatter: str


class EngineField(TypedDict):
    name: str
    kind: FieldKind
    note: str
    required: bool
    choices: list[str]
    default: str


class Engine(TypedDict):
    name: str
    title: str
    takes_secret: bool
    url_form: str
    address_fields: list[EngineField]
    language: Language


class Environment(TypedDict):
    name: str
    note: NotRequired[str]


class Error(TypedDict):
    code: str
    message: str
    hint: str
    transient: bool


class Expected(TypedDict):
    rows: int
    rows_min: int
    rows_max: int
    seconds: float
    runs: int
    same_values: bool


class ExtractLine(TypedDict):
    name: str
    folder: str
    owner: str
    number: int
    archived_at: str | None
    source: str
    notes: str
    saved_at: str
    tags: list[str]
    last_run: LastRun
    problem: str
    next_due_at: str | None
    schedules: int
    paused: int
    favourite: NotRequired[bool]
    opened_at: NotRequired[str | None]


class Extract(TypedDict):
    name: str
    folder: str
    owner: str
    tags: list[str]
    former_names: list[str]
    in_repository: bool
    archived_at: str | None
    retention_days: int | None
    retention_runs: int | None
    used_by: list[str]
    input_of: list[str]
    depends_on: list[str]
    outline_revision: int | None
    revision: Revision
    remarks: list[str]


class FamilyMember(TypedDict):
    name: str
    period: str
    rows_about: int | None


class Family(TypedDict):
    name: str
    rows_about: int | None
    members: list[FamilyMember]


class FilePreview(TypedDict):
    columns: list[str]
    rows: list[list[str | None]]
    complete: bool


class File(TypedDict):
    run: int
    name: str
    format: str
    media_type: str
    rows: int
    bytes: int
    sha256: str
    statement: int
    part: int | None
    compression: str
    sheets: list[Any]
    removed_at: str | None
    damage: str
    delivered_path: str
    delivered_also: list[str]


class Filing(TypedDict):
    name: str
    folder: NotRequired[str]
    tags: NotRequired[list[str]]
    archived: NotRequired[bool]


class Filings(TypedDict):
    before: list[Filing]


class Finding(TypedDict):
    text: str
    then: FindingViewThenEnum


class Format(TypedDict):
    name: str
    extension: str
    note: str
    lines: bool
    options: list[Option]


class Formats(TypedDict):
    formats: list[Format]
    files: list[Option]
    documents: list[Option]
    column_types: list[str]


class FoundThing(TypedDict):
    kind: FoundThingKindEnum
    name: str
    within: str
    detail: str
    link: str


class Found(TypedDict):
    source: str
    environment: str
    table: str
    kind: str
    column: str


class JoinProposal(TypedDict):
    joins: list[dict[str, Any]]
    why: WhyEnum


class Language(TypedDict):
    name: str
    title: str
    gives_documents: bool
    editor: Editor
    outlines: OutlineWords


class LastRun(TypedDict):
    id: int
    environment: str
    state: RunState
    held: HeldEnum
    delivery: DeliveryEnum
    late: bool
    warned: bool
    empty: bool
    rows: int | None
    queued_at: str
    ended_at: str | None


class Latest(TypedDict):
    run: int
    environment: str
    data_date: str
    ended_at: str
    files: list[File]
    newer_held: NewerHeld


class Limits(TypedDict):
    rows: int | None
    bytes: int | None
    seconds: int


class Line(TypedDict):
    kind: LineViewKindEnum
    text: str
    before: int | None
    after: int | None


class LoadedInput(TypedDict):
    name: str
    rows: int


class LogLine(TypedDict):
    id: int
    at: str
    attempt: int
    stage: str
    level: LevelEnum
    text: str


class Log(TypedDict):
    lines: list[LogLine]
    next: int
    ended: bool


class Looked(TypedDict):
    outline: dict[str, Any]
    statement: str
    parameters: list[Parameter]


class LookupColumn(TypedDict):
    name: str
    kind: LookupColumnKindEnum


class LookupDifferences(TypedDict):
    columns: list[str]
    added: list[list[str | None]]
    removed: list[list[str | None]]
    changed: list[ChangedRow]
    settings: list[str]


class LookupRevision(TypedDict):
    number: int
    author: str
    saved_at: str
    change_note: str
    columns: list[LookupColumn]
    key: list[str]
    rows: int


class LookupRows(TypedDict):
    revision: int
    columns: list[LookupColumn]
    key: list[str]
    total: int
    rows: list[list[str | None]]


class Lookup(TypedDict):
    name: str
    note: str
    owner: str
    archived_at: str | None
    used_by: list[str]
    revision: LookupRevision


class Me(TypedDict):
    name: str
    role: RoleEnum
    zone: NotRequired[str]
    token: NotRequired[str]


class Moments(TypedDict):
    next_due: list[RuleTime]
    forms: list[str]


class Month(TypedDict):
    days: list[Day]
    complete: bool


class Need(TypedDict):
    kind: NeedViewKindEnum
    run: int
    extract: str
    folder: str
    environment: str
    schedule: NotRequired[str | None]
    data_date: str
    others: list[int]
    cause: str
    hint: str


class NewerHeld(TypedDict):
    run: int
    why: str
    next: str


class NightRun(TypedDict):
    id: int
    extract: str
    folder: str
    state: RunState
    held: HeldEnum
    late: bool
    started_at: str | None
    ended_at: str | None


class Night(TypedDict):
    since: str
    until: str
    date: str
    is_over: bool
    sentence: str
    counts: dict[str, int]
    needing: int
    needs: list[Need]
    next: list[Coming]
    runs: list[NightRun]


class OpenProblem(TypedDict):
    title: str
    count: int
    began_at: str
    seen_at: str


class Option(TypedDict):
    name: str
    kind: OptionViewKindEnum
    default: Any
    choices: list[str]
    note: str


class OutlineRead(TypedDict):
    outline: dict[str, Any]
    statement: str


class OutlineWords(TypedDict):
    tests: dict[str, list[str]]
    aggregates: list[str]
    buckets: list[str]
    joins: list[str]


class OwnAlerts(TypedDict):
    own_runs: OwnRunsEnum
    mail: str
    by_mail: bool


class Parameter(TypedDict):
    name: str
    type: TypeEnum
    is_list: bool
    required: bool
    default: None
    allowed: list[Any]
    note: str
    labels: NotRequired[dict[str, str]]
    choices: NotRequired[dict[str, str]]
    lookup: NotRequired[dict[str, str]]
    minimum: NotRequired[None]
    maximum: NotRequired[None]
    pattern: NotRequired[str]
    sensitive: NotRequired[bool]
    shared: NotRequired[str]


class Pause(TypedDict):
    name: str
    paused: bool
    reason: str
    until: str | None


class Pauses(TypedDict):
    before: list[Pause]


class PeopleGroup(TypedDict):
    name: str
    role: RoleEnum
    note: str
    members: list[str]
    created_at: str


class Permitted(TypedDict):
    name: str
    by: str
    at: str


class Person(TypedDict):
    name: str
    role: RoleEnum
    own_role: RoleEnum
    groups: list[str]
    active: bool
    created_at: str
    seen_at: NotRequired[str | None]
    sign_ins: NotRequired[int]


class Phrase(TypedDict):
    phrase: str
    data_date: str
    means: str


class PlanStep(TypedDict):
    depth: int
    said: str
    rows: int | None
    own: str
    table: str
    whole: bool


class Plan(TypedDict):
    steps: list[PlanStep]
    cost: float | None
    warnings: list[str]
    text: str


class PlannedRun(TypedDict):
    due_at: str
    data_date: str
    runs: bool
    why: str
    run: int | None


class Profile(TypedDict):
    column: str
    kind: str
    rows: int
    absent: int
    distinct: int | None
    least: str | None
    greatest: str | None
    mean: str | None
    commonest: list[list[Any]]
    bars: list[Bar]
    bars_by: BarsByEnum
    complete: bool
    notes: list[str]


class Proposal(TypedDict):
    label: str
    kind: ProposalViewKindEnum
    detail: str
    boost: int
    apply: str


class QueryColumn(TypedDict):
    name: str
    kind: str
    source_type: str


class QueryError(TypedDict):
    code: str
    message: str
    hint: str
    transient: bool


class QueryResult(TypedDict):
    columns: NotRequired[list[QueryColumn]]
    rows: NotRequired[list[list[None]]]
    notes: NotRequired[list[str]]
    complete: NotRequired[bool]
    first_seconds: NotRequired[float]
    seconds: NotRequired[float]
    identity: NotRequired[dict[str, str]]
    steps: NotRequired[list[CheckStep]]
    inputs: NotRequired[list[LoadedInput]]
    shaped: NotRequired[ShapedRows]
    profile: NotRequired[Profile]
    plan: NotRequired[Plan]
    statement: NotRequired[str]
    tables: NotRequired[int]


class Query(TypedDict):
    id: str
    source: str
    environment: str
    kind: QueryViewKindEnum
    state: QueryState
    cancel_asked: bool
    statement: str
    parameters: list[dict[str, Any]]
    values: dict[str, str]
    active_filters: list[str]
    asked_at: str
    ended_at: str | None
    error: QueryError
    result: QueryResult


class Reference(TypedDict):
    columns: list[str]
    schema: str
    table: str
    to_columns: list[str]


class Remark(TypedDict):
    severity: SeverityEnum
    code: str
    message: str
    hint: str
    where: str
    part: str


class ResultLine(TypedDict):
    run: int
    name: str
    format: str
    media_type: str
    rows: int
    bytes: int
    sha256: str
    statement: int
    part: int | None
    compression: str
    sheets: list[Any]
    removed_at: str | None
    damage: str
    delivered_path: str
    delivered_also: list[str]
    held: HeldEnum
    published: bool
    extract: str
    environment: str
    data_date: str
    ended_at: str


class ResultPage(TypedDict):
    next: str | None
    previous: str | None
    results: list[ResultLine]


class Revision(TypedDict):
    number: int
    author: str
    saved_at: str
    change_note: str
    source: str
    engine: str
    statement: str
    outline: dict[str, Any] | None
    inputs: list[dict[str, Any]]
    steps: list[dict[str, Any]]
    steps_in_words: list[str]
    parameters: list[Parameter]
    formats: list[str]
    file_name: str
    deliver_into: str
    output: dict[str, Any]
    guards: list[dict[str, Any]]
    notes: str


class RuleTime(TypedDict):
    at: str
    local: str
    note: str


class RunInput(TypedDict):
    name: str
    extract: str
    lookup: str
    statement: int
    run: int | None
    revision: int | None
    source: str
    state: str
    held: str
    stored: bool
    rows: int | None
    login: str
    values_in_effect: dict[str, Any]


class RunLine(TypedDict):
    id: int
    extract: str
    folder: str
    saved: bool
    environment: str
    source: str
    state: RunState
    stage: str
    late: bool
    warned: bool
    empty: bool
    held: HeldEnum
    published: bool
    delivery: DeliveryEnum
    cancel_asked_by: str
    data_date: str
    due_at: str
    queued_at: str
    started_at: str | None
    ended_at: str | None
    rows: int | None
    attempt: int
    max_attempts: int
    step: int
    waits_for: str
    wait_until: str | None
    finish_by: str | None
    backfill: bool
    backfill_id: int | None
    started_by: NotRequired[str | None]
    schedule: NotRequired[str | None]
    error: Error
    files: list[File]


class RunPage(TypedDict):
    next: str | None
    previous: str | None
    results: list[RunLine]


class Run(TypedDict):
    id: int
    extract: str
    folder: str
    saved: bool
    environment: str
    source: str
    state: RunState
    stage: str
    late: bool
    warned: bool
    empty: bool
    held: HeldEnum
    published: bool
    delivery: DeliveryEnum
    cancel_asked_by: str
    data_date: str
    due_at: str
    queued_at: str
    started_at: str | None
    ended_at: str | None
    rows: int | None
    attempt: int
    max_attempts: int
    step: int
    waits_for: str
    wait_until: str | None
    finish_by: str | None
    backfill: bool
    backfill_id: int | None
    started_by: NotRequired[str | None]
    schedule: NotRequired[str | None]
    error: Error
    files: list[File]
    delivery_error: Error
    deliver_at: str | None
    deliver_into: str
    failures: int
    lost: int
    revision: int
    engine: str
    identity: dict[str, str]
    statement: str
    values: dict[str, Any]
    values_in_effect: dict[str, Any]
    formats: list[str]
    output: dict[str, Any]
    stages: list[Stage]
    columns: list[dict[str, Any]]
    statements: list[StatementResult]
    warnings: list[str]
    findings: list[Finding]
    held_by: str
    held_note: str
    bytes_read: int | None
    again_of: int | None
    member_of: int | None
    inputs: list[RunInput]
    same_as_before: bool | None


class Sample(TypedDict):
    text: str | None
    columns: list[str]
    rows: list[list[str | None]]
    bytes: int
    warnings: list[str]


class ScheduleLine(TypedDict):
    name: str
    extract: str
    folder: str
    environment: str
    rule: str
    zone: str
    first_date: str | None
    last_date: str | None
    exceptions: list[str]
    calendar: NotRequired[str | None]
    on_holiday: str
    catch_up: str
    catch_up_hours: int | None
    catch_up_limit: int | None
    while_running: str
    spread_seconds: int
    attempts: int
    timeout_minutes: int
    finish_by: str | None
    priority: str
    deliver_into: str
    values: dict[str, Any]
    formats: list[str]
    then: list[Step]
    paused_at: str | None
    paused_until: str | None
    paused_by: str
    pause_reason: str
    created_by: str
    next_due: list[RuleTime]
    told: list[str]
    remarks: list[str]
    last_due_at: str | None
    last_run: LastRun
    problem: str


class ScheduleLinePage(TypedDict):
    next: str | None
    previous: str | None
    results: list[ScheduleLine]


class Schedule(TypedDict):
    name: str
    extract: str
    folder: str
    environment: str
    rule: str
    zone: str
    first_date: str | None
    last_date: str | None
    exceptions: list[str]
    calendar: NotRequired[str | None]
    on_holiday: str
    catch_up: str
    catch_up_hours: int | None
    catch_up_limit: int | None
    while_running: str
    spread_seconds: int
    attempts: int
    timeout_minutes: int
    finish_by: str | None
    priority: str
    deliver_into: str
    values: dict[str, Any]
    formats: list[str]
    then: list[Step]
    paused_at: str | None
    paused_until: str | None
    paused_by: str
    pause_reason: str
    created_by: str
    next_due: list[RuleTime]
    told: list[str]
    remarks: list[str]


class SendingPage(TypedDict):
    next: str | None
    previous: str | None
    results: list[Sending]


class Sending(TypedDict):
    id: int
    alert: Alert
    channel: str
    to: str
    state: SendingViewStateEnum
    attempts: int
    next_at: str
    sent_at: str | None
    response: str


class Session(TypedDict):
    id: int
    browser: str
    address: str
    made_at: str
    seen_at: str
    expires_at: str
    current: NotRequired[bool]


class Setting(TypedDict):
    field: str
    before: None
    after: None


class ShapedRows(TypedDict):
    fetched: int
    steps: list[StepRows]


class SharedValue(TypedDict):
    name: str
    note: str
    values: dict[str, Any]
    changed_by: str
    changed_at: str
    used_by: list[dict[str, str]]


class Source(TypedDict):
    name: str
    engine: str
    group: str
    note: str
    max_runs: int
    connect_timeout_seconds: int
    query_timeout_seconds: int
    max_rows: int | None
    max_bytes: int | None
    quiet_hours: str
    quiet_zone: str
    saved_only: bool
    permitted: list[Permitted]
    addresses: list[Address]
    remarks: list[str]


class Stage(TypedDict):
    stage: str
    at: str


class StatementAnswer(TypedDict):
    statement: str


class StatementResult(TypedDict):
    title: str
    rows: int
    columns: list[dict[str, Any]]
    fetched: NotRequired[int]
    steps: NotRequired[list[StepRows]]


class Statement(TypedDict):
    title: str
    line: int
    end_line: int
    columns: list[dict[str, Any]]


class Statements(TypedDict):
    statement: str


class Status(TypedDict):
    counts: dict[str, int]
    workers: int
    nothing_runs: list[str]
    next_due_at: str | None
    next_schedule: str | None
    now: str


class StepColumn(TypedDict):
    name: str
    kind: str


class StepProblem(TypedDict):
    code: str
    message: str
    hint: str
    where: str


class StepRows(TypedDict):
    number: int
    name: str
    step: str
    rows_in: int
    rows_out: int
    unmatched: NotRequired[int]


class Step(TypedDict):
    extract: str
    values: dict[str, Any]
    formats: list[str]


class TableColumn(TypedDict):
    name: str
    type: str
    kind: str
    nullable: bool
    default: str | None
    comment: str


class TableLine(TypedDict):
    name: str
    kind: str
    comment: str
    rows_about: int | None
    columns: int


class Table(TypedDict):
    name: str
    schema: str
    full_name: str
    kind: str
    comment: str
    rows_about: int | None
    columns: list[TableColumn]
    primary_key: list[str]
    unique_keys: list[list[str]]
    foreign_keys: list[Reference]
    referenced_by: list[Reference]
    indexes: list[str]


class TokenPage(TypedDict):
    next: str | None
    previous: str | None
    results: list[Token]


class Token(TypedDict):
    id: int
    person: str
    name: str
    role: RoleEnum
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    secret: str


class Worker(TypedDict):
    id: str
    host: str
    pid: int
    max_runs: int
    running: NotRequired[int]
    draining: bool
    version: str
    clock_seconds: float
    started_at: str
