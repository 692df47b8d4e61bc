"""The made-up contacts of Fennmoor Water's customers, by formula, as in ``data``: one collection a month, nested and uneven."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime, timedelta, timezone
from typing import Any

from bson import Decimal128, ObjectId

from .document_server import DocumentServer, Login
from .field_data import NAMES

SIZES = {"live": (6, 520), "rehearsal": (2, 40)}
"""Months, and contacts in each."""
_CHANNELS = ("phone", "phone", "web", "mail", "letter")
_TOPICS = ("leak", "bill", "pressure", "taste", "meter", "moving")
_STREETS = ("Weir Lane", "Osier Row", "Sluice Street", "Reed Walk", "Ferry Road")
_NOTES = ("Water on the pavement, say two neighbours.", "Wants the bill explained; \"too high\", she says.",
          "Tastes of chlorine since Monday; boiled it.", None, "Moves out on the last of the month.")  # fmt: skip
_AGENTS = ("rosa", "amir", "lena")


def month_before(day: date, months: int) -> date:
    """The first day of the month so many before that of ``day``."""
    number = day.year * 12 + day.month - 1 - months
    return date(number // 12, number % 12 + 1, 1)


def _contact(number: int, received: datetime) -> dict[str, Any]:
    """One document: not all fields in all, and a few of another type than usual, as people and years leave them."""
    channel, topic = _CHANNELS[number % 5], _TOPICS[number * 7 % 6]
    identifier = ObjectId(hashlib.sha256(f"contact {number}".encode()).digest()[:12])
    made: dict[str, Any] = {
        "_id": identifier,
        "contact": number,
        "received_at": received,
        "channel": channel,
        "topic": topic,
        "priority": 1 + (number * 5 + number // 11) % 3,
        "customer": {
            "account": f"FW-{100_000 + number * 37 % 90_000}",
            "name": f"Customer {number * 37 % 90_000}",
            "address": {"street": f"{1 + number % 88} {_STREETS[number % 5]}", "town": NAMES[number % 24]},
        },
    }
    if channel == "phone":
        made["minutes"] = "about 20" if number % 97 == 3 else 2 + number % 17
        made["calls"] = [
            {
                "at": received + timedelta(hours=26 * call),
                "by": _AGENTS[(number + call) % 3],
                "minutes": 2 + (number + call) % 9,
            }
            for call in range(1 + number % 3)
        ]
    if topic == "meter":
        made["reading"] = {
            "index_m3": 400 + number % 900 + 0.5,
            "on": received - timedelta(hours=3),
            "estimated": number % 4 == 0,
        }
    if topic == "bill":
        made["refund"] = Decimal128(f"{number % 60}.{number % 4 * 25:02d}")
    if number % 6:
        made["note"] = _NOTES[number % 5]
    return made


def _month(first: date, count: int, start: int) -> Iterator[dict[str, Any]]:
    minutes = 28 * 24 * 60 // count
    opens = datetime(first.year, first.month, 1, 7, 30, tzinfo=timezone.utc)
    for number in range(count):
        yield _contact(
            start + number, opens + timedelta(minutes=minutes * number, seconds=number % 60, milliseconds=number * 7 % 1000)
        )


def collections(anchor: date, months: int, count: int) -> dict[str, list[dict[str, Any]]]:
    """By name: one for each month, the last being that of the anchor date, and the contacts that are still open."""
    made = {}
    for back in reversed(range(months)):
        first = month_before(anchor, back)
        number = (first.year * 12 + first.month) * 1_000
        made[f"contacts_{first:%Y_%m}"] = list(_month(first, count - 13 * back, number))
    newest = made[f"contacts_{anchor:%Y_%m}"]
    made["contacts_open"] = [
        {**each, "assigned_to": _AGENTS[each["contact"] % 3]} for each in newest if each["contact"] % 7 in (1, 4)
    ]
    return made


def contacts_server(
    anchor: date, logins: Mapping[str, str], password: str, sizes: Mapping[str, Sequence[int]] = SIZES
) -> DocumentServer:
    """A store with a database for each environment. ``logins``: by environment, the name of one that may only read there."""
    return DocumentServer(
        {name: Login(password, {f"contacts_{environment}": "read"}) for environment, name in logins.items()},
        {f"contacts_{environment}": collections(anchor, *size) for environment, size in sizes.items()},
    )
