"""What the documents name is there: commands inside sentences, files and folders, pictures."""

from __future__ import annotations

import argparse
import json
import re
import runpy
import shlex
from pathlib import Path

import pytest

from . import command_line

ROOT = Path(__file__).parents[2]
PAGES = sorted(page for page in (*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")) if page.name != "CHANGELOG.md")
"""What has changed once may speak of what is gone."""
PLACES = ("", "src/patient_ladle", "src/patient_ladle/core", "src/patient_ladle/service", "src/patient_ladle/adapters", "console",
          "console/src", "docs", "scripts", "tests")  # fmt: skip
"""Where a path that a document names begins; ARCHITECTURE.md speaks of rooms."""
NOT_OF_THE_TREE = {"keys/secrets.key", "keys/ledger.password", "config.toml", "inputs.toml", "outline.toml"}
"""Of a data directory, of a person, or made by the page itself."""
LEFT_OUT = ("…", "[", "|", "NOUN")
"""Signs of a shape rather than a command."""


def sentences(page):
    """Its text without blocks."""
    return re.sub(r"```.*?```", "", page.read_text(), flags=re.DOTALL)


def inline(page):
    return re.findall(r"`([^`\n]+)`", sentences(page))


def wrong_with(command):
    """What there is not of a command, in words; its own words may be left out, for a sentence names the rest."""
    here, words = command_line(), shlex.split(command.replace("NAME=VALUE", "a=b"))[1:]
    while words and (below := [each for each in here._actions if isinstance(each, argparse._SubParsersAction)]):
        if words[0] not in below[0].choices:
            return f"there is no '{words[0]}'"
        here = below[0].choices[words.pop(0)]
    known = here._option_string_actions
    strange = [word for word in words if word.startswith("--") and word.partition("=")[0] not in known]
    if strange:
        return f"it takes no {strange[0]}"
    most = [each for each in here._actions if not each.option_strings]
    given = [word for word in words if not word.startswith("-")]
    return "it takes no such words" if given and not most and not known else ""


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_command_in_a_sentence_is_one(page):
    commands = [word for word in inline(page) if word.startswith("ladle ") and not any(sign in word for sign in LEFT_OUT)]
    assert {each: wrong for each in commands if (wrong := wrong_with(each))} == {}


def test_what_is_no_command_is_seen():
    assert wrong_with("ladle schedule due-times NAME") == "there is no 'due-times'"
    assert wrong_with("ladle run start use --nowhere") == "it takes no --nowhere"
    assert wrong_with("ladle source edit NAME --secret-stdin") == ""


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_path_that_is_named_is_there(page):
    named = {
        path
        for word in inline(page)
        if "://" not in word and "$" not in word
        for path in re.findall(r"(?<![\w./<-])(?:[a-z][\w.-]*/)+[\w.-]*\w|\b[a-z][\w-]*\.(?:py|ts|tsx|sh|toml)\b", word)
    }
    files = {path.name for path in (ROOT / "src").rglob("*.py")}
    there = {path for path in named if path in files or any((ROOT / place / path).exists() for place in PLACES)}
    assert named - there - NOT_OF_THE_TREE == set()


def test_every_picture_is_known_to_what_draws_it(monkeypatch):
    monkeypatch.syspath_prepend(str(ROOT / "scripts"))
    drawn = runpy.run_path(str(ROOT / "scripts/screenshots.py"), run_name="drawing")
    known = {*drawn["PAGES"], *drawn["TERMINALS"], *drawn["WORKBOOKS"]}
    pictures = {path.stem for path in (ROOT / "docs/screenshots").glob("*.png")}
    assert pictures <= known
    assert {*json.loads((ROOT / "docs/screenshots/pages.json").read_text())} == pictures - {*drawn["TERMINALS"]}
