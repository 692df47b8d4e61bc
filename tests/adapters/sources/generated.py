"""Texts made at random out of what databases cut in different ways, for judges to hold our cutting against theirs."""

from __future__ import annotations

import random
from collections.abc import Iterator

_INNER = ["a", " ", ":p", "?", "$1", "--", "#", "/*", "*/", "/", "*", "-", "\n", "\r\n", "\r", "''", '""', "``", "\\", "\\'", '\\"', "\\\\", "$$",
          "$a$", "é", "\u00a0", "€", ";", "[", "]", "x", "E'", "'", '"', "`", "\x01", "(", ")"]  # fmt: skip
_VALUES = ["1", "a", "-1", "+1", "1.5", "1e5", ".5", "1.", "0x1F", "null", "(1)", "(a)", "1-1", "1--1", "1*1", "t.a", "x'41'", "b'1'", "n", "e", "E",
           "u", "_a", "a1", "a=1", "1<2", "é", "1a", "1e", "1.e", "1.5e", "1.e'", "1.5e-'", ".5e+", "1E'", "f(1)", "abs (1)", "a is null", "not a",
           "a in (1, 2)", "a || 'b'", "a|b", "a&b", "~1", "a%b", "a/b", "count(*)", "1 as b", "case when 1 = 1 then 2 end", "cast(1 as char)"]  # fmt: skip
_OWN = {
    "postgresql": ["a[1]", "a[1:2]", "a[n:m]", "array[1,:p]", "a::int", "1::text", "a ->> 'x'", "a @> b", "a #> b", "a ? 'b'", "b := 1", "date '2020-01-01'",
                   "interval '1' day", "1^2", "a$", "a$b", "E'\\''", "é$$", "$é$ ' $é$", "$€$ ' $€$", "*/*", "+--", "1 -- :p\r"],
    "mariadb": ["@a", "@@version", "@'x'", "@x:=1", "a <=> b", "a -> 'x'", "{d '2020-01-01'}", "date '2020-01-01'", "interval 1 day", "N'x'", "_utf8'x'",
                "_latin1 'x'", "1 collate utf8mb4_bin", "\\N", "`a``b`", "!1", "1^2", "/*+ c */1", "--\t'\n1", "--1", "- -1"],
    "sqlite": ["[a b]", "[a", "a ->> 'x'", "a glob 'b'", "a collate nocase", "`a``b`", "@a", "$a", "#1", "x'", "a isnull", "1 == 1", "a::b", ":p(x)"],
    "duckdb": ["a[1]", "a[1:2]", "a[n:m]", "[1,2]", "[:p]", "{'a': 1}", "{'a':b}", "{a: 1}", "a::int", "b := 1", "date '2020-01-01'", "interval '1' day", "#1",
               "$é$ ' $é$", "1_000", "x -> x + 1", "E'\\''", "a$b", "1^2", "@a", "'abc'[1:2]", "'abc'[:n]", "1 \u00a0 2"],
}  # fmt: skip
_PREFIXES = {
    "postgresql": ["'", "'", "'", "E'", "e'", "N'", "x'", "b'", "U&'", "u&'", "$$", "$a$", '"', 'U&"'],
    "mariadb": ["'", "'", "'", "N'", "x'", "b'", "_utf8'", "_latin1'", '"', '"', "`"],
    "sqlite": ["'", "'", "'", "x'", '"', '"', "`", "["],
    "duckdb": ["'", "'", "'", "E'", "e'", "x'", "b'", "U&'", "$$", "$a$", '"'],
}
_CLOSES = {"[": "]", "$$": "$$", "$a$": "$a$"}
_GAPS = ["", " ", " ", " ", " ", "\n", "\t", "\r\n", "-- c\n", "--\n", "--c\n", "# c\n", "/* c */", "/**/", "/*/ c */", "/* a /* b */ */", "-- '\n",
         '# "\n', "/* ' */", "-- :p\n", "/*! 1 */", "\r", "\x0c", "\x0b", "\u00a0", "--\x01 c\n", "--\t'\n", "-- it's\r\n", "--\u00a0'\n", "/*:p*/", "-- c\r"]  # fmt: skip
_RARE = {"\r", "\x0c", "\x0b", "\u00a0", "/*! 1 */", "--\x01 c\n", "--\u00a0'\n", "-- c\r", "/* a /* b */ */", "# c\n", '# "\n'}
_JOINS = [",", ",", ",", ",", ",", "||", "-", "+", "/", "*", "=", ""]


def _quoted(pick: random.Random, dialect: str) -> str:
    begin = pick.choice(_PREFIXES[dialect])
    inner = "".join(pick.choice(_INNER) for _ in range(pick.randint(0, 5)))
    return begin + inner + _CLOSES.get(begin, begin[-1])


def _item(pick: random.Random, dialect: str) -> str:
    chance = pick.random()
    if chance < 0.3:
        return ":p"
    if chance < 0.6:
        return _quoted(pick, dialect)
    return pick.choice(_VALUES if chance < 0.85 else _OWN[dialect])


def _gap(pick: random.Random) -> str:
    made = [pick.choice(_GAPS) for _ in range(pick.choice([1, 1, 1, 2]))]
    return "".join(" " if gap in _RARE and pick.random() < 0.7 else gap for gap in made)


def texts(dialect: str, seed: int) -> Iterator[str]:
    """Without end, the same for the same seed: most of them near to what the database takes, some a slip away from it."""
    pick = random.Random(f"{dialect} {seed}")
    while True:
        parts = ["select "]
        for number in range(pick.randint(1, 4)):
            if number:
                parts += [pick.choice(_JOINS), _gap(pick)]
            parts += [_item(pick, dialect), _gap(pick)]
        parts.append(pick.choice(["", "", " ", " from t", " -- end", ";", ", :p", " /* :p */", "\n, :p --'"]))
        text = "".join(parts)
        if pick.random() < 0.2 and len(text) > 9:
            at = pick.randrange(7, len(text))
            text = text[:at] + pick.choice(["", pick.choice(_INNER), text[at], "'", "\\"]) + text[at + pick.randint(0, 1) :]
        yield text
