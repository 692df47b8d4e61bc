"""The checks, and what is tested by other means than these: as tests, so that as much goes on at once as there are cores."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


def passes(*command):
    done = subprocess.run(command, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False)
    assert done.returncode == 0, done.stdout


def test_the_checks_pass():
    passes("./scripts/check")


@pytest.mark.long
def test_the_recipes_are_carried_out():
    passes(sys.executable, "scripts/recipes.py")
