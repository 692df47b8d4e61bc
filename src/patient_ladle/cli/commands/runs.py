"""``ladle run …``."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Mapping, Sequence
from contextlib import redirect_stdout
from itertools import islice
from typing import Any

from rich.console import Console

from patient_ladle.cli.output import moment, place_of, print_facts, print_json, print_table, took, value_words
from patient_ladle.client import Ladle, RunFailed
from patient_ladle.client.errors import ClientError
from patient_ladle.client.records import Run
from patient_ladle.words import amount, spaced

from . import Noun, add_sorting, connected, listed, not_together, sorting, values_given
from .unsaved import add_output_options, add_text_options, output_of, read_inputs, read_steps, saved_or_asked


class _ProgressLine:
    """One line on the terminal that follows a run; silent when nobody watches."""

    def __init__(self) -> None:
        self.shown = Console(stderr=True).status("", spinner="line") if sys.stderr.isatty() else None
        self.began = time.monotonic()
        if self.shown:
            self.shown.start()

    def __call__(self, run: Mapping[str, Any]) -> None:
        if self.shown:
            rows = f", {amount(run['rows'], 'row')}" if run["rows"] else ""
            waits = f" for {run['waits_for']}" if run["state"] == "waiting" and run["waits_for"] else ""
            now = f"{run['stage'] or run['state']}{waits}"
            self.shown.update(f"run {run['id']}: {now}{rows}, {time.monotonic() - self.began:.0f} s")

    def end(self) -> None:
        if self.shown:
            self.shown.stop()


def _reads(found: Mapping[str, Any]) -> str:
    """Of a dry run, what it would read."""
    if not found["source"]:
        return "\n".join(_foreseen(each) for each in found["inputs"]) or "nothing but its values"
    return f"{found['source']} ({found['engine']}), read-only: {place_of(found)}"


def _foreseen(given: Mapping[str, Any]) -> str:
    """One input of a dry run, as a line."""
    if given["lookup"]:
        return f"{given['name']}: the lookup {given['lookup']} (revision {given['revision']})"
    values = "".join(
        f", {name} = {value_words(value)}" for name, value in given["values"].items() if name not in ("data_date", "due_time")
    )
    return f"{given['name']}: {given['extract']} (revision {given['revision']}) on {given['source'] or 'its inputs'}{values}"


def _wait(ladle: Ladle, number: int) -> Run:
    line = _ProgressLine()
    try:
        return ladle.runs.wait(number, progress=line)
    finally:
        line.end()


def marks_of(run: Mapping[str, Any]) -> list[str]:
    """What of a run a person should know beside its state."""
    held = run["held"] if run["held"] != "released" else ""
    words = delivery_words(run).partition(",")[0]
    return [*filter(None, [held]), *(flag for flag in ("late", "warned", "empty") if run[flag]), *filter(None, [words])]


def _summary(run: Mapping[str, Any]) -> None:
    flags = "".join(f", {mark}" for mark in marks_of(run))
    rows = f", {amount(run['rows'], 'row')}" if run["rows"] is not None else ""
    source = run["source"] or (amount(len(run["inputs"]), "input") if run["inputs"] else "no source")
    print(f"run {run['id']} of {run['extract']} (revision {run['revision']}) on {source} in {run['environment']}: "
          f"{run['state']}{flags}{rows}, {took(run['started_at'], run['ended_at'])}")  # fmt: skip
    _files(run["files"])
    for warning in run["warnings"]:
        print(f"  warning: {warning}")
    if run["held"] == "held":
        for finding in run["findings"]:
            if finding["then"] == "hold":
                print(f"  held by its guard: {finding['text']}")
        print(f"  next: ladle run release {run['id']}, or ladle run reject {run['id']}")
    elif run["state"] == "finished" and not run["saved"]:
        print(f"  not in the repository; to keep it there: ladle extract move {run['extract']} --name NAME")
    elif run["member_of"] is not None:
        print(f"  an input of run {run['member_of']}, kept in the result store with it")
    elif run["state"] == "finished" and not run["published"]:
        print(f"  a trial, kept in the result store; next, if it should be delivered: ladle run publish {run['id']}")
    if run["delivery_error"]:
        print(f"  {delivery_words(run)}: {run['delivery_error']['message']} {run['delivery_error']['hint']}")
        if run["delivery"] == "failed":
            print(f"  next: ladle run deliver {run['id']}, with --into FOLDERS or --leave")


def _files(files: Sequence[Mapping[str, Any]]) -> None:
    for file in files:
        print(
            f"  {file['name']}  {amount(file['rows'], 'row')}  {amount(file['bytes'], 'byte')}  sha256 {file['sha256'][:16]}…"
        )
        if file["removed_at"]:
            print(f"    removed from the result store {moment(file['removed_at'])}")
        if file["damage"]:
            print(f"    damaged in the result store: {file['damage']}")
        for path in filter(None, [file["delivered_path"], *file["delivered_also"]]):
            print(f"    delivered as {path}")


def delivery_words(run: Mapping[str, Any]) -> str:
    """What of a finished run's delivery a person should know; empty where it is as it should be."""
    if run["delivery"] == "waiting":
        at = run.get("deliver_at")
        return f"not delivered yet, tried again at {moment(at)}" if at else "not delivered yet"
    return {"in_progress": "being delivered", "failed": "not delivered", "left": "left undelivered"}.get(run["delivery"], "")


def conclude(args: argparse.Namespace, ladle: Ladle, run: Run) -> int:
    """Wait for a run that was started, save what was asked for, tell what became of it; returns the exit status."""
    if args.no_wait:
        print_json(run) if args.json else print(
            f"run {run['id']} is {run['state']}; follow it with: ladle run log {run['id']} --follow"
        )
        return 0
    try:
        run = _wait(ladle, run["id"])
    except RunFailed as failed:
        if args.json:
            print_json(failed.run)
        raise
    if args.into == STANDARD_OUTPUT:
        with redirect_stdout(sys.stderr):
            _summary(run)
        _write_out(ladle, run)
        return _status(run, args.strict)
    saved = ladle.runs.save_files(run, args.into) if args.into else []
    if args.json:
        print_json(run | {"saved": [str(path) for path in saved]})
    else:
        _summary(run)
        for path in saved:
            print(f"  saved {path}")
    return _status(run, args.strict)


STANDARD_OUTPUT = "-"


def _write_out(ladle: Ladle, run: Mapping[str, Any]) -> None:
    """The only file of a run to standard output; its checksum is looked at. Raises ClientError."""
    files = [file for file in run["files"] if not file["removed_at"]]
    if len(files) != 1:
        told = f"run {run['id']} gave {amount(len(files), 'file')}; standard output takes one."
        raise ClientError(told, f"They are kept, save them: ladle result get {run['id']} --into DIR")
    file = files[0]
    text = file["media_type"].startswith("text/") or "json" in file["media_type"]
    if sys.stdout.isatty() and not (text and file["compression"] == "none"):
        hint = f"Lead it into a file or a program, or save it: ladle result get {run['id']} --into DIR"
        raise ClientError(f"'{file['name']}' is no text to be shown on a terminal.", hint)
    for piece in ladle.runs.read(run["id"], file["name"]):
        sys.stdout.buffer.write(piece)
    sys.stdout.buffer.flush()


STRICT = 5
"""Exit status of what has finished, and is held, rejected, warned, empty or late."""


def _status(run: Mapping[str, Any], strict: bool = False) -> int:
    if run["delivery_error"] and run["delivery"] in ("waiting", "failed"):
        return 1
    return STRICT if strict and marks_of(run) else 0


def _refuse_output_of_one_run(args: argparse.Namespace) -> None:
    not_together(args, "--no-wait", "--into", "--strict")
    if args.into == STANDARD_OUTPUT:
        not_together(args, "--into", "--json")


def run_start(args: argparse.Namespace) -> int:
    _refuse_output_of_one_run(args)
    not_together(args, "--dry-run", "--into", "--no-wait", "--strict")
    formats = listed(args.formats)
    if args.into == STANDARD_OUTPUT and len(formats or []) > 1:
        raise ClientError(f"--into - takes one file, and --formats names {len(formats or [])}.", "Give one format.")
    with connected(args) as ladle:
        asked = saved_or_asked(args, ladle, args.extract)
        body: dict[str, Any] = {
            "environment": args.env,
            "formats": formats,
            "data_date": args.data_date,
            "output": output_of(args),
        }
        if asked is not None:
            not_together(args, "--text" if args.text is not None else "--statement", "--publish", "--trial", "--dry-run")
            body["steps"] = read_steps(args.steps) if args.steps else None
            body["inputs"] = read_inputs(args.inputs) if args.inputs else None
            body |= {"statement": asked.statement, "parameters": [*asked.parameters], "values": dict(asked.values)}
            body["file_name"] = args.file_name or (f"{asked.stem}-{{data_date}}" if asked.stem else None)
            return conclude(args, ladle, ladle.runs.start_unsaved(asked.source, **body))
        if args.steps:
            raise ClientError(
                "--steps belongs to a statement that is not saved.",
                f"Save them with it: ladle extract save {args.extract} --steps FILE",
            )
        body["values"] = values_given(ladle, args.extract, args.set)
        body["publish"] = True if args.publish else False if args.trial else None
        if args.dry_run:
            return _print_dry_run(args, ladle.runs.dry_run(args.extract, **body))
        return conclude(args, ladle, ladle.runs.start(args.extract, **body))


def _of_runs(runs: int) -> str:
    return "the one run there was" if runs == 1 else f"the median of {runs} runs"


def _print_dry_run(args: argparse.Namespace, found: Mapping[str, Any]) -> int:
    if args.json:
        print_json(found)
        return 0
    expected = found["expected"]
    words = "unknown: it has not finished here yet"
    if expected:
        span = f"{expected['rows_min']:,} to {expected['rows_max']:,}"
        words = f"{amount(expected['rows'], 'row')} ({span}) in {expected['seconds']:g} s, by {_of_runs(expected['runs'])}"
        words += "" if expected["same_values"] else ", with other values"
    print(f"nothing was run. This is what a run of {found['extract']} (revision {found['revision']}) would do:\n")
    print_facts(
        [
            ("reads", _reads(found)),
            ("environment", found["environment"]),
            ("data date", found["data_date"]),
            ("values", "\n".join(f"{name} = {value_words(value)}" for name, value in found["values"].items())),
            ("steps", "\n".join(found["steps"])),
            ("expected", words),
            ("files", "\n".join(file["delivered_path"] or file["name"] for file in found["files"])),
            ("warnings", "\n".join(found["warnings"])),
        ]
    )
    for each in found["statements"]:
        text = each["filled_in"] or "(the statement is shown to authors)"
        titled = len(found["statements"]) == 1 or each["title"] in text.partition("\n")[0]  # by a comment of its own
        print(f"\n{'' if titled else '-- ' + each['title'] + chr(10)}{text}")
    print(f"\nto run it:\n  {found['code']['command']}")
    return 0


def run_again(args: argparse.Namespace) -> int:
    _refuse_output_of_one_run(args)
    with connected(args) as ladle:
        return conclude(args, ladle, ladle.runs.again(args.number, args.newest_revision))


def run_state(run: Mapping[str, Any]) -> str:
    """Its state, and what of it a person should know beside."""
    return ", ".join([run["state"], *marks_of(run)])


def run_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        keys = ("search", "extract", "state", "schedule", "since", "until", "member_of")
        narrowed = {key: getattr(args, key) for key in keys}
        found = [*islice(ladle.runs.list(environment=args.env, **narrowed, **sorting(args)), args.limit)]
    if args.json:
        return print_json(found)
    rows = [
        (str(r["id"]), r["extract"], r["environment"], run_state(r), r["data_date"], moment(r["started_at"]),
         took(r["started_at"], r["ended_at"]), r["rows"], r["schedule"] or r["started_by"])
        for r in found
    ]  # fmt: skip
    headings = ("RUN", "EXTRACT", "ENVIRONMENT", "STATE", "DATA DATE", "BEGAN", "TOOK", "ROWS", "STARTED BY")
    return print_table(headings, rows, "there are no such runs: start one with ladle run start.")


def _published(run: Mapping[str, Any]) -> str:
    """Whether its extract's readers have the result: it is one that is published, it is there, and nothing keeps it back."""
    if not run["published"]:
        return "no: a trial"
    if run["held"] in ("held", "rejected"):
        return "not before it is released" if run["held"] == "held" else "no: it is rejected"
    if run["state"] != "finished":
        return f"no: it is {spaced(run['state'])}"
    return {"waiting": "yes; not delivered yet", "in_progress": "yes; not delivered yet", "failed": "yes; not delivered"}.get(
        run["delivery"], "yes"
    )


def run_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        run = ladle.runs.get(args.number)
    if args.json:
        return print_json(run)
    _summary(run)
    error = run["error"] or {}
    print_facts(
        [
            ("started by", run["schedule"] or run["started_by"]),
            (
                "read from",
                ", ".join(f"{k} {v}" for k, v in run["identity"].items()) + (", read-only" if run["identity"] else ""),
            ),
            ("inputs", "\n".join(_input_in_words(each) for each in run["inputs"])),
            ("input of", f"run {run['member_of']}" if run["member_of"] is not None else ""),
            ("data date", run["data_date"]),
            ("values", ", ".join(f"{k}={value_words(v)}" for k, v in run["values_in_effect"].items())),
            ("stages", ", ".join(f"{s['stage']} {moment(s['at'])[11:]}" for s in run["stages"])),
            ("attempt", f"{run['attempt']}" + (f", after {_ends(run)}" if run["failures"] or run["lost"] else "")),
            ("delivery", " ".join(filter(None, (run["delivery"], run["deliver_into"] and f"into {run['deliver_into']}")))),
            ("guards", "\n".join(f"{f['text']} ({f['then']})" for f in run["findings"])),
            ("published", _published(run)),
            ("held", " ".join(filter(None, (run["held"], run["held_by"] and f"by {run['held_by']}", run["held_note"])))),
            ("waits for", f"{run['waits_for']}, until {moment(run['wait_until'])}" if run["waits_for"] else ""),
            ("finish by", moment(run["finish_by"]) if run["finish_by"] else ""),
            ("again of", run["again_of"]),
            ("same as before", {True: "yes", False: "no: the source gave something else", None: ""}[run["same_as_before"]]),
            ("error", error.get("message")),
            ("next step", error.get("hint")),
        ]
    )
    return None


def _input_in_words(given: Mapping[str, Any]) -> str:
    """Where an input of a combination stands."""
    rows = "" if given["rows"] is None else f", {amount(given['rows'], 'row')}"
    if given["lookup"]:
        return f"{given['name']}: the lookup {given['lookup']}{rows}"
    if given["run"] is None:
        return f"{given['name']}: {given['extract']}, not begun"
    which = f"{given['extract']} (revision {given['revision']}) on {given['source'] or 'inputs'}"
    stored = ", stored before" if given["stored"] else ""
    return f"{given['name']}: run {given['run']} of {which}: {given['held'] or given['state']}{rows}{stored}"


def _ends(run: Mapping[str, Any]) -> str:
    most = f"{run['failures']} of at most {amount(run['max_attempts'], 'failed attempt')}" if run["failures"] else ""
    lost = f"{run['lost']} lost with a worker" if run["lost"] else ""
    return " and ".join(filter(None, (most, lost)))


def run_log(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        lines = ladle.runs.log(args.number, args.follow)
        if args.json:
            return print_json(list(lines))
        for line in lines:
            mark = "" if line["level"] == "info" else f"{line['level']}: "
            print(f"{moment(line['at'])}  {line['attempt']}  {line['stage']:<8}  {mark}{line['text']}", flush=True)
    return None


def run_cancel(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        run = ladle.runs.cancel(args.number)
        if run["state"] not in ("cancelled",) and not args.no_wait:
            try:
                ladle.runs.wait(args.number, timeout_seconds=30)
                raise ClientError(f"run {args.number} finished before it could be stopped.", "Its files are there.")
            except RunFailed as ended:
                run = ended.run
    print_json(run) if args.json else print(f"run {args.number} is {run['state']}")
    return 0


def run_release(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        run = ladle.runs.release(args.number, args.note)
    what = "are delivered" if run["delivery"] == "delivered" else "are results now; its extract delivers into no folder"
    if run["delivery_error"]:
        what = f"are {delivery_words(run)}: {run['delivery_error']['message']} {run['delivery_error']['hint']}"
    print_json(run) if args.json else print(f"run {run['id']} is released: its files {what}")
    return _status(run)


def run_deliver(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        run = ladle.runs.deliver(args.number, args.into or "", args.leave, args.note, not args.no_wait)
    print_json(run) if args.json else _summary(run)
    return _status(run)


def run_publish(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        run = ladle.runs.withdraw(args.number, args.note) if args.withdraw else ladle.runs.publish(args.number)
    words = f"counts among what '{run['extract']}' publishes" if run["published"] else "is a trial now; delivered files stay"
    if args.json:
        print_json(run)
    else:
        print(f"run {run['id']} {words}")
        if not args.withdraw:
            _summary(run)
    return _status(run)


def run_reject(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        run = ladle.runs.reject(args.number, args.note)
    print_json(run) if args.json else print(f"run {run['id']} is rejected: its files stay in the result store only")
    return 0


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    run = Noun(nouns, common, "run", "Runs: one execution of an extract each.")
    verb = run.verb(
        "start", run_start, "Run an extract, or a statement that is not saved, and wait for its end.",
        "ladle run start monthly_consumption --set zone=Coast --env rehearsal --formats csv,xlsx --into out\n"
        "  ladle run start --statement high.sql --source metering --set since=2026-11-01 --formats csv --into -",
    )  # fmt: skip
    verb.add_argument("extract", nargs="?", help="name of the extract, unless a statement is given")
    add_text_options(verb)
    verb.add_argument("--file-name", help="of a statement that is not saved: template, such as {extract}-{data_date:%%Y%%m}")
    verb.add_argument("--set", action="append", metavar="NAME=VALUE", help="a parameter's value; a,b,c where it is a list")
    verb.add_argument("--env", help="environment (default: the first one)")
    verb.add_argument("--data-date", metavar="YYYY-MM-DD", help="the date the run is about (default: today)")
    verb.add_argument("--formats", metavar="FORMATS", help="csv,xlsx,json (default: the extract's)")
    add_output_options(verb)
    which = verb.add_mutually_exclusive_group()
    which.add_argument(
        "--publish",
        action="store_true",
        help="deliver it, and let it be the latest result, whatever its values and formats are",
    )
    which.add_argument("--trial", action="store_true", help="keep it in the result store only")
    verb.add_argument("--dry-run", action="store_true", help="say what it would do, and run nothing")
    again = run.verb("again", run_again, "The same revision, values and data date once more.", "ladle run again 12")
    again.add_argument("number", type=int)
    again.add_argument("--newest-revision", action="store_true", help="today's revision instead of the run's own")
    for each in (verb, again):
        each.add_argument("--into", metavar="DIR", help="save the files here, proven by checksum; - for standard output")
        each.add_argument("--no-wait", action="store_true", help="do not wait for its end")
        each.add_argument("--strict", action="store_true", help=f"exit status {STRICT} if held, warned, empty or late")
    verb = run.verb(
        "list", run_list, "List runs, newest first.",
        "ladle run list --state failed\n  ladle run list --search network --since 2026-11-01 --sort took --descending",
    )  # fmt: skip
    verb.add_argument("--search", help="words in names and folders of extracts; all of them are met")
    verb.add_argument("--extract", help="only runs of that one, also under an earlier name")
    verb.add_argument("--schedule", help="only runs that it started")
    verb.add_argument("--member-of", type=int, metavar="RUN", help="inputs of that run of a combination, left out else")
    verb.add_argument("--env", help="only those in that environment")
    verb.add_argument("--since", metavar="TIME", help="queued then or later: 2026-11-24, or 2026-11-24T06:05:00Z")
    verb.add_argument("--until", metavar="TIME", help="queued before")
    add_sorting(verb, ("id", "extract", "environment", "state", "data_date", "took", "rows"))
    verb.add_argument(
        "--state",
        help="waiting, queued, running, finished, failed, cancelled, not_run; or held, rejected, released, late, warned,"
        " empty, not_delivered, published",
    )
    verb.add_argument("--limit", type=int, default=25, help="how many (default 25)")
    run.verb("show", run_show, "Show a run.", "ladle run show 12").add_argument("number", type=int)
    verb = run.verb("log", run_log, "Print the run log.", "ladle run log 12 --follow")
    verb.add_argument("number", type=int)
    verb.add_argument("--follow", action="store_true", help="until the run has ended")
    for name, action, words in (
        ("release", run_release, "Deliver what a guard held back."),
        ("reject", run_reject, "Never deliver what a guard held back."),
    ):
        verb = run.verb(name, action, words, f"ladle run {name} 12 --note 'the meter swap explains it'")
        verb.add_argument("number", type=int)
        verb.add_argument("--note", default="", help="why, for the record")
    verb = run.verb(
        "deliver", run_deliver, "Decide about a delivery that failed, or waits to be tried again: try it now.",
        "ladle run deliver 12 --into regulation/resent --note 'the share is being mended'",
    )  # fmt: skip
    verb.add_argument("number", type=int)
    where = verb.add_mutually_exclusive_group()
    where.add_argument("--into", metavar="FOLDERS", help="other folders of the service than its own, separated by commas")
    where.add_argument("--leave", action="store_true", help="it stays undelivered; its files stay in the result store")
    verb.add_argument("--note", default="", help="why, for the record")
    verb.add_argument("--no-wait", action="store_true", help="do not wait until it was tried")
    verb = run.verb(
        "publish", run_publish, "Count a trial among what its extract publishes, and deliver it: it may become the latest one.",
        "ladle run publish 12",
    )  # fmt: skip
    verb.add_argument("number", type=int)
    verb.add_argument("--withdraw", action="store_true", help="it counts no more; delivered files stay where they are")
    verb.add_argument("--note", default="", help="why it is withdrawn, for the record")
    verb = run.verb("cancel", run_cancel, "Stop a run, and its statement in the source.", "ladle run cancel 12")
    verb.add_argument("number", type=int)
    verb.add_argument("--no-wait", action="store_true")
