"""Made-up hives for the benchmarks: a table in SQLite and CSV files of rows to load into it."""

import csv
import sqlite3
from pathlib import Path

import numpy as np

COLUMNS = (
    "apiary_code", "hive_no", "queen_colour", "colony_strength", "honey_kg", "last_inspected", "keeper_id", "notes",
)  # fmt: skip
CREATE = """CREATE TABLE hives (
    apiary_code VARCHAR(8) NOT NULL, hive_no INTEGER NOT NULL, queen_colour VARCHAR(10), colony_strength INTEGER,
    honey_kg DECIMAL(8, 2), last_inspected DATE, keeper_id INTEGER, notes TEXT, PRIMARY KEY (apiary_code, hive_no))"""
_HIVES_AN_APIARY = 100
_COLOURS = np.array(["white", "yellow", "red", "green", "blue"], object)


def hives(start: int, count: int, seed: int) -> list[list]:
    """`count` rows of the hives from number `start`, a fifth of the values outside the key empty."""
    random = np.random.default_rng(seed)
    number = np.arange(start, start + count)
    values = [
        _COLOURS[random.integers(0, 5, count)],
        random.integers(0, 20, count).astype(object),
        np.char.mod("%.2f", random.integers(0, 5000, count) / 100).astype(object),
        (np.datetime64("2024-01-01") + random.integers(0, 900, count)).astype(str).astype(object),
        random.integers(1, 5000, count).astype(object),
        np.char.add("seen ", random.integers(0, 100_000, count).astype(str)).astype(object),
    ]
    for column in values:
        column[random.random(count) < 0.2] = None
    codes = np.char.mod("A%05d", number // _HIVES_AN_APIARY).astype(object)
    return [list(row) for row in zip(codes, (number % _HIVES_AN_APIARY).tolist(), *values, strict=True)]


def make_database(path: Path, existing: list[list], create: str = CREATE) -> None:
    """A fresh SQLite file whose `hives` holds the rows."""
    path.unlink(missing_ok=True)
    connection = sqlite3.connect(path)
    connection.execute(create)
    connection.executemany(f"INSERT INTO hives VALUES ({','.join('?' * len(existing[0]))})", existing)
    connection.commit()
    connection.close()


def make_incoming(path: Path, existing: list[list], count: int, new: float, changed: float, seed: int) -> None:
    """A CSV of `count` rows in random order: a share of new hives, a share with one field changed, the rest equal."""
    random = np.random.default_rng(seed)
    fresh = hives(len(existing), int(count * new), seed)
    rows = [list(existing[at]) for at in random.choice(len(existing), count - len(fresh), replace=False)]
    for row in rows[: int(count * changed)]:
        if random.random() < 0.8:
            row[4] = f"{random.integers(5000, 9000) / 100:.2f}"
        else:
            row[7] = f"moved {random.integers(0, 1000)}"
    rows += fresh
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(COLUMNS)
        writer.writerows(rows[at] for at in random.permutation(len(rows)))
