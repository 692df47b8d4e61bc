"""Small tables and chains of steps at random, each expression with the Python that says what it means."""

from __future__ import annotations

from decimal import Decimal

from .reckoning import Table, total

TEXTS = ["a", "b", "B", "a-b", "a-b-c", "", "é", "zz", "-", None, None]
INTEGERS = [0, 1, 1, 2, -3, 7, None]
DECIMALS = [Decimal("1.50"), Decimal("-2.25"), Decimal("0.00"), Decimal("1.50"), Decimal("99.99"), None]
CODES = Table(["code", "title", "weight"], [["a", "Alder", 1], ["b", "Birch", None], ["é", None, 3], ["zz", "Zander", 4]])
NUMBERS = Table(["n", "title"], [[0, "none"], [1, "one"], [7, "seven"]])
LOOKUPS = {"codes": CODES, "numbers": NUMBERS}


def table(random):
    """Two columns of texts, two of whole numbers, one of decimals."""
    kinds = {"g": "text", "h": "text", "n": "integer", "m": "integer", "d": "decimal"}
    values = {"text": TEXTS, "integer": INTEGERS, "decimal": DECIMALS}
    rows = [[random.choice(values[kind]) for kind in kinds.values()] for _ in range(random.randrange(0, 14))]
    return kinds, Table(kinds, rows)


def _expressions(kinds):
    """SQL, kind, Python, for the columns that are there."""
    for name, kind in kinds.items():
        q = f'"{name}"'
        yield f"{q} is null", "boolean", lambda r, n=name: r[n] is None
        if kind in ("integer", "decimal"):
            yield f"{q} > 1", "boolean", lambda r, n=name: r[n] is not None and r[n] > 1
            yield f"{q} * 2", kind, lambda r, n=name: None if r[n] is None else r[n] * 2
            yield f"coalesce({q}, 0) + 1", kind, lambda r, n=name: (r[n] or 0) + 1
            yield (
                f"case when {q} between 0 and 2 then 'low' end",
                "text",
                lambda r, n=name: "low" if r[n] is not None and 0 <= r[n] <= 2 else None,
            )
        if kind == "text":
            yield (
                f"{q} in ('a', 'zz') or {q} like 'b%'",
                "boolean",
                lambda r, n=name: r[n] is not None and (r[n] in ("a", "zz") or r[n].startswith("b")),
            )
            yield f"upper({q}) || '!'", "text", lambda r, n=name: None if r[n] is None else r[n].upper() + "!"
            yield f"length({q})", "integer", lambda r, n=name: None if r[n] is None else len(r[n])


def _aggregates(kinds):
    yield "count(*)", "integer", len
    for name, kind in kinds.items():
        yield f'count("{name}")', "integer", lambda rows, n=name: sum(r[n] is not None for r in rows)
        yield f'count(distinct "{name}")', "integer", lambda rows, n=name: len({r[n] for r in rows} - {None})
        if kind in ("integer", "decimal"):
            yield f'sum("{name}")', kind, lambda rows, n=name: total([r[n] for r in rows])
            yield (
                f'max("{name}") filter (where "{name}" < 5)',
                kind,
                lambda rows, n=name: max((r[n] for r in rows if r[n] is not None and r[n] < 5), default=None),
            )


class Chain:
    """Steps drawn one after the other; each fits the columns that the ones before leave."""

    def __init__(self, random, kinds):
        self.random, self.kinds, self.steps, self.python, self.count = random, dict(kinds), [], {}, 0
        for _ in range(random.randrange(1, 6)):
            self.add(random.choice(sorted(MAKERS)))

    def new(self):
        self.count += 1
        return f"c{self.count}"

    def of(self, *kinds):
        """The name of a column of such a kind; None where there is none."""
        found = [name for name, kind in self.kinds.items() if kind in kinds]
        return self.random.choice(found) if found else None

    def some(self, least=0, most=2):
        names = list(self.kinds)
        return self.random.sample(names, min(len(names), self.random.randint(least, most)))

    def order(self, least=0):
        return [
            name if self.random.random() < 0.5 else {"column": name, "descending": self.random.random() < 0.7}
            for name in self.some(least, 2)
        ]

    def add(self, kind):
        made = MAKERS[kind](self)
        if made is not None:
            self.steps.append({"step": kind, **made})

    def expression(self, source, kinds=None):
        found = [each for each in source(self.kinds) if kinds is None or each[1] in kinds]
        text, kind, python = self.random.choice(found)
        self.python[text] = python
        return text, kind


def _filter(c):
    return {"where": c.expression(_expressions, ("boolean",))[0]}


def _compute(c):
    text, kind = (
        c.expression(_expressions, ("integer", "decimal", "text")) if c.of("integer", "decimal", "text") else (None, None)
    )
    name = c.new()
    c.kinds |= {name: kind}
    return {"column": name, "as": text}


def _group(c):
    by = c.some(0, 2)
    columns = {c.new(): c.expression(_aggregates) for _ in range(c.random.randint(1, 2))}
    c.kinds = {name: c.kinds[name] for name in by} | {name: kind for name, (_, kind) in columns.items()}
    return {"by": by, "columns": {name: text for name, (text, _) in columns.items()}}


def _over(kind):
    def made(c):
        of = c.of("integer", "decimal")
        if of is None:
            return None
        step = {"of": of, "column": c.new(), "within": c.some(0, 1)} | ({} if kind == "float" else {"order": c.order()})
        c.kinds |= {step["column"]: c.kinds[of] if kind == "same" else kind}
        return step

    return made


def _rank(c):
    step = {"column": c.new(), "order": c.order(1), "within": c.some(0, 1), "ties": c.random.choice(["gaps", "dense", "none"])}
    c.kinds |= {step["column"]: "integer"}
    return step


def _fill(c):
    name = c.of("integer", "text", "decimal")
    if name is None:
        return None
    value = {"integer": 5, "text": "none", "decimal": "0.25"}[c.kinds[name]]
    if c.random.random() < 0.5 and c.kinds[name] != "decimal":
        return {"columns": [name], "value": value}
    return {"columns": [name], "within": c.some(0, 1), "order": c.order()}


def _across(c):
    names, values = c.of("text", "integer"), c.of("integer", "decimal")
    if names is None or values is None or names == values:
        return None
    rows = [n for n in c.some(1, 2) if n not in (names, values)]
    text = next((n for n in rows if c.kinds[n] == "text"), None)
    if not rows:
        return None
    rows.sort(key=lambda n: n != text)
    aggregate = c.random.choice(["sum", "count", "min", "max"])
    known = {"text": ["a", "zz", "nowhere"], "integer": [7, 0]}[c.kinds[names]] if c.random.random() < 0.4 else []
    c.kinds, before = {n: c.kinds[n] for n in rows}, c.kinds  # what is found, later steps do not know
    kind = "integer" if aggregate == "count" else before[values]
    step = {"names": names, "values": values, "rows": rows, "aggregate": aggregate}
    if known:
        step["known"] = known
        c.kinds |= {str(value): kind for value in known}
    if c.random.random() < 0.5:
        step["column_total"] = c.new()
        c.kinds |= {step["column_total"]: kind}
    return step | ({"row_total": "Total"} if text and c.random.random() < 0.5 else {})


def _down(c):
    name = c.of("integer", "text", "decimal")
    alike = [n for n, kind in c.kinds.items() if kind == c.kinds.get(name)]
    if name is None or len(c.kinds) == len(alike):
        return None
    columns = c.random.sample(alike, min(len(alike), 2))
    step = {"columns": columns, "name_column": c.new(), "value_column": c.new(), "keep_nulls": c.random.random() < 0.5}
    kind = c.kinds[name]
    c.kinds = {n: k for n, k in c.kinds.items() if n not in columns} | {step["name_column"]: "text", step["value_column"]: kind}
    return step


def _look_up(c):
    lookup = c.random.choice(["codes", "numbers"])
    ours = c.of("text" if lookup == "codes" else "integer")
    if ours is None:
        return None
    name = c.new()
    c.kinds |= {name: "text"}
    key = "code" if lookup == "codes" else "n"
    return {"lookup": lookup, "on": {ours: key}, "columns": {name: "title"}, "missing": c.random.choice(["null", "drop"])}


def _split(c):
    name = c.of("text")
    if name is None:
        return None
    into, keep = [c.new(), c.new()], c.random.random() < 0.5
    c.kinds = {n: k for n, k in c.kinds.items() if n != name or keep} | dict.fromkeys(into, "text")
    return {"column": name, "at": "-", "into": into, "keep": keep}


def _replace(c):
    name = c.of("text", "integer")
    if name is None:
        return None
    values = [{"from": "a", "to": "Alpha"}, {"from": "zz", "to": None}] if c.kinds[name] == "text" else [{"from": 1, "to": 100}]
    return {"column": name, "values": values, "others": c.random.choice(["keep", "null"])}


def _change(c):
    name = c.of("integer", "text")
    if name is None:
        return None
    kind = "text" if c.kinds[name] == "integer" else "integer"
    c.kinds[name] = kind
    return {"column": name, "kind": kind, "unfit": "null"}


def _rename(c):
    name, new = c.random.choice(list(c.kinds)), c.new()
    c.kinds = {new if n == name else n: kind for n, kind in c.kinds.items()}
    return {"columns": {name: new}}


def _drop(c):
    gone = c.some(1, 1)
    if len(c.kinds) < 2:
        return None
    c.kinds = {n: kind for n, kind in c.kinds.items() if n not in gone}
    return {"columns": gone}


MAKERS = {
    "filter": _filter, "compute": _compute, "group": _group, "share_of_total": _over("float"), "running_total": _over("same"),
    "difference": _over("same"), "rank": _rank, "fill_nulls": _fill, "rows_to_columns": _across, "columns_to_rows": _down,
    "first_rows": lambda c: {"rows": c.random.randint(1, 3), "within": c.some(0, 1), "order": c.order()},
    "sort": lambda c: {"order": c.order(1)},
    "drop_duplicates": lambda c: {"by": c.some(0, 2), "keep": c.random.choice(["first", "last"]), "order": c.order()},
    "look_up": _look_up, "split": _split, "replace_values": _replace, "change_kind": _change, "rename": _rename,
    "reorder": lambda c: {"columns": c.some(1, 2)}, "drop": _drop,
}  # fmt: skip
