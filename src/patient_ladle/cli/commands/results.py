"""``ladle result …``: files of finished runs."""

from __future__ import annotations

import argparse
import json
import sys
from itertools import islice
from pathlib import Path
from typing import Any

from patient_ladle.cli.output import print_facts, print_json, print_table, value_words
from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError
from patient_ladle.client.records import Run
from patient_ladle.proof.verifying import NothingToVerify, verify
from patient_ladle.words import amount

from . import Noun, add_sorting, connected, not_together, sorting
from .browsing import PROFILE_HELP, print_profile
from .runs import STRICT


def result_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        narrowed = {"search": args.search, "environment": args.env, "format": args.format, **sorting(args)}
        found = [*islice(ladle.runs.results(args.extract, **narrowed), args.limit)]
    if args.json:
        return print_json(found)
    rows = [
        (
            str(f["run"]),
            f["extract"],
            f["name"],
            f["held"] or ("published" if f["published"] else "trial"),
            f["rows"],
            f["bytes"],
            f["sha256"][:16] + "…",
            f["delivered_path"],
        )
        for f in found
    ]
    head = ("RUN", "EXTRACT", "FILE", "STANDING", "ROWS", "BYTES", "SHA256", "DELIVERED AS")
    return print_table(head, rows, "there are no result files yet. Start a run: ladle run start EXTRACT")


def result_show(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        run, status = _run_of(ladle, args)
        descriptor = json.loads(b"".join(ladle.runs.read(run["id"], "datapackage.json")))
    if args.json:
        print_json(descriptor)
        return status
    about = descriptor["ladle"]
    values = ", ".join(f"{name} {value_words(value)}" for name, value in about.get("values", {}).items())
    print_facts([
        ("extract", f"{about['extract']}, revision {about['revision']}"),
        ("source", f"{about['source']} in {about['environment']}"),
        ("data date", about["dataDate"]), ("values", values), ("rows", f"{about['rows']:,}"),
        ("warnings", "\n".join(about["warnings"])),
    ])  # fmt: skip
    print()
    rows = [(f["name"], f["rows"], f["bytes"], f["sha256"], f["delivered_path"]) for f in run["files"]]
    print_table(("FILE", "ROWS", "BYTES", "SHA256", "DELIVERED AS"), rows, "the run has no files.")
    return status


def result_preview(args: argparse.Namespace) -> int:
    not_together(args, "--profile", "--rows")
    with connected(args) as ladle:
        run, status = _run_of(ladle, args)
        if not run["files"]:
            raise ClientError(f"run {run['id']} has no files: it is {run['state']}.", "List them: ladle result list")
        name = args.file or run["files"][0]["name"]
        if args.profile:
            profile = ladle.runs.profile_file(run["id"], name, args.profile, args.sheet)
            print_json(profile) if args.json else print_profile(profile)
            return status
        found = ladle.runs.preview_file(run["id"], name, args.rows or 20, args.sheet)
    if args.json:
        print_json(found)
        return status
    print_table(
        tuple(found["columns"]), [tuple("" if c is None else c for c in row) for row in found["rows"]], "the file has no rows."
    )
    shown = "all rows." if found["complete"] else f"the first {amount(len(found['rows']), 'row')}; there are more."
    print(f"\n{name}: {shown}")
    return status


def _run_of(ladle: Ladle, args: argparse.Namespace) -> tuple[Run, int]:
    """The run of that number, or what an extract published last; and the exit status if all else goes well."""
    if args.run.isdecimal():
        if args.env:
            raise ClientError("--env goes with the name of an extract, and not with a run's number.", "Leave it out.")
        run = ladle.runs.get(int(args.run))
        said = [f"it is {run['held']}"] if run["held"] in ("held", "rejected") else []
        said += [f"{finding['text']}" for finding in run["findings"] if said and finding["then"] == "hold"]
        return run, _minded(args, f"run {args.run}: {': '.join(said)}" if said else "")
    found = ladle.runs.latest_run(args.run, args.env)
    newer = found["newer_held"]
    return ladle.runs.get(found["run"]), _minded(
        args, f"a newer result is held: {newer['why']} {newer['next']}" if newer else ""
    )


def _minded(args: argparse.Namespace, words: str) -> int:
    if words:
        print(f"ladle: {words}", file=sys.stderr)
    return STRICT if words and args.strict else 0


def _saved(ladle: Ladle, run: Run, args: argparse.Namespace) -> list[Path]:
    if args.archive:
        return [ladle.runs.save_archive(run["id"], args.into)]
    return ladle.runs.save_files(run, args.into, args.file)


def result_verify(args: argparse.Namespace) -> int:
    try:
        verdicts = verify(Path(args.path))
    except NothingToVerify as error:
        raise ClientError(
            str(error), "Give a result file that lies beside its descriptor, the descriptor, or their folder."
        ) from None
    damaged = [each for each in verdicts if each.differs]
    if args.json:
        print_json([each.to_dict() for each in verdicts])
        return 1 if damaged else 0
    for each in verdicts:
        print(f"{'differs' if each.differs else 'proven '}  {each.path}: " + "; ".join(each.differs or each.proven))
        if each.rows is None and not each.differs:
            print("         its rows were not counted: this machine has no reader for that format")
    print(f"{len(verdicts) - len(damaged)} of {len(verdicts)} files are what their descriptor says.")
    return 1 if damaged else 0


def result_get(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        run, status = _run_of(ladle, args)
        names = [file["name"] for file in run["files"]]
        if not names:
            raise ClientError(f"run {run['id']} has no files: it is {run['state']}.", "List those there are: ladle result list")
        for wanted in args.file or ():
            if wanted not in names:
                raise ClientError(f"run {run['id']} has no file '{wanted}'.", f"It has: {', '.join(names)}.")
        saved = _saved(ladle, run, args)
    if args.json:
        print_json([str(path) for path in saved])
        return status
    for path in saved:
        print(f"saved {path}")
    return status


def _which(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("run", help="number of the run, or name of an extract for what it published last")
    verb.add_argument("--env", help="of an extract: environment (default: the first one)")
    verb.add_argument("--strict", action="store_true", help=f"exit status {STRICT} if it, or a newer one, is held or rejected")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    result = Noun(nouns, common, "result", "Result files.")
    verb = result.verb("list", result_list, "List result files, newest first.", "ladle result list --extract high_users")
    verb.add_argument("--search", help="words in names of files, and in names and folders of extracts")
    verb.add_argument("--extract", help="only files of that one")
    verb.add_argument("--env", help="only those of runs in that environment")
    verb.add_argument("--format", help="only files of that format")
    add_sorting(verb, ("id", "name", "extract", "rows", "bytes", "data_date"))
    verb.add_argument("--limit", type=int, default=25, help="how many (default 25)")
    verb = result.verb("show", result_show, "What a run's files hold and where they came from.", "ladle result show 12")
    _which(verb)
    verb = result.verb("preview", result_preview, "The first rows as they stand in a file.", "ladle result preview 12 --rows 5")
    _which(verb)
    verb.add_argument("--file", help="which file (default: the first)")
    verb.add_argument("--rows", type=int, metavar="N", help="so many (default 20, at most 1,000)")
    verb.add_argument("--sheet", help="of a workbook (default: the first)")
    verb.add_argument("--profile", metavar="COLUMN", help=PROFILE_HELP)
    verb = result.verb(
        "get",
        result_get,
        "Save a run's files, proven by checksum.",
        "ladle result get high_users --into out   (what it published last)",
    )
    _which(verb)
    verb.add_argument("--file", action="append", help="only this file (may be given again)")
    verb.add_argument("--archive", action="store_true", help="everything in one ZIP archive")
    verb.add_argument("--into", default=".", metavar="DIR")
    verb = result.verb(
        "verify", result_verify, "Prove files against their descriptor; needs no service.", "ladle result verify out"
    )
    verb.add_argument("path", help="a result file, a descriptor (…datapackage.json), or a folder of them")
