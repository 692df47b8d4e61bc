"""``ladle extract …``: the repository."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Mapping
from pathlib import Path
from textwrap import shorten
from typing import Any

from patient_ladle.cli.output import confirmed, moment, place_of, print_facts, print_json, print_remarks, print_table
from patient_ladle.client import CallFailed, Ladle
from patient_ladle.client.errors import ClientError
from patient_ladle.client.records import Revision, StepRows

from . import Noun, connected, environment_of, listed, not_together, pairs, parted_values, values_given
from .browsing import PROFILE_HELP, gathered, print_profile, print_rows
from .runs import run_state
from .unsaved import (
    Asked,
    add_inputs_option,
    add_output_options,
    add_text_options,
    output_of,
    read_inputs,
    read_outline,
    read_parameters,
    read_steps,
    saved_or_asked,
)


def extract_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.list(args.search, args.folder, args.archived, args.tag, args.favourites)
    if args.recent:
        found[:] = sorted((e for e in found if e["opened_at"]), key=lambda e: str(e["opened_at"]), reverse=True)
    if args.json:
        return print_json(found)
    narrowed = args.search or args.folder or args.tag or args.favourites or args.recent or args.archived
    empty = "nothing matches." if narrowed else "there are no extracts yet: ladle extract save."
    return print_table(LIST_HEADINGS, [_line(e) for e in found], empty)


LIST_HEADINGS = ("FOLDER", "EXTRACT", "SOURCE", "OWNER", "LAST RUN", "ENDED", "ROWS", "NEXT DUE", "PROBLEM")


def _line(extract: Mapping[str, Any]) -> tuple[Any, ...]:
    run = extract["last_run"] or {}
    due = moment(extract["next_due_at"])[:16] or ("paused" if extract["paused"] else "")
    state = run_state(run) if run else "never run"
    ended = moment(run.get("ended_at"))[:16]
    return (extract["folder"], extract["name"], extract["source"], extract["owner"], state, ended, run.get("rows"), due,
            shorten(extract["problem"], 80, placeholder="…"))  # fmt: skip


def extract_favourite(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        ladle.extracts.set_favourite(args.name, not args.off)
    said = "is no favourite of yours any more" if args.off else "is one of your favourites: ladle extract list --favourites"
    print_json({"name": args.name, "favourite": not args.off}) if args.json else print(f"{args.name} {said}")


def _parameter(p: Mapping[str, Any]) -> str:
    words = [p["type"] + (" list" if p["is_list"] else "")]
    words.append(
        "required"
        if p["required"] and p["default"] is None
        else f"default {p['default']}"
        if p["default"] is not None
        else "optional"
    )
    if p["allowed"]:
        words.append("one of " + ", ".join(map(str, p["allowed"])))
    if p["lookup"]:
        words.append(f"one of those in the lookup {p['lookup']['name']}")
    return f":{p['name']}  {', '.join(words)}" + (f"  ({p['note']})" if p["note"] else "")


def _reads(source: Mapping[str, Any] | None) -> str:
    """Where a run of it would read, and as whom, by environment."""
    if source is None:
        return "nothing but its values"
    return "\n".join(f"{a['environment']}: {place_of(a)}, read-only" for a in source["addresses"]) or "no address yet"


def _where_it_is(found: Mapping[str, Any]) -> str:
    if not found["in_repository"]:
        return f" (run without being saved; to keep it: ladle extract move {found['name']} --name NAME)"
    return " (archived)" if found["archived_at"] else ""


def _show(args: argparse.Namespace, found: Mapping[str, Any], source: Mapping[str, Any] | None) -> None:
    if args.json:
        return print_json(found)
    revision = found["revision"]
    if found["name"] != args.name:
        print(f"'{args.name}' is now called '{found['name']}'.\n", file=sys.stderr)
    print_facts(
        [
            ("extract", found["name"] + _where_it_is(found)),
            ("folder", found["folder"]),
            ("owner", found["owner"]),
            ("tags", ", ".join(found["tags"])),
            ("former names", ", ".join(found["former_names"])),
            ("used by", ", ".join(f"schedule {name}" for name in found["used_by"])),
            ("input of", ", ".join(found["input_of"])),
            ("depends on", ", ".join(found["depends_on"])),
            ("kept", _retention(found) if found["retention_days"] or found["retention_runs"] else ""),
            ("source", f"{revision['source']} ({source['engine']})" if source else "none"),
            ("reads", "its inputs" if revision["inputs"] else _reads(source)),
            (
                "revision",
                f"{revision['number']} by {revision['author']}, {moment(revision['saved_at'])}: {revision['change_note']}",
            ),
            ("put together", _put_together(found)),
            ("formats", ", ".join(revision["formats"])),
            ("file name", revision["file_name"]),
            ("delivered into", revision["deliver_into"]),
            ("output", json.dumps(revision["output"], ensure_ascii=False) if revision["output"] else ""),
            ("guards", "\n".join(_guard_in_words(guard) for guard in revision["guards"])),
            ("notes", revision["notes"]),
            ("parameters", "\n".join(_parameter(p) for p in revision["parameters"])),
            ("inputs", "\n".join(_input(each) for each in revision["inputs"])),
            ("steps", "\n".join(_steps(revision))),
        ]
    )
    print("\n" + (revision["statement"].rstrip() or "(the statement is shown to authors)"))
    return None


def _steps(revision: Mapping[str, Any]) -> list[str]:
    """A line for each, as a sentence."""
    both = zip(revision["steps"] or [{}] * len(revision["steps_in_words"]), revision["steps_in_words"], strict=True)
    return [
        f"{number}. {words}" + (f"  ({step['name']})" if step.get("name") else "") + ("  [off]" if step.get("off") else "")
        for number, (step, words) in enumerate(both, 1)
    ]


def _input(given: Mapping[str, Any]) -> str:
    """One input of a combination, as a line."""
    if given.get("lookup"):
        return f"{given['name']}: the lookup {given['lookup']}"
    which = f", statement {given['statement']}" if given.get("statement", 1) > 1 else ""
    values = "".join(f", {name} {_given_as(value)}" for name, value in given.get("values", {}).items())
    return f"{given['name']}: {given['extract']}{which}{values}" + (", stored results are taken" if given.get("stored") else "")


def _given_as(value: Any) -> str:
    match value:
        case {"parameter": name, **others} if not others:
            return f"as :{name}"
        case {"input": name, "column": column}:
            return f"from {name}.{column}"
    return f"= {json.dumps(value, ensure_ascii=False)}"


def _named(args: argparse.Namespace, what: str) -> str:
    """The extract's name, which only ``--schema`` does without. Raises ClientError."""
    if not args.name:
        raise ClientError("the name of an extract is missing.", f"Give it, or --schema for what {what} may say.")
    return str(args.name)


def extract_inputs(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        if args.schema:
            return print_json(ladle.extracts.input_schema())
        revision = ladle.extracts.get(_named(args, "inputs"))["revision"]
    if args.json:
        return print_json({"inputs": revision["inputs"]})
    rows = [(each["name"], _input(each).partition(": ")[2]) for each in revision["inputs"]]
    return print_table(("INPUT", "WHAT IT IS"), rows, f"{args.name} combines nothing: ladle extract save NAME --inputs FILE")


def extract_steps(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        if args.schema:
            return print_json(ladle.extracts.step_schema())
        revision = ladle.extracts.get(_named(args, "steps"))["revision"]
        last = next(iter(ladle.runs.list(extract=args.name, state="finished")), None)
        ran = ladle.runs.get(last["id"]) if last else None
    if args.json:
        return print_json({"steps": revision["steps"]})
    rows: dict[int, StepRows] = {}
    if ran is not None and ran["revision"] == revision["number"]:
        rows = {step["number"]: step for statement in ran["statements"] for step in statement.get("steps", [])}
    lines: list[tuple[Any, ...]] = []
    for number, words in enumerate(_steps(revision), 1):
        row = rows.get(number)
        lines.append((number, words.partition(". ")[2], row and row["rows_in"], row and row["rows_out"]))
    empty = f"{args.name} has no steps: ladle extract save {args.name} --steps FILE"
    print_table(("STEP", "WHAT IT DOES", "ROWS IN", "ROWS OUT"), lines, empty)
    if lines and not rows:
        print("\nno run of this revision has finished yet: ladle extract preview shows where rows go")
    return None


def _put_together(found: Mapping[str, Any]) -> str:
    """Whether the statement comes from an outline, or came from one before it was edited by hand."""
    number = found["outline_revision"]
    if number is None:
        return ""
    now = "from an outline" if number == found["revision"]["number"] else f"by hand, from the outline of revision {number}"
    return f"{now}: ladle outline show {found['name']}"


def extract_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.get(args.name)
        reads = found["revision"]["source"]
        _show(args, found, ladle.sources.get(reads) if reads else None)


def _content(args: argparse.Namespace) -> dict[str, Any]:
    content: dict[str, Any] = {}
    if args.statement:
        content["statement"] = sys.stdin.read() if args.statement == "-" else Path(args.statement).read_text(encoding="utf-8")
    if args.outline:
        content["outline"] = read_outline(args.outline)
    if args.parameters:
        content["parameters"] = read_parameters(args.parameters)
    if args.inputs:
        content["inputs"] = read_inputs(args.inputs)
    if args.steps:
        content["steps"] = read_steps(args.steps)
    output = output_of(args)
    if output is not None:
        content["output"] = output
    if args.guard is not None:
        content["guards"] = [] if args.guard == ["none"] else [_guard(word) for word in args.guard]
    combines = args.inputs not in (None, "none") and args.source is None
    given = {
        "source": "" if combines else args.source, "formats": listed(args.formats), "notes": args.notes,
        "file_name": args.file_name, "deliver_into": args.deliver_into, "change_note": args.change_note,
        "restore_parameters": args.restore_parameters or None,
    }  # fmt: skip
    return content | {key: value for key, value in given.items() if value is not None}


_GUARDS = (
    "a bound that a result must meet: rows:at_least=10,at_most=500; not_empty; change:percent=20,of_last=8,same=weekday; "
    "columns; not_null:columns=a+b; no_duplicate:columns=a; in_lookup:columns=a,lookup=codes; on a step, by its name or number:"
    " step_rows:step=2,at_least=1; same_rows:step=2; all_found:step=2; each with then=hold (default) or then=warn; none: none"
)


def _guard(word: str) -> dict[str, Any]:
    """``rows:at_least=10,then=warn`` as the service takes it; columns are joined by +."""
    kind, _, rest = word.partition(":")
    given = pairs([part for part in rest.split(",") if part], "--guard")
    return {"guard": kind, **{k: v.split("+") if k == "columns" else v for k, v in given.items()}}


def _guard_in_words(guard: Mapping[str, Any]) -> str:
    given = {k: "+".join(v) if isinstance(v, list) else v for k, v in guard.items() if k not in ("guard", "then")}
    return f"{guard['guard']} {' '.join(f'{k}={v}' for k, v in given.items())}".strip() + f", else {guard['then']}"


def _of_tables(args: argparse.Namespace, ladle: Ladle, known: str) -> str:
    """A statement for each of the tables. Raises ClientError."""
    source = args.source or known
    if not source:
        raise ClientError("it is not said of which source the tables are.", "Give --source NAME.")
    environment = environment_of(ladle)
    gathered(ladle, source, environment)
    return ladle.outlines.whole_tables(source, environment, listed(args.tables) or [], args.labels)


def extract_save(args: argparse.Namespace) -> None:
    for other in ("--outline", "--tables"):
        not_together(args, "--statement", other)
    not_together(args, "--outline", "--tables")
    if args.labels and not args.tables:
        raise ClientError("--labels was given without --tables.", "Give --tables A,B with it.")
    content = _content(args)
    present: Revision | None
    with connected(args) as ladle:
        try:
            present = ladle.extracts.get(args.name)["revision"]
            known = present["source"]
        except CallFailed as error:
            if error.code != "unknown_name":
                raise
            present, known = None, ""
        if args.tables:
            content["statement"] = _of_tables(args, ladle, known)
        if args.outline and (args.source or known):
            gathered(ladle, args.source or known, environment_of(ladle))
        if present is not None:
            found = ladle.extracts.save(args.name, args.revision, **content)
            if args.folder is not None:
                found = ladle.extracts.move(args.name, folder=args.folder)
        else:
            if "source" not in content or not (args.statement or args.outline or args.tables):
                raise ClientError(
                    f"'{args.name}' is a new extract.",
                    "Give --source NAME and --statement FILE, --outline FILE or --tables A,B; for a combination --inputs FILE"
                    " and --statement FILE. An extract that reads nothing is given --source ''.",
                )
            found = ladle.extracts.add(args.name, folder=args.folder or "", **content)
    number = found["revision"]["number"]
    words = f"nothing is changed: {found['name']} stays at revision {number}"
    same = present is not None and number == present["number"]
    print_remarks({} if args.json else found)
    print_json(found) if args.json else print(words if same else f"saved {found['name']}, revision {number}")


def extract_sql(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        values = values_given(ladle, args.name, args.set)
        found = ladle.runs.dry_run(args.name, environment=args.env, values=values, data_date=args.data_date)
    if args.json:
        return print_json(found["statements"])
    print(";\n\n".join(each["filled_in"] for each in found["statements"]))
    return None


def extract_preview(args: argparse.Namespace) -> None:
    not_together(args, "--total", "--plan", "--profile", "--rows")
    not_together(args, "--plan", "--profile", "--rows")
    given = None if args.steps is None else read_steps(args.steps)
    inputs = read_inputs(args.inputs) if args.inputs else []
    with connected(args) as ladle:
        asked = saved_or_asked(args, ladle, args.name)
        if asked is None:
            revision = ladle.extracts.get(args.name)["revision"]
            values = parted_values(pairs(args.set, "--set"), revision["parameters"])
            asked = Asked(revision["source"], revision["statement"], revision["parameters"], values)
            given = revision["steps"] if given is None else given
            inputs = revision["inputs"]
        steps = (given or [])[: args.until]
        environment = environment_of(ladle, args.env)
        found = ladle.sources.wait_for_query(
            ladle.extracts.start_preview(
                asked.source, environment, asked.statement, parameters=asked.parameters, values=asked.values,
                statement_number=args.statement_number, rows=args.rows, total=args.total or None, plan=args.plan or None,
                data_date=args.data_date, inputs=inputs or None, steps=steps or None,
            )
        )  # fmt: skip
        profile = ladle.sources.query_profile(found["id"], args.profile) if args.profile else None
    if args.plan and not args.json:
        _print_plan(found["result"]["plan"])
        return
    if profile is not None:
        print_json(profile) if args.json else print_profile(profile)
        return
    print_json(found) if args.json else print_rows(found, "--total")


def _print_plan(plan: Mapping[str, Any]) -> None:
    """Step by step in words, what is done first above."""
    steps = [(f"{'  ' * step['depth']}{step['said']}", step["rows"], step["own"]) for step in plan["steps"]]
    print_table(("STEP", "ROWS, ABOUT", "ITS OWN WORD"), steps, "the database says nothing.")
    print()
    for warning in plan["warnings"]:
        print(f"mind: {warning}")
    if plan["cost"] is not None:
        print(f"cost {plan['cost']:,.0f}, in units of the database's own: to compare two statements by")
    print("the statement was not run.")


def extract_revisions(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.revisions(args.name)
    if args.json:
        return print_json(found)
    rows = [(r["number"], moment(r["saved_at"]), r["author"], r["source"], r["change_note"]) for r in found]
    return print_table(("REVISION", "SAVED", "AUTHOR", "SOURCE", "CHANGE"), rows, "there are none.")


def extract_diff(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        after = args.after or ladle.extracts.get(args.name)["revision"]["number"]
        if after == 1 and not args.before:
            raise ClientError(
                f"revision 1 of '{args.name}' is its first: there is none before it.", "Name two: --from 1 --to 2."
            )
        found = ladle.extracts.differences(args.name, args.before or max(after - 1, 1), after)
    if args.json:
        return print_json(found)
    before, after = found["before"], found["after"]
    for mark, each in (("-", before), ("+", after)):
        print(f"{mark} revision {each['number']} by {each['author']}, {moment(each['saved_at'])}: {each['change_note']}")
    for setting in found["settings"]:
        print(f"\n{setting['field']}:\n- {json.dumps(setting['before'])}\n+ {json.dumps(setting['after'])}")
    lines = found["statement"]
    if all(line["kind"] == "same" for line in lines):
        print("\nthe statement is the same." if found["settings"] else "\nthere is no difference.")
        return None
    print("\nstatement:")
    for line in lines:
        print({"same": "  ", "removed": "- ", "added": "+ "}[line["kind"]] + line["text"])
    return None


def extract_check(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        revision = ladle.extracts.get(args.name)["revision"]
        environment = environment_of(ladle, args.env)
        found = ladle.extracts.diagnose(
            args.source or revision["source"],
            environment,
            revision["statement"],
            revision["parameters"],
            revision["inputs"],
            revision["steps"],
        )
    if args.json:
        print_json(found)
    else:
        for each in found["diagnostics"]:
            print(f"{each['severity']} at line {each['line']}, column {each['column']}: {each['message']} {each['hint']}")
        columns = [", ".join(f"{c['name']} ({c['kind']})" for c in s["columns"]) for s in found["statements"]]
        print(
            "\n".join(f"columns: {names}" for names in columns if names)
            or ("no errors, no warnings." if not found["diagnostics"] else "")
        )
    return 1 if any(each["severity"] == "error" for each in found["diagnostics"]) else 0


def extract_copy(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.copy(args.name, args.new_name, args.folder, args.source)
    reads = found["revision"]["source"] or "no source"
    print_json(found) if args.json else print(
        f"saved {found['name']}, reading {reads}; see if it fits: ladle extract check {found['name']}"
    )


def extract_edit(args: argparse.Namespace) -> None:
    if args.tags is None and args.owner is None:
        raise ClientError("nothing to change was given.", "Give --tags or --owner.")
    with connected(args) as ladle:
        found = ladle.extracts.edit(args.name, None if args.tags is None else listed(args.tags) or [], args.owner)
    tags = ", ".join(found["tags"]) or "none"
    print_json(found) if args.json else print(f"{found['name']}: tags {tags}; owner {found['owner']}")


def extract_move(args: argparse.Namespace) -> None:
    if args.folder is None and args.name_to is None:
        raise ClientError("nowhere to move it was given.", "Give --folder or --name.")
    if len(args.name) > 1:
        if args.name_to is not None:
            raise ClientError(f"{len(args.name)} extracts cannot have one name.", "Give --name with one extract, or --folder.")
        return _filed(args, [{"name": name, "folder": args.folder} for name in args.name], f"now in {args.folder or '(top)'}")
    with connected(args) as ladle:
        found = ladle.extracts.move(args.name[0], args.folder, args.name_to)
    return print_json(found) if args.json else print(f"{args.name[0]} is now {found['folder'] or '(top)'}/{found['name']}")


def _filed(args: argparse.Namespace, wanted: list[dict[str, Any]], said: str) -> None:
    """All of them, or none."""
    with connected(args) as ladle:
        found = ladle.extracts.file(wanted)
    print_json(found) if args.json else print(f"{len(wanted):,} extracts are {said}: {', '.join(e['name'] for e in wanted)}")


def extract_depends_on(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        found = ladle.extracts.set_depends_on(args.name, args.depends_on)
    names = ", ".join(found["depends_on"])
    said = f"depends on {names}, of the same data date" if names else "depends on no other extract"
    print_json(found) if args.json else print(f"{args.name} {said}")
    return 0


def extract_retention(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        found = ladle.extracts.set_retention(args.name, args.days, args.runs)
    print_json(found) if args.json else print(f"results of {args.name} are kept {_retention(found)}")
    return 0


def _retention(found: Mapping[str, Any]) -> str:
    days = f"{found['retention_days']} days" if found["retention_days"] else "as long as the service keeps results"
    return days + (f", the last {found['retention_runs']} of them" if found["retention_runs"] else "")


def extract_archive(args: argparse.Namespace) -> int:
    several = len(args.name) > 1
    them = f"these {len(args.name)} extracts" if several else f"'{args.name[0]}'"
    back = "they are" if several else "it is"
    if not confirmed(f"Archive {them}? Nothing runs {'them' if several else 'it'} until {back} restored.", args.yes):
        return 2
    if several:
        _filed(
            args,
            [{"name": name, "archived": True} for name in args.name],
            "archived, due times of theirs are skipped; ladle extract restore brings one back",
        )
        return 0
    with connected(args) as ladle:
        found = ladle.extracts.archive(args.name[0])
    if args.json:
        print_json(found)
        return 0
    print(f"{found['name']} is archived; bring it back with: ladle extract restore {found['name']}")
    if found["used_by"]:
        names = ", ".join(found["used_by"])
        print(f"due times of {names} are skipped from now on, and that is told: change or remove them", file=sys.stderr)
    return 0


def extract_restore(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.restore(args.name, args.revision)
    print_json(found) if args.json else print(f"{args.name} is back, at revision {found['revision']['number']}")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    extract = Noun(nouns, common, "extract", "The repository of extracts.")
    verb = extract.verb(
        "list", extract_list, "List extracts, with the last run of each.", "ladle extract list --search 'state:failed meter'"
    )
    verb.add_argument(
        "--search", metavar="WORDS",
        help="in names, folders, tags, notes and statements; tag:, owner:, source:, folder:, state: say where",
    )  # fmt: skip
    verb.add_argument("--folder", help="only in this folder and below")
    verb.add_argument("--tag")
    verb.add_argument("--favourites", action="store_true", help="only yours")
    verb.add_argument("--recent", action="store_true", help="only those you had in hand, the last one first")
    verb.add_argument("--archived", action="store_true", help="archived ones instead")
    extract.verb("show", extract_show, "Show an extract with its statement.", "ladle extract show high_users").add_argument(
        "name"
    )
    verb = extract.verb(
        "save", extract_save, "Save a new extract, or a new revision of one.",
        "ladle extract save high_users --source metering --statement high_users.sql --formats csv,xlsx\n"
        "  ladle extract save consumption --source metering --outline consumption.json\n"
        "  ladle extract save registers --source metering --tables meters,districts --labels --formats xlsx\n"
        "  ladle extract save side_by_side --inputs inputs.toml --statement side_by_side.sql",
    )  # fmt: skip
    verb.add_argument("name")
    verb.add_argument("--folder")
    verb.add_argument("--notes", help="what the extract is for")
    verb.add_argument("--change-note", help="what this save changes")
    verb.add_argument("--revision", type=int, help="refuse unless this is still the newest one")
    part = verb.add_argument_group("what it reads")
    part.add_argument("--statement", metavar="FILE", help="file with the statement; - for standard input")
    part.add_argument("--outline", metavar="FILE", help="JSON of an outline to put the statement together from, instead")
    part.add_argument("--tables", metavar="A,B", help="whole tables as they are, a statement for each, instead")
    part.add_argument("--labels", action="store_true", help="with --tables: names of rows beside the keys of other tables")
    part.add_argument("--source", help="what it reads; '' for an extract that computes from its values alone, in SQL of DuckDB")
    add_inputs_option(part)
    part.add_argument("--restore-parameters", action="store_true", help="the statement was taken out by: ladle extract sql")
    part.add_argument("--steps", metavar="FILE", help="JSON or TOML of steps on its result after the fetch; none for none")
    part = verb.add_argument_group("what it asks")
    part.add_argument("--parameters", metavar="FILE", help="JSON list of parameter declarations")
    part = verb.add_argument_group("what it gives")
    part.add_argument("--formats", help="csv,xlsx,json,…; see ladle format list")
    part.add_argument("--file-name", help="template, such as {extract}-{data_date:%%Y%%m}")
    add_output_options(part)
    part = verb.add_argument_group("what must hold")
    part.add_argument("--guard", action="append", metavar="GUARD", help=_GUARDS)
    part = verb.add_argument_group("where it goes")
    part.add_argument("--deliver-into", metavar="FOLDERS", help="below the service's delivery folders; several: 'a, b'")
    verb = extract.verb(
        "preview", extract_preview, "The first rows of a statement, saved or not, without a run.",
        "ladle extract preview high_users --rows 5\n"
        "  ladle extract preview --statement high.sql --source metering --set since=2026-11-01",
    )  # fmt: skip
    verb.add_argument("name", nargs="?", help="name of the extract, unless a statement is given")
    add_text_options(verb)
    verb.add_argument("--set", action="append", metavar="NAME=VALUE", help="a parameter's value; a,b,c where it is a list")
    verb.add_argument("--env", help="environment (default: the first one)")
    verb.add_argument("--data-date", metavar="YYYY-MM-DD", help="the data date (default: today)")
    verb.add_argument("--statement-number", type=int, default=1, metavar="N", help="which of several statements (default 1)")
    verb.add_argument("--rows", type=int, metavar="N", help="so many (default 100, at most 1,000)")
    verb.add_argument("--until", type=int, metavar="N", help="only the first N steps; 0: as the statement gives them")
    verb.add_argument("--total", action="store_true", help="how many rows there are, instead")
    verb.add_argument("--plan", action="store_true", help="how the database means to carry it out, instead; it is not run")
    verb.add_argument("--profile", metavar="COLUMN", help=PROFILE_HELP)
    verb = extract.verb(
        "inputs", extract_inputs, "What a combination combines: results of other extracts, and lookups.",
        "ladle extract inputs consumption_and_contacts\n  ladle extract inputs consumption_and_contacts --json > inputs.json",
    )  # fmt: skip
    verb.add_argument("name", nargs="?")
    verb.add_argument("--schema", action="store_true", help="what inputs may say, as JSON Schema, instead")
    verb = extract.verb(
        "steps", extract_steps, "The steps on its result, and how many rows the last run had after each.",
        "ladle extract steps district_shares\n  ladle extract steps district_shares --json > steps.json",
    )  # fmt: skip
    verb.add_argument("name", nargs="?")
    verb.add_argument("--schema", action="store_true", help="what steps may say, as JSON Schema, instead")
    verb = extract.verb(
        "sql", extract_sql, "The statement as SQL with its values filled in, to run in any SQL editor.",
        "ladle extract sql high_users --set above=4200 > high_users.sql",
    )  # fmt: skip
    verb.add_argument("name")
    verb.add_argument("--set", action="append", metavar="NAME=VALUE", help="a parameter's value; a,b,c where it is a list")
    verb.add_argument("--env", help="environment (default: the first one)")
    verb.add_argument("--data-date", metavar="YYYY-MM-DD", help="the data date (default: today)")
    extract.verb(
        "revisions", extract_revisions, "List the revisions of an extract.", "ladle extract revisions high_users"
    ).add_argument("name")
    verb = extract.verb(
        "move", extract_move, "Another folder or name.", "ladle extract move high_users --folder metering/daily"
    )
    verb.add_argument("name", nargs="+", help="several: they go together, or none does")
    verb.add_argument("--folder")
    verb.add_argument("--name", dest="name_to", metavar="NEW", help="the new name; the old one keeps working")
    verb = extract.verb(
        "edit",
        extract_edit,
        "Change its tags or its owner.",
        "ladle extract edit high_users --tags monthly",
    )
    verb.add_argument("name")
    verb.add_argument("--tags", help="comma-separated; empty takes them all away")
    verb.add_argument("--owner", help="name of a person")
    verb = extract.verb(
        "favourite", extract_favourite, "Keep an extract among your favourites.", "ladle extract favourite high_users"
    )
    verb.add_argument("name")
    verb.add_argument("--off", action="store_true", help="take it out again")
    verb = extract.verb(
        "copy", extract_copy, "A new extract that begins as another one.", "ladle extract copy high_users high_users_east"
    )
    verb.add_argument("name")
    verb.add_argument("new_name", metavar="NEW")
    verb.add_argument("--folder")
    verb.add_argument("--source", help="another source of the same language")
    verb = extract.verb(
        "check",
        extract_check,
        "Diagnostics on the statement; nothing is run.",
        "ladle extract check high_users",
    )
    verb.add_argument("name")
    verb.add_argument("--env", help="environment (default: the first one)")
    verb.add_argument("--source", help="as it would be on another source")
    verb = extract.verb("diff", extract_diff, "What differs between two revisions.", "ladle extract diff high_users --from 1")
    verb.add_argument("name")
    verb.add_argument("--from", dest="before", type=int, metavar="N", help="default: the one before")
    verb.add_argument("--to", dest="after", type=int, metavar="N", help="default: the newest")
    verb = extract.verb(
        "depends-on",
        extract_depends_on,
        "Extracts whose runs of the same data date its scheduled runs wait for.",
        "ladle extract depends-on district_summary monthly_consumption night_flow",
    )
    verb.add_argument("name")
    verb.add_argument("depends_on", nargs="*", metavar="EXTRACT", help="none: it depends on no other")
    verb = extract.verb(
        "retention",
        extract_retention,
        "How long its results are kept in the store; the newest always is.",
        "ladle extract retention high_users --days 400 --runs 24",
    )
    verb.add_argument("name")
    verb.add_argument("--days", type=int, help="default: as long as the service keeps results")
    verb.add_argument("--runs", type=int, help="default: any number")
    verb = extract.verb(
        "archive", extract_archive, "Put an extract out of sight; nothing is lost.", "ladle extract archive high_users"
    )
    verb.add_argument("name", nargs="+", help="several: they go together, or none does")
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = extract.verb(
        "restore",
        extract_restore,
        "Back from the archive, or an old revision made the newest.",
        "ladle extract restore high_users --revision 2",
    )
    verb.add_argument("name")
    verb.add_argument("--revision", type=int)
