"""The client library: list extracts, start a run, wait for it, read its log, save its files, iterate its rows.

>>> from patient_ladle.client import Ladle
>>> with Ladle("http://127.0.0.1:8470", token="ladle_…") as ladle:       # doctest: +SKIP
...     run = ladle.runs.start("high_users", values={"above": 4200}, formats=["csv"])
...     run = ladle.runs.wait(run["id"])
...     ladle.runs.save_files(run, "out")
"""

from .errors import CallFailed, NotReachable, QueryFailed, RunFailed
from .ladle import Ladle

__all__ = ["CallFailed", "Ladle", "NotReachable", "QueryFailed", "RunFailed"]
