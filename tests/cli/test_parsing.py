"""What is typed wrongly, or in the words of other programs, gets the right command; every argument says what it is."""

from __future__ import annotations

import argparse
import json
import shlex

import pytest

from patient_ladle.cli.main import main
from patient_ladle.cli.parsing import Parser, verbs_of
from patient_ladle.cli.synonyms import COMMANDS, ELSEWHERE, OPTIONS, VERBS

from . import command_line


def commands():
    """Every command by its words."""
    nouns = verbs_of(command_line())
    return {
        f"{noun} {verb}".strip(): made
        for noun, parsed in nouns.items()
        for verb, made in (verbs_of(parsed) or {"": parsed}).items()
    }


ALL = commands()


def refused(capsys, *words):
    with pytest.raises(SystemExit) as ended:
        main(list(words))
    assert ended.value.code == 2
    return capsys.readouterr().err


@pytest.mark.parametrize(
    ("typed", "meant"),
    [
        ("login", "'ladle sign-in'"), ("logout", "'ladle sign-out'"), ("users", "'ladle user'"), ("people", "'ladle user list'"), ("export", "'ladle run start EXTRACT --into FOLDER'"),
        ("config", "'ladle sign-in --url URL'"), ("health", "'ladle status'"), ("delete", "'ladle extract archive NAME'"), ("extrat", "'ladle extract'"),
        ("schedules", "'ladle schedule'"), ("preview", "'ladle extract preview'"), ("frobnicate", "There is: sign-in, sign-out, status"),
        ("draft delete x", "'ladle draft drop'"), ("draft rm x", "'ladle draft drop'"), ("extract run x", "'ladle run start EXTRACT'"),
        ("extract start x", "'ladle run start EXTRACT'"), ("schedule start x", "'ladle schedule run'"), ("cancel 1", "'ladle run cancel NUMBER'"),
        ("get x", "'ladle result get NAME'"), ("describe t", "'ladle source browse NAME"), ("rollback x", "'ladle extract restore NAME"),
        ("approve 1", "'ladle run release NUMBER'"), ("alert add x", "'ladle channel add NAME KIND'"), ("run retry 12", "'ladle run again'"), ("run rerun 12", "'ladle run again'"), ("run download 12", "'ladle result get NAME'"),
        ("extract rename a b", "'ladle extract move'"), ("extract history a", "'ladle extract revisions'"), ("extract create a", "'ladle extract save'"),
        ("extract validate a", "'ladle extract check'"), ("source test a", "'ladle source check'"), ("schedule enable a", "'ladle schedule resume'"),
        ("schedule remvoe a", "'ladle schedule remove'"), ("schedule fly a", "There is: list, show, add"),
        ("run list --most 5", "'--limit'"), ("run start a --as csv", "'--formats'"), ("run start a --param x=1", "'--set'"),
        ("result get a --output b", "'--into'"), ("result get a --folder=b", "'--into='"), ("extract list --foldr a", "'--folder'"),
        ("sign-in --user rita", "give NAME as a word"), ("run show 1 2", "'2' is a word too many"), ("run list --weather", "There is: --help, --url"),
        ("user add lena --role admin", "--role was given 'admin'. Did you mean 'administrator'? Choose from: reader"),
        ("run show first", "NUMBER was given 'first', which is not a whole number"),
    ],
)  # fmt: skip
def test_the_right_word_is_proposed_and_the_help_of_that_very_command(capsys, typed, meant):
    said = refused(capsys, *typed.split())
    assert meant in said
    words = typed.split()
    own = next(
        (found for found in (" ".join(words[:2]), words[0]) if found in ALL),
        words[0] if words[0] in verbs_of(command_line()) else "",
    )
    assert f"See: ladle{' ' * bool(own)}{own} --help" in said


def test_a_program_gets_the_same_as_json(capsys):
    told = json.loads(refused(capsys, "run", "list", "--max", "5", "--json"))["error"]
    assert (told["code"], told["hint"], told["exit_status"]) == ("usage", "See: ladle run list --help", 2)
    assert told["message"] == "'--max' is not an option of 'ladle run list'. Did you mean '--limit'?"
    Parser.as_json = False


@pytest.mark.parametrize(("words", "meant"), sorted(ELSEWHERE.items()))
def test_another_nouns_verb_is_proposed(capsys, words, meant):
    assert f"Did you mean 'ladle {meant}'?" in refused(capsys, *words.split("-", 1), "x")


def test_whatever_is_proposed_exists():
    nouns = verbs_of(command_line())
    for meant in {*COMMANDS.values(), *ELSEWHERE.values()} - {"--version"}:
        words = [word for word in meant.split() if not word.isupper()]
        command = " ".join(words[:2]) if verbs_of(nouns[words[0]]) else words[0]
        options = {option for action in ALL[command]._actions for option in action.option_strings}
        assert {word for word in words if word.startswith("-")} <= options, meant
    assert {verb for meant in VERBS.values() for verb in meant} <= {command.split()[-1] for command in ALL}
    known = {option for command in ALL.values() for action in command._actions for option in action.option_strings} | {"NAME"}
    assert {option for meant in OPTIONS.values() for option in meant} <= known
    assert not {*COMMANDS} & {*nouns}
    for words in ELSEWHERE:
        noun, _, verb = words.partition("-")
        assert verb not in verbs_of(nouns[noun]), words


@pytest.mark.parametrize("command", sorted(ALL))
def test_every_argument_says_what_it_is_and_every_example_can_be_typed(command):
    made = ALL[command]
    assert [action.dest for action in made._actions if not action.help] == []
    assert made.description
    example = made.epilog.split("\n", 1)[1].strip()
    for line in example.splitlines():
        line = line.split("|")[-1].split(" > ")[0].split(" < ")[0].split("   (")[0]
        words = [word for word in shlex.split(line) if not word.startswith("LADLE_")]
        assert (words[0], " ".join(words[1 : 1 + len(command.split())])) == ("ladle", command)
        assert isinstance(command_line().parse_args(words[1:]), argparse.Namespace)
