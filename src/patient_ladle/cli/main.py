"""``ladle``: builds the parser from the commands, runs one, and turns every error into words and an exit status."""

from __future__ import annotations

import argparse
import os
import sys

import argcomplete

from patient_ladle import __version__
from patient_ladle.client import CallFailed, NotReachable, QueryFailed, RunFailed
from patient_ladle.client.errors import ClientError

from .commands import (
    access,
    alerts,
    backfills,
    calendars,
    complete_names,
    drafts,
    extracts,
    finding,
    formats,
    groups,
    lookups,
    outlines,
    results,
    runs,
    say_what_arguments_are,
    schedules,
    service,
    sources,
    values,
)
from .parsing import USAGE, Parser, error_as_json

DONE, FAILED, UNREACHABLE, NOT_ALLOWED = 0, 1, 3, 4
_DENIED = ("not_signed_in", "not_allowed", "result_held", "slow_down")
_EPILOG = """examples:
  ladle sign-in --url http://127.0.0.1:8470 rita
  ladle extract list
  ladle run start high_users --set above=4200 --formats csv,xlsx --into out
  ladle run log 12 --follow

exit status: 0 done, 1 the run failed or is not delivered, 2 usage or bad input, 3 service not reachable, 4 not allowed,
5 with --strict: finished, and held, rejected, warned, empty or late. With --json an error is JSON on standard error.
"""


def parser() -> argparse.ArgumentParser:
    """The whole command line."""
    made = Parser(
        prog="ladle",
        description="Shared extract queries, run unattended, with result files that can be proven whole.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    made.add_argument("--version", action="version", version=f"ladle {__version__}")
    common = argparse.ArgumentParser(add_help=False)
    common.add_argument("--url", help="address of the service (LADLE_URL; default http://127.0.0.1:8470)")
    common.add_argument("--json", action="store_true", help="print JSON for a program")
    nouns = made.add_subparsers(title="commands", metavar="COMMAND", required=True, parser_class=Parser)
    for module in (
        access,
        groups,
        service,
        sources,
        extracts,
        lookups,
        outlines,
        drafts,
        formats,
        values,
        runs,
        results,
        finding,
        schedules,
        backfills,
        calendars,
        alerts,
    ):
        module.add_to(nouns, common)
    complete_names(nouns)
    say_what_arguments_are(nouns)
    return made


def main(words: list[str] | None = None) -> int:
    """Entry point; returns the exit status."""
    made = parser()
    argcomplete.autocomplete(made)
    Parser.as_json = "--json" in (sys.argv[1:] if words is None else words)
    args = made.parse_args(words)
    try:
        return int(args.action(args) or DONE)
    except BrokenPipeError:  # whoever read our output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE
    except KeyboardInterrupt:
        print("\nladle: stopped; what was started goes on in the service.", file=sys.stderr)
        return 130
    except (ClientError, OSError) as error:
        status = _status_of(error)
        _say(error, status, getattr(args, "json", False))
        return status


def _status_of(error: Exception) -> int:
    match error:
        case RunFailed() | QueryFailed():
            return FAILED
        case CallFailed() if error.code in _DENIED:
            return NOT_ALLOWED
        case CallFailed():
            return UNREACHABLE if error.status == 503 else USAGE if error.status < 500 else FAILED
        case NotReachable():
            return UNREACHABLE
    return USAGE


def _say(error: ClientError | OSError, status: int, as_json: bool) -> None:
    """In words, or for a program as JSON; on standard error both."""
    if isinstance(error, OSError):
        error = ClientError(f"'{error.filename}': {error.strerror}.", "Give another path, or look at its rights.")
    request = error.request_id if isinstance(error, CallFailed) and error.code == "service_fault" else ""
    if as_json:
        print(error_as_json(error.code, error.message, error.hint, status, request), file=sys.stderr)
        return
    print(f"ladle: {error}", file=sys.stderr)
    if request:
        print(f"request id: {request}", file=sys.stderr)


if __name__ == "__main__":
    sys.exit(main())
