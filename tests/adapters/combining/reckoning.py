"""Steps carried out slowly, row after row, by someone who knows nothing of SQL: what the combining engine is held against.

A table is a list of columns (name, kind) and a list of rows of Python values; a step is its declaration as plain data, beside
it the Python of its expressions.
"""

from __future__ import annotations

from decimal import Decimal
from itertools import pairwise


class Clash(Exception):
    """Two values would be columns of one name."""


class Table:
    def __init__(self, names, rows):
        self.names, self.rows = list(names), [list(row) for row in rows]

    def place(self, name):
        return self.names.index(name)

    def column(self, name):
        return [row[self.place(name)] for row in self.rows]

    def records(self):
        return [dict(zip(self.names, row, strict=True)) for row in self.rows]

    def with_column(self, name, values):
        return Table([*self.names, name], [[*row, value] for row, value in zip(self.rows, values, strict=True)])


def ranked(value):
    """As rows are ordered: texts by code point, numbers by value."""
    return value.encode() if isinstance(value, str) else value


def ordered(table, order, within=()):
    """Groups by ``within``, each as the places of its rows in the order asked for; null last, ties as they come."""
    groups = {}
    for place, record in enumerate(table.records()):
        groups.setdefault(tuple(record[name] for name in within), []).append(place)
    for places in groups.values():
        for by in reversed([each if isinstance(each, dict) else {"column": each} for each in order]):
            values = table.column(by["column"])
            some = sorted([p for p in places if values[p] is not None], key=lambda p: ranked(values[p]))
            if by.get("descending"):  # equal ones stay in the order in which they came
                some = sorted([p for p in places if values[p] is not None], key=lambda p: ranked(values[p]), reverse=True)
            places[:] = some + [p for p in places if values[p] is None]
    return groups


def total(values):
    some = [value for value in values if value is not None]
    return sum(some[1:], some[0]) if some else None


AGGREGATES = {
    "sum": total,
    "count": lambda values: sum(value is not None for value in values),
    "min": lambda values: min((v for v in values if v is not None), default=None, key=ranked),
    "max": lambda values: max((v for v in values if v is not None), default=None, key=ranked),
}


def do(step, table, python, lookups):
    return globals()[f"_{step['step']}"](step, table, python, lookups)


def _filter(step, table, python, lookups):
    return Table(
        table.names, [r for r, record in zip(table.rows, table.records(), strict=True) if python[step["where"]](record)]
    )


def _compute(step, table, python, lookups):
    return table.with_column(step["column"], [python[step["as"]](record) for record in table.records()])


def _group(step, table, python, lookups):
    groups = ordered(table, [], step["by"]) if step["by"] else {(): list(range(len(table.rows)))}
    records, rows = table.records(), []
    for key, places in groups.items():
        rows.append([*key, *(python[text]([records[p] for p in places]) for text in step["columns"].values())])
    return Table([*step["by"], *step["columns"]], rows)


def _share_of_total(step, table, python, lookups):
    values, made = table.column(step["of"]), [None] * len(table.rows)
    for places in ordered(table, [], step.get("within", ())).values():
        whole = total([values[p] for p in places])
        for p in places:
            made[p] = float(values[p]) / float(whole) if values[p] is not None and whole else None
    return table.with_column(step["column"], made)


def _running_total(step, table, python, lookups):
    values, made = table.column(step["of"]), [None] * len(table.rows)
    for places in ordered(table, step.get("order", ()), step.get("within", ())).values():
        for count, p in enumerate(places, 1):
            made[p] = total([values[each] for each in places[:count]])
    return table.with_column(step["column"], made)


def _difference(step, table, python, lookups):
    values, made = table.column(step["of"]), [None] * len(table.rows)
    for places in ordered(table, step.get("order", ()), step.get("within", ())).values():
        for before, p in pairwise(places):
            made[p] = None if None in (values[before], values[p]) else values[p] - values[before]
    return table.with_column(step["column"], made)


def _rank(step, table, python, lookups):
    made = [None] * len(table.rows)
    names = [each["column"] if isinstance(each, dict) else each for each in step["order"]]
    keys = list(zip(*(table.column(name) for name in names), strict=True))
    for places in ordered(table, step["order"], step.get("within", ())).values():
        dense = 0
        for count, p in enumerate(places, 1):
            new = count == 1 or keys[places[count - 2]] != keys[p]
            dense += new
            shared = count if new else made[places[count - 2]]
            made[p] = {"gaps": shared, "dense": dense, "none": count}[step.get("ties", "gaps")]
    return table.with_column(step["column"], made)


def _first_rows(step, table, python, lookups):
    kept = {
        p for places in ordered(table, step.get("order", ()), step.get("within", ())).values() for p in places[: step["rows"]]
    }
    return Table(table.names, [row for p, row in enumerate(table.rows) if p in kept])


def _sort(step, table, python, lookups):
    places = ordered(table, step["order"]).get((), [])
    return Table(table.names, [table.rows[p] for p in places])


def _drop_duplicates(step, table, python, lookups):
    by = step.get("by") or table.names
    which = 0 if step.get("keep", "first") == "first" else -1
    kept = {places[which] for places in ordered(table, step.get("order", ()), by).values()}
    return Table(table.names, [row for p, row in enumerate(table.rows) if p in kept])


def _fill_nulls(step, table, python, lookups):
    made = Table(table.names, table.rows)
    for name in step["columns"]:
        place = made.place(name)
        for places in ordered(table, step.get("order", ()), step.get("within", ())).values():
            last = step.get("value")
            for p in places:
                if made.rows[p][place] is None:
                    made.rows[p][place] = last
                elif "value" not in step:
                    last = made.rows[p][place]
    return made


def _rows_to_columns(step, table, python, lookups):
    names, values = table.column(step["names"]), table.column(step["values"])
    rows = step.get("rows") or [n for n in table.names if n not in (step["names"], step["values"])]
    found = step.get("known") or sorted({n for n in names if n is not None}, key=ranked) + ([None] if None in names else [])
    call = AGGREGATES[step.get("aggregate", "sum")]

    def cells(places):
        made = [call([values[p] for p in places if names[p] == name]) for name in found]
        return made + ([call([values[p] for p in places])] if step.get("column_total") else [])

    groups = ordered(table, [], rows) if rows else ({(): list(range(len(table.rows)))})
    made = [[*key, *cells(places)] for key, places in groups.items()]
    if step.get("row_total") and table.rows:
        made.append([step["row_total"], *[None] * (len(rows) - 1), *cells(range(len(table.rows)))])
    titles = ["null" if n is None else str(n) if n != "" else "empty" for n in found]
    if len({title.lower() for title in titles}) < len(titles):
        raise Clash
    return Table([*rows, *titles, *([step["column_total"]] if step.get("column_total") else [])], made)


def _columns_to_rows(step, table, python, lookups):
    kept = [n for n in table.names if n not in step["columns"]]
    made = [
        [*(record[n] for n in kept), name, record[name]]
        for record in table.records()
        for name in step["columns"]
        if step.get("keep_nulls", True) or record[name] is not None
    ]
    return Table([*kept, step["name_column"], step["value_column"]], made)


def _look_up(step, table, python, lookups):
    other = lookups[step["lookup"]]
    known = {tuple(record[n] for n in step["on"].values()): record for record in other.records()}
    rows = []
    for row, record in zip(table.rows, table.records(), strict=True):
        found = known.get(tuple(record[n] for n in step["on"]))
        if found is not None or step.get("missing", "null") != "drop":
            rows.append([*row, *(found and found[n] for n in step["columns"].values())])
    return Table([*table.names, *step["columns"]], rows)


def _split(step, table, python, lookups):
    place, count = table.place(step["column"]), len(step["into"])
    names = [n for n in table.names if n != step["column"] or step.get("keep")]
    at = names.index(step["column"]) + 1 if step.get("keep") else place
    rows = []
    for row in table.rows:
        parts = [] if row[place] is None else row[place].split(step["at"], count - 1)
        rest = [v for p, v in enumerate(row) if p != place or step.get("keep")]
        rows.append([*rest[:at], *parts, *[None] * (count - len(parts)), *rest[at:]])
    return Table([*names[:at], *step["into"], *names[at:]], rows)


def _replace_values(step, table, python, lookups):
    known = {pair["from"]: pair["to"] for pair in step["values"]}
    made = Table(table.names, table.rows)
    for row in made.rows:
        value = row[made.place(step["column"])]
        row[made.place(step["column"])] = known.get(value, value if step.get("others", "keep") == "keep" else None)
    return made


def _change_kind(step, table, python, lookups):
    def changed(value):
        if value is None or step["kind"] == "text":
            return None if value is None else str(value)
        text = str(value)
        if step["kind"] == "integer":
            whole = text.partition(".")
            return int(whole[0]) if whole[0].lstrip("-").isdecimal() and not whole[2].strip("0") else None
        return Decimal(text) if text.lstrip("-").replace(".", "", 1).isdecimal() else None

    made = Table(table.names, table.rows)
    for row in made.rows:
        row[made.place(step["column"])] = changed(row[made.place(step["column"])])
    return made


def _rename(step, table, python, lookups):
    return Table([step["columns"].get(name, name) for name in table.names], table.rows)


def _reorder(step, table, python, lookups):
    names = [*step["columns"], *(n for n in table.names if n not in step["columns"])]
    return Table(names, [[record[n] for n in names] for record in table.records()])


def _drop(step, table, python, lookups):
    names = [n for n in table.names if n not in step["columns"]]
    return Table(names, [[record[n] for n in names] for record in table.records()])
