"""Cases made by chance, the same for the same seed: tables, records, sheets and rules, with what goes wrong among them."""

import random
from typing import Any

from model.kinds import TYPES, Type
from model.naive import Case, Column

NAMES = ("Größe", 'we"ird', "select", "per cent %", "a b", "x;y", "日付", "n")
TEXTS = ("text", "code", "nocase")


def case(place: str, seed: int) -> Case:
    """The case of that number for a kind of target."""
    chance = random.Random(f"{place} {seed}")
    types = [kind for kind in TYPES if place in kind.names]
    keys = [kind for kind in types if kind.key]
    columns = [Column("k", chance.choice(keys), key=True, nullable=False)]
    if chance.random() < 0.3:
        columns.append(Column("K two", chance.choice(keys), key=True, nullable=False))
    names = list(NAMES)
    chance.shuffle(names)
    columns += [_column(chance, place, name, types, single=len(columns) == 1) for name in names[: chance.randint(1, 4)]]
    # SQLite does not take a record for its own parent where the letter case differs.
    refers = place in ("sqlite", "postgresql", "mariadb") and not (place == "sqlite" and columns[0].type.fold)
    if refers and len([c for c in columns if c.key]) == 1 and chance.random() < 0.25:
        columns.append(Column("parent", columns[0].type, parent=True))
    records = _records(chance, place, tuple(columns))
    rows = tuple(_row(chance, tuple(columns), records) for _ in range(chance.randint(0, 12)))
    rules, column_rules = _rules(chance, tuple(columns))
    if "absent" in rules and chance.random() < 0.8:  # a list that is full but for a few
        rows = tuple(("", "change", *map(spelled, record)) for record in records if chance.random() < 0.7) + rows[:1]
    sql = place in ("sqlite", "postgresql", "mariadb")
    computes, stamped = (sql and chance.random() < 0.2 for _ in range(2))
    return Case(place, tuple(columns), records, rows, rules, column_rules, computes, stamped)


def _column(chance: random.Random, place: str, name: str, types: list[Type], *, single: bool) -> Column:
    kind = chance.choice(types)
    sql = place in ("sqlite", "postgresql", "mariadb")
    nullable = not sql or chance.random() < 0.8
    # A text of no length can't be indexed on MariaDB, and JSON has no equality that all databases share.
    unique = sql and chance.random() < 0.3 and kind.name in ("int", "small", "code", "nocase", "day", "uuid", "money")
    most = 100 if sql and kind.name in ("int", "small") and not unique and chance.random() < 0.3 else None
    default = (
        kind.stored[0]
        if sql and not unique and kind.name in ("int", "small", "code", "money") and chance.random() < 0.3
        else None
    )
    return Column(name, kind, nullable=nullable, unique=unique, most=most, default=default)


def _records(chance: random.Random, place: str, columns: tuple[Column, ...]) -> tuple[tuple[Any, ...], ...]:
    """Records that break no constraint."""
    found: dict[Any, tuple[Any, ...]] = {}
    taken: dict[str, set[Any]] = {}
    for _ in range(chance.randint(0, 8)):
        record = [_stored(chance, column) for column in columns]
        if place in ("csv", "xlsx"):  # which have no empty texts
            record = [None if value == "" else value for value in record]
        for at, column in enumerate(columns):
            seen = taken.setdefault(column.name, set())
            if column.unique and _same(column, record[at]) in seen:
                record[at] = None
            if column.most is not None and record[at] is not None and record[at] > column.most:
                record[at] = 5
        key = tuple(_same(column, value) for column, value in zip(columns, record, strict=True) if column.key)
        if key in found or any(
            value is None and not column.nullable for column, value in zip(columns, record, strict=True)
        ):
            continue
        for at, column in enumerate(columns):
            if column.parent:
                parents = [r[0] for r in found.values()]
                record[at] = chance.choice(parents) if parents and chance.random() < 0.6 else None
            elif column.unique and record[at] is not None:
                taken[column.name].add(_same(column, record[at]))
        found[key] = tuple(record)
    return tuple(found.values())


def _same(column: Column, value: Any) -> Any:
    return value.lower() if column.type.fold and isinstance(value, str) else value


def _stored(chance: random.Random, column: Column) -> Any:
    if not column.key and column.nullable and chance.random() < 0.25:
        return None
    return chance.choice(column.type.stored)


def _row(chance: random.Random, columns: tuple[Column, ...], records: tuple[tuple[Any, ...], ...]) -> tuple[str, ...]:
    """A row of cells: often of a record that is there, with some cells as they are stored and some others."""
    known = chance.choice(records) if records and chance.random() < 0.6 else None
    cells = []
    for at, column in enumerate(columns):
        if known is not None and (column.key or chance.random() < 0.4) and chance.random() < 0.95:
            cell = spelled(known[at])
        elif column.parent and records and chance.random() < 0.7:
            cell = spelled(chance.choice(records)[0])
        else:
            cell = chance.choice(column.type.cells) if chance.random() < 0.85 else ""
        if chance.random() < 0.1:
            cell = chance.choice([" ", "\N{NO-BREAK SPACE}", "\t"]) + cell + " "
        if chance.random() < 0.06:
            cell = "-"
        cells.append(cell)
    act = chance.choice(["", "change", "change", "new", "ignore", "odd", "drop"])
    return ("skip" if chance.random() < 0.05 else "", act, *cells)


def spelled(value: Any) -> str:
    """A stored value as a sheet would have it."""
    import json

    if value is None:
        return ""
    if isinstance(value, tuple):
        return json.dumps(value[1], default=str).replace('"0.1"', "0.1")
    if isinstance(value, bytes):
        return value.hex()
    return str(value).lower() if isinstance(value, bool) else str(value)


def _rules(chance: random.Random, columns: tuple[Column, ...]) -> tuple[dict[str, Any], dict[str, dict[str, Any]]]:
    rules: dict[str, Any] = {}
    if chance.random() < 0.5:
        rules["blanks"] = chance.choice(["clear", "fill-only", "keep"])
    if chance.random() < 0.3:
        rules["clear_mark"] = "-"
    if chance.random() < 0.4:
        rules["same_key_twice"] = chance.choice(["first", "last"])
    if chance.random() < 0.2:
        values = {"new": "insert", "change": "update", "ignore": "skip", "drop": "remove"}
        rules["instruction"] = {"column": "act", "values": values, "blank": chance.choice(["reject", "skip", "load"])}
    if chance.random() < 0.25:
        rules["absent"] = "remove"
    ordered = [
        c.name
        for c in columns
        if not c.key and c.type.name in ("int", "count", "small", "money", "wide", "open", "day", "moment", "clock")
    ]
    for word in ("update_when", "insert_when"):
        if ordered and chance.random() < 0.15:
            rules[f"{word} of"] = chance.choice(ordered)
    for word in ("inserts", "updates"):
        if chance.random() < 0.1:
            rules[word] = False
    column_rules: dict[str, dict[str, Any]] = {}
    for column in columns:
        if column.key or chance.random() < 0.7:
            continue
        rule: dict[str, Any] = {}
        if chance.random() < 0.3:
            rule["blanks"] = chance.choice(["clear", "fill-only", "keep"])
        if chance.random() < 0.3:
            rule["only_on"] = chance.choice(["insert", "update"])
        if chance.random() < 0.4 and column.type.name in (
            "int",
            "count",
            "small",
            "money",
            "exact",
            "wide",
            "open",
            "day",
            "moment",
        ):
            rule["update_when"] = chance.choice(["empty", "greater"])
        elif chance.random() < 0.3 and column.type.name in ("text", "code"):
            rule["update_when"] = "empty"
        if chance.random() < 0.3 and column.type.name in ("int", "small", "money", "code") and not column.unique:
            rule["default"] = spelled(column.type.stored[0])
        column_rules[column.name] = rule
    return rules, column_rules
