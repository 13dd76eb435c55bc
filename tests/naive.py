"""The meaning of a load, written once more, row by row and as plainly as can be, to hold the real one against.

It knows one table: code TEXT, no INTEGER (the key), kg DECIMAL(8,2), seen DATE, note VARCHAR(10), other (not loaded).
"""

import re
import unicodedata
from collections import Counter
from datetime import date
from decimal import Decimal, InvalidOperation

BAD = object()


def load(sheet: list[tuple], table: list[tuple]) -> tuple[Counter, dict[tuple, tuple]]:
    """The outcomes of the sheet's rows by name, and the table afterwards as key to (kg, seen, note)."""
    records = {(code, number): (_number(kg), seen, note) for code, number, kg, seen, note, _ in table}
    rows = [_convert(row) for row in sheet if any(_tidy(cell) for cell in row)]
    by_key: dict[tuple, list[tuple]] = {}
    for row in rows:
        if BAD not in row and None not in row[:2]:
            by_key.setdefault(row[:2], []).append(row)
    outcomes: Counter = Counter()
    seen_keys = set()
    for row in rows:
        key = row[:2]
        twins = by_key.get(key, [])
        if None in key or BAD in row or len({str(twin) for twin in twins}) > 1:
            outcomes["rejected"] += 1
        elif key in seen_keys:
            outcomes["skipped"] += 1
        else:
            seen_keys.add(key)
            outcomes[_apply(records, key, row[2:])] += 1
    return outcomes, records


def _apply(records: dict, key: tuple, values: tuple) -> str:
    if key not in records:
        records[key] = values
        return "inserted"
    old = records[key]
    new = tuple(before if value is None else value for before, value in zip(old, values, strict=True))
    records[key] = new
    return "unchanged" if new == old else "updated"


def _tidy(cell: str) -> str:
    return unicodedata.normalize("NFC", cell.strip())


def _convert(row: tuple) -> tuple:
    code, number, kg, seen, note = (_tidy(cell) or None for cell in row)
    return (
        code,
        None if number is None else int(number),
        None if kg is None else _decimal(kg),
        None if seen is None else _date(seen),
        BAD if note is not None and len(note) > 10 else note,
    )


def _decimal(text: str) -> object:
    if not re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)", text):
        return BAD
    value = Decimal(text)
    return BAD if value != round(value, 2) or abs(value) >= 10**6 else value


def _date(text: str) -> object:
    try:
        return date.fromisoformat(text.removesuffix(" 00:00:00")).isoformat() if text[4] == "-" else BAD
    except ValueError:
        return BAD


def _number(value: object) -> object:
    try:
        return None if value is None else Decimal(str(value))
    except InvalidOperation:
        return value
