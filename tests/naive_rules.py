"""The naive model once more, with a job's rules: what each is meant to do, row by row."""

from collections import Counter
from decimal import Decimal

from naive import BAD, _convert, _number, _tidy

CLEARED = "-"


def load(sheet, table, rules):
    """Outcomes by name, and the table afterwards as key to (kg, seen, note)."""
    records = {(code, number): (_number(kg), seen, note) for code, number, kg, seen, note, _ in table}
    rows, outcomes = [], Counter()
    for row in sheet:
        if not any(_tidy(cell) for cell in row):
            continue
        if rules["skip"] and _tidy(row[0]) == "L02":
            outcomes["skipped"] += 1
        else:
            rows.append(convert(row, rules))
    groups: dict[tuple, list] = {}
    for at, (values, cleared) in enumerate(rows):
        keyed = BAD not in values[:2] and None not in values[:2]
        groups.setdefault(values[:2] if keyed else at, []).append((values, cleared))
    for key, group in groups.items():
        if isinstance(key, int):
            outcomes["rejected"] += 1
            continue
        for values, cleared, outcome in settle(group, rules):
            outcomes[outcome or apply(records, key, values[2:], cleared, rules)] += 1
    return outcomes, records


def convert(row, rules):
    cells = list(row)
    cleared = rules["clear"] and _tidy(cells[4]) == CLEARED
    if cleared:
        cells[4] = ""
    if rules["map"] and _tidy(cells[4]) == "calm":
        cells[4] = "quiet"
    return _convert(tuple(cells)), cleared


def settle(group, rules):
    """Each row of one key with the outcome that the others cause, or None where it may go on."""
    good = [BAD not in values for values, _ in group]
    numbers = [at for at, fine in enumerate(good) if fine]
    alike = len({(str(group[at][0]), group[at][1]) for at in numbers}) <= 1
    if alike or rules["twice"] == "first":
        best, others = numbers[:1], "skipped"
    elif rules["twice"] == "last":
        best, others = numbers[-1:], "skipped"
    elif rules["twice"] == "greatest":
        most = max((group[at][0][2] for at in numbers if group[at][0][2] is not None), default=None)
        best, others = [at for at in numbers if group[at][0][2] == most], "skipped"
    else:
        best, others = numbers, "rejected"
    return [
        (*row, "rejected" if not good[at] or (at in best and len(best) > 1) else None if at in best else others)
        for at, row in enumerate(group)
    ]


def apply(records, key, values, cleared, rules):
    if key not in records:
        kg = Decimal("1.5") if values[0] is None and rules["default"] else values[0]
        if not rules["inserts"] or (rules["insert_when"] and kg is None):
            return "skipped"
        records[key] = (kg, values[1], None if rules["only_on"] == "update" else values[2])
        return "inserted"
    old = records[key]
    if values[0] is None and rules["default"] and rules["blanks"] == "clear":
        values = (Decimal("1.5"), *values[1:])
    new = tuple(changed(at, old[at], values[at], cleared and at == 2, rules) for at in range(3))
    if new == old or (rules["only_on"] == "update" and new[:2] == old[:2]):
        free = rules | {"kg_when": None, "blanks": "keep" if rules["blanks"] == "fill-only" else rules["blanks"]}
        compared = range(2 if rules["only_on"] == "update" else 3)
        said = [changed(at, old[at], values[at], cleared and at == 2, free) for at in compared]
        return "skipped" if said != list(old[: len(said)]) else "unchanged"
    later = values[1] is not None and old[1] is not None and values[1] >= old[1]
    if not rules["updates"] or (rules["update_when"] and not later):
        return "skipped"
    records[key] = new
    return "updated"


def changed(at, old, new, cleared, rules):
    """The value of one column afterwards."""
    if at == 2 and rules["only_on"] == "insert":
        return old
    if rules["blanks"] == "fill-only" and old is not None and not cleared:
        return old
    if new is None and rules["blanks"] != "clear" and not cleared:
        return old
    if at == 0 and rules["kg_when"] == "empty" and old is not None:
        return old
    if at == 0 and rules["kg_when"] == "greater" and old is not None and not (new is not None and new > old):
        return old
    return new
