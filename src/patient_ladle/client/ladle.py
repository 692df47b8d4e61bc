"""``Ladle``: one object for the service, holding one group of calls for each noun. Records are plain dictionaries,
whose types ``records`` has, made from the service's API document.
"""

from __future__ import annotations

from types import TracebackType

from .alerts import Alerts
from .extracts import Extracts
from .lookups import Lookups
from .outlines import Outlines
from .people import People
from .records import Formats, FoundThing, Night, Status
from .runs import Runs
from .schedules import Schedules
from .sources import Sources
from .transport import Transport
from .values import Values


class Ladle:
    """The service at ``url``, signed in with a token. Use as a context manager, or ``close`` it."""

    def __init__(self, url: str = "http://127.0.0.1:8470", token: str | None = None, timeout_seconds: float = 60.0) -> None:
        self.transport = Transport(url, token, timeout_seconds)
        self.people = People(self.transport)
        self.sources = Sources(self.transport)
        self.extracts = Extracts(self.transport)
        self.outlines = Outlines(self.transport)
        self.lookups = Lookups(self.transport)
        self.values = Values(self.transport)
        self.schedules = Schedules(self.transport)
        self.runs = Runs(self.transport)
        self.alerts = Alerts(self.transport)

    @classmethod
    def sign_in(cls, url: str, name: str, password: str, token_name: str | None = None) -> tuple[Ladle, str]:
        """A signed-in client and its token, good for 90 days. Raises CallFailed."""
        with cls(url) as nobody:
            body = {"name": name, "password": password, "token_name": token_name or "sign-in"}
            token = str(nobody.transport.call("POST", "/sign-in/token", json=body)["token"])
        return cls(url, token), token

    def sign_out(self) -> None:
        """End the token that this client calls with."""
        self.transport.call("DELETE", "/me")

    def formats(self) -> Formats:
        """Every format with its options (``formats``), the options of all files (``files``), and types of columns."""
        return self.transport.call("GET", "/formats")

    def status(self) -> Status:
        """Counts of the last day, workers, the next due time."""
        return self.transport.call("GET", "/status")

    def last_night(self, date: str | None = None) -> Night:
        """How the last night went: a sentence of counts, what needs attention, what is next, the runs. ``date``: of the
        morning of a past night."""
        return self.transport.call("GET", "/last-night", params={"date": date} if date else None)

    def find(self, text: str, limit: int | None = None) -> list[FoundThing]:
        """What has such a name, the best first: extracts, schedules, runs, sources, tables, columns, result files."""
        found: list[FoundThing] = self.transport.call("GET", "/find", params={"text": text, "limit": limit or 40})
        return found

    def close(self) -> None:
        """Close the connections."""
        self.transport.http.close()

    def __enter__(self) -> Ladle:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()
