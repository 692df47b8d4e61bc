"""The console's own tests, in one process at a time: its runner gives up on a machine that is busier than that."""

from __future__ import annotations

from tests.test_checks import passes


def test_the_consoles_logic_passes():
    passes("npm", "--prefix", "console", "run", "-s", "test")
