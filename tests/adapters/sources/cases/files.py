"""Data files are read through DuckDB: the same cases, with the files as what must not change."""

from .duckdb import *  # noqa: F403
