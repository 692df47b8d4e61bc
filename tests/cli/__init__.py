"""Tests of the command line."""

from __future__ import annotations

import argparse
from functools import cache

from patient_ladle.cli.main import parser

NOUNS = (
    "source", "environment", "extract", "lookup", "outline", "draft", "format", "run", "result", "schedule", "backfill", "calendar", "alert", "channel", "user", "group", "token",
    "service", "worker", "value", "phrase",
)  # fmt: skip
"""Of the command line; each has verbs."""


@cache
def command_line() -> argparse.ArgumentParser:
    """The whole of it, made once: making it takes longer than most of what is asked of it."""
    return parser()
