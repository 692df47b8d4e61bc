"""What the contract needs to know of document stores, held against the one that ships for demo and tests."""

from __future__ import annotations

import functools
import json

from patient_ladle.service.demo.document_server import DocumentServer, Login
from tests.core.languages.test_documents import HOSTILE as COMMANDS

from .tables import DISTRICTS

LONG_LENGTH = 7_000_000  # a document is at most 16 MB
HAS_KEYS = False
RUNS_WHEN_DESCRIBED = True
BEYOND_READING = ""
ALMIGHTY = (
    {"user": "keeper"},
    "the login may createCollection, createIndex, dropCollection, insert, remove and 1 more on works",
)
LOGINS = {"reader": Login("reading-only", {"works": "read"}, ["payroll"]), "keeper": Login("all", {"works": "readWrite"})}


def collections():
    return {
        "districts": [{"_id": n, "district_id": n, "name": name, "zone": zone} for n, name, zone in DISTRICTS],
        "contacts": [{"_id": 1, "a": 1}],  # what the hostile commands are about
        "long": [{"t": "é" * LONG_LENGTH, "n": 1}],
        "slow": [{"_id": n} for n in range(4_000)],
        "wide": [{"_id": n, "reeds": "fen" * 20} for n in range(12_000)],
        "payroll": [{"_id": 1, "grade": 7}],
    }


@functools.cache
def server():
    made = DocumentServer(LOGINS, {"works": collections()}, {"slow": 0.05})
    made.start()
    return made


def address_of(one):
    return {"host": "127.0.0.1", "port": one.port, "database": "works", "user": "reader"}


def built(home, request):
    one = server()
    return address_of(one), "reading-only", one.counts


def password_of_the_almighty(request):
    return "all"


def kill(request, session):
    server().break_off()


def server_of_its_own(folder):
    own = DocumentServer(LOGINS, {"works": collections()})
    own.start()
    return own, address_of(own), "reading-only"


ASKS = ("describe", "probe", "about")
"""What asks the driver: all rows are there once they are described."""
ONE = '{"find": "districts", "filter": {"district_id": 1}, "projection": {"_id": 0, "name": 1}}'
PLACED = '{"find": :place, "projection": {"name": 1}, "sort": {"name": 1}}'
SLOW = SLOW_ROWS = '{"find": "slow"}'
WIDE_ROWS = '{"find": "wide"}'
UNREADABLE = '{"find": "payroll"}'
UNKNOWN_TABLE = ('// more\n{"find":\n  "distrcts", "filter": {"x": :p}}', "line 3, column 3")
LIST = '{"find": "districts", "filter": {"district_id": {"$in": :ids}}, "projection": {"name": 1}, "sort": {"name": 1}}'
PARAMETERS = (
    '{"aggregate": "districts", "pipeline": [{"$limit": 1},'
    ' {"$project": {"_id": 0, "t": :t, "n": :n, "x": :x, "b": :b, "d": :d, "w": :w}}]}'
)
PARAMETER_TEXTS = ["it's :n", "41", "12.5", "true", "2026-11-24T00:00:00Z", "2026-11-24T06:05:00Z"]
ABSENT = '{"count": "districts", "query": {"$or": [{"nothing": :t}, {"name": :t}]}}'
LONG_TEXT = '{"find": "long"}'
HOSTILE = [json.dumps(command) for command in COMMANDS]
