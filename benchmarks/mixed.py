"""Hives as real tables are: two kinds of decimals, addresses, notes beyond ASCII; changes in one to three columns.

The same names as in `coop.py`, so that a benchmark can take either.
"""

import csv
from itertools import cycle, islice
from pathlib import Path

import numpy as np

COLUMNS = (
    "apiary_code", "hive_no", "queen_colour", "colony_strength", "honey_kg", "wax_kg", "last_inspected", "email", "notes",
)  # fmt: skip
CREATE = """CREATE TABLE hives (
    apiary_code VARCHAR(8) NOT NULL, hive_no INTEGER NOT NULL, queen_colour VARCHAR(10), colony_strength INTEGER,
    honey_kg DECIMAL(8, 2), wax_kg DECIMAL(9, 3), last_inspected DATE, email VARCHAR(40), notes TEXT,
    PRIMARY KEY (apiary_code, hive_no))"""
_HIVES_AN_APIARY = 100
_COLOURS = np.array(["white", "yellow", "red", "green", "blue"], object)
_NOTES = np.array(["Königin gezeichnet", "weiße Königin", "пчёлы спокойные", "seen, two frames", "蜂群强壮"], object)


def hives(start: int, count: int, seed: int) -> list[list]:
    """`count` rows of the hives from number `start`; a fifth of the notes are empty."""
    number = np.arange(start, start + count)
    codes = np.char.mod("A%05d", number // _HIVES_AN_APIARY).astype(object)
    columns = zip(*_values(np.random.default_rng(seed), count), strict=True)
    return [
        [code, hive, *row] for code, hive, row in zip(codes, (number % _HIVES_AN_APIARY).tolist(), columns, strict=True)
    ]


def make_incoming(path: Path, existing: list[list], count: int, new: float, changed: float, seed: int) -> None:
    """A CSV of `count` rows in random order: a share of new hives, a share changed in one to three columns."""
    random = np.random.default_rng(seed)
    fresh = hives(len(existing), int(count * new), seed)
    rows = [list(existing[at]) for at in random.choice(len(existing), count - len(fresh), replace=False)]
    touched = rows[: int(count * changed)]
    others = zip(*_values(random, len(touched)), strict=True)
    width = len(COLUMNS) - 2
    sets = [random.choice(width, 1 + size % 3, replace=False) for size in range(300)]  # all 63 sets of columns
    for row, values, chosen in zip(touched, others, islice(cycle(sets), len(touched)), strict=True):
        for at in chosen:
            row[2 + at] = values[at]
    rows += fresh
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(COLUMNS)
        writer.writerows(rows[at] for at in random.permutation(len(rows)))


def _values(random: np.random.Generator, count: int) -> list[list]:
    """The columns outside of the key."""
    keepers = random.integers(1, 50_000, count)
    notes = _NOTES[random.integers(0, len(_NOTES), count)] + np.char.mod(" %d", random.integers(0, 1000, count)).astype(
        object
    )
    notes[random.random(count) < 0.2] = None
    return [
        _COLOURS[random.integers(0, 5, count)].tolist(),
        random.integers(0, 20, count).tolist(),
        np.char.mod("%.2f", random.integers(0, 5000, count) / 100).tolist(),
        np.char.mod("%.3f", random.integers(0, 5000, count) / 1000).tolist(),
        (np.datetime64("2024-01-01") + random.integers(0, 900, count)).astype(str).tolist(),
        np.char.mod("keeper%d@bees.example", keepers).tolist(),
        notes.tolist(),
    ]
