"""The family of query languages: what authors write, by the language that an engine names.

To add one: write a member after ``base.py`` (for one more SQL, copy ``sqlite.py``), and add one line to ``LANGUAGES`` below and
its case to ``tests/core/languages/cases.py``. Members do not know each other.
"""

from __future__ import annotations

from .base import QueryLanguage
from .documents import DOCUMENTS
from .duckdb import DUCKDB
from .mariadb import MARIADB
from .postgresql import POSTGRESQL
from .sqlite import SQLITE

LANGUAGES: dict[str, QueryLanguage] = {member.name: member for member in (POSTGRESQL, MARIADB, SQLITE, DUCKDB, DOCUMENTS)}

__all__ = ["LANGUAGES", "QueryLanguage"]
