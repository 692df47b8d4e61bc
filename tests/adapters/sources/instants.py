"""Asks sources about moments, in a process of its own: its zone, that of the host, is set before any engine looks at it."""

from __future__ import annotations

import json
import sys
from datetime import date, datetime

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import LadleError
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import unique_names
from patient_ladle.core.values.parameters import Parameter, resolve

MOMENT = Parameter("moment", "timestamp", required=False)


def answer(engine: str, address: dict, secret: str, text: str, moment: str | None, due: str) -> list | str:
    """Texts of all cells, or the code of the error."""
    values = resolve([MOMENT] if ":moment" in text else [], {"moment": moment} if ":moment" in text else {}, date(2026, 11, 24),
                     datetime.fromisoformat(due))  # fmt: skip
    session = None
    try:
        session = get_engine(engine).open(address, secret)
        unique_names(session.describe(Statement(text, values)))
        return [list(row) for batch in session.batches() for row in zip(*(c.to_pylist() for c in batch.cells), strict=True)]
    except LadleError as error:
        return error.code
    finally:
        if session is not None:
            session.close()


if __name__ == "__main__":
    print(json.dumps([answer(*asked) for asked in json.load(sys.stdin)]))
