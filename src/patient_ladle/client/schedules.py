"""Calls about schedules."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from .group import Group, Listed, name_in_path
from .records import Backfill, BackfillLine, Calendar, DueTime, Month, Pauses, PlannedRun, RuleTime, Schedule, ScheduleLine


class Schedules(Group):
    """Schedules, their due times and the calendars of holidays that they mind."""

    def list(self, search: str | None = None, **filters: Any) -> Iterator[ScheduleLine]:
        """Schedules by name, each with its next five due times and how it did last; ``search``: in names, and in those of what
        they run. Or by ``sort`` (name, extract, environment, next_due, last_due) and ``descending``; only those of
        ``environment`` and ``state``."""
        return self.transport.pages("/schedules", search=search, page_size=200, **filters)

    def get(self, name: str) -> Schedule:
        """One schedule."""
        return self._get(f"/schedules/{name_in_path(name)}")

    def add(self, name: str, extract: str, environment: str, rule: str, **settings: Any) -> Schedule:
        """``settings``: ``zone``, ``values``, ``formats``, ``then`` and all else that a schedule shows."""
        body = {"name": name, "extract": extract, "environment": environment, "rule": rule, **settings}
        return self._post("/schedules", body)

    def edit(self, name: str, **changes: Any) -> Schedule:
        """Any field of ``add`` but the name."""
        return self._patch(f"/schedules/{name_in_path(name)}", changes)

    def remove(self, name: str) -> None:
        """No more due times; the record of past ones stays."""
        self._delete(f"/schedules/{name_in_path(name)}")

    def pause(self, name: str, reason: str = "", until: str | None = None) -> Schedule:
        """Due times are recorded as skipped until then, or until ``resume``."""
        return self._post(f"/schedules/{name_in_path(name)}/pause", {"reason": reason, "until": until})

    def resume(self, name: str) -> Schedule:
        """Due times run again."""
        return self._post(f"/schedules/{name_in_path(name)}/resume")

    def pause_several(self, names: Iterable[str], reason: str = "", until: str | None = None) -> Pauses:
        """All of them, or none. ``before`` of the answer: given to ``set_pauses`` it undoes this."""
        return self.set_pauses([{"name": name, "paused": True, "reason": reason, "until": until} for name in names])

    def resume_several(self, names: Iterable[str]) -> Pauses:
        """All of them, or none; undone as in ``pause_several``."""
        return self.set_pauses([{"name": name, "paused": False} for name in names])

    def set_pauses(self, schedules: Iterable[Mapping[str, Any]]) -> Pauses:
        """Each ``name`` with ``paused``, ``reason`` and ``until``."""
        return self._post("/pauses", {"schedules": [dict(each) for each in schedules]})

    def run(self, name: str) -> DueTime:
        """The whole sequence of a schedule now; the due time that is recorded for it, with its ``runs``."""
        return self._post(f"/schedules/{name_in_path(name)}/run")

    def month(self, name: str, day: str | None = None) -> Month:
        """The month with that day, today's by default: ``days``, each with ``counts`` and ``to_come``."""
        return self._get(f"/schedules/{name_in_path(name)}/month", date=day)

    def due_times(self, name: str) -> Iterator[DueTime]:
        """What became of each past due time, newest first."""
        return self.transport.pages(f"/schedules/{name_in_path(name)}/due-times")

    def times(self, rule: str, **timing: Any) -> Listed[RuleTime]:
        """The next due times of any rule, each with what is out of the ordinary. ``timing``: ``zone``, ``calendar``, …."""
        found: Listed[RuleTime] = self._get("/rule-times", rule=rule, **timing)["next_due"]
        return found

    def planned_backfill(
        self, name: str, first: str, last: str, again: bool = False, deliver: bool = True
    ) -> Listed[PlannedRun]:
        """What ``backfill`` would do about each due time of those local dates."""
        wish = {"from": first, "to": last, "again": again, "deliver": deliver}
        return self._get(f"/schedules/{name_in_path(name)}/backfill", **wish)

    def backfill(self, name: str, first: str, last: str, again: bool = False, deliver: bool = True) -> Backfill:
        """Runs for the due times of those local dates that have none that finished; ``again``: for all of them;
        ``deliver``: whether their results are delivered, or kept in the store only."""
        wish = {"from": first, "to": last, "again": again, "deliver": deliver}
        return self._post(f"/schedules/{name_in_path(name)}/backfill", wish)

    def backfills(self, schedule: str | None = None) -> Iterator[BackfillLine]:
        """Newest first, each with its runs counted by state."""
        return self.transport.pages("/backfills", schedule=schedule)

    def get_backfill(self, number: int) -> Backfill:
        """One backfill with the numbers of its runs."""
        return self._get(f"/backfills/{number}")

    def cancel_backfill(self, number: int) -> Backfill:
        """All of its runs that have not ended; what has finished stays."""
        return self._post(f"/backfills/{number}/cancel")

    def repeat_backfill(self, number: int) -> Backfill:
        """A new one of the same days, for those that have not finished."""
        return self._post(f"/backfills/{number}/repeat")

    def calendars(self) -> Listed[Calendar]:
        """Calendars of holidays."""
        return self._get("/calendars")

    def calendar(self, name: str) -> Calendar:
        """One calendar with its days."""
        return self._get(f"/calendars/{name_in_path(name)}")

    def save_calendar(self, name: str, country: str = "", region: str = "", text: str = "") -> Calendar:
        """A country's holidays, or those of an iCalendar file's text."""
        return self._post("/calendars", {"name": name, "country": country, "region": region, "text": text})

    def remove_calendar(self, name: str) -> None:
        """Only while no schedule uses it."""
        self._delete(f"/calendars/{name_in_path(name)}")
