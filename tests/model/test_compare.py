"""Two tables made by chance, of any two kinds, compared side by side: against what plain Python says of the same rows."""

import datetime as dt
import json
import random
import sqlite3
from contextlib import closing
from decimal import Decimal
from itertools import product

import pyarrow as pa
import pytest
from pyarrow import feather, parquet

from chance import PARTS
from conftest import sheet, text_file

pytestmark = pytest.mark.by_chance

NAMES = ("Code", "no", "weight", "seen", "note")
VALUES = (
    ("L01", "l01", "007", "7", "É"),
    (1, 2, 30),
    (None, Decimal("12.50"), Decimal(3), Decimal("0.25"), Decimal("-7.1")),
    (None, dt.date(2026, 5, 1), dt.date(2026, 12, 31)),
    (None, "calm", "12", "+1", "a,b", "ü\n2"),
)


def columns(rows):
    return {name: [row[at] for row in rows] for at, name in enumerate(NAMES)}


def as_csv(path, rows):
    return text_file(path, [NAMES, *(["" if value is None else value for value in row] for row in rows)])


def as_lines(path, rows):
    plain = [{name: None if value is None else str(value) if isinstance(value, dt.date) else value for name, value in zip(NAMES, row, strict=True)} for row in rows]  # fmt: skip
    path.write_text("".join(json.dumps(row, default=float) + "\n" for row in plain), "utf-8")
    return str(path)


def as_table(rows):
    types = (pa.string(), pa.int64(), pa.decimal128(9, 2), pa.date32(), pa.string())
    return pa.table(
        {name: pa.array(values, kind) for (name, values), kind in zip(columns(rows).items(), types, strict=True)}
    )


def as_parquet(path, rows):
    parquet.write_table(as_table(rows), path)
    return str(path)


def as_arrow(path, rows):
    feather.write_feather(as_table(rows), str(path))
    return str(path)


def as_sqlite(path, rows):
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute(
            "CREATE TABLE t (Code TEXT, no INTEGER, weight DECIMAL(9, 2), seen DATE, note TEXT, PRIMARY KEY (Code, no))"
        )
        connection.executemany("INSERT INTO t VALUES (?, ?, ?, ?, ?)", [[v if v is None or isinstance(v, int) else str(v) for v in row] for row in rows])  # fmt: skip
    connection.close()
    return f"{path}#t"


KINDS = {
    "csv": as_csv, "jsonl": as_lines, "parquet": as_parquet, "arrow": as_arrow, "db": as_sqlite,
    "xlsx": lambda path, rows: sheet(path, [list(NAMES), *(list(row) for row in rows)]),
}  # fmt: skip


def table(chance, keys):
    return [
        (*key, *(chance.choice(values) for values in VALUES[2:]))
        for key in chance.sample(keys, chance.randint(0, len(keys)))
    ]


def near(chance, rows, keys):
    """Rows that mostly say the same as others."""
    other = [row if chance.random() < 0.6 else (*row[:2], *(chance.choice(values) for values in VALUES[2:])) for row in rows if chance.random() < 0.8]  # fmt: skip
    other += [row for row in table(chance, keys) if row[:2] not in {one[:2] for one in other}]
    chance.shuffle(other)
    return other


@pytest.mark.parametrize("part", PARTS)
def test_two_sides_differ_as_plain_python_says(run, folder, part, share):
    for number in share.of(12, 100, part):
        place = folder / str(number)
        place.mkdir()
        check(run, place, random.Random(number))


def check(run, folder, chance):
    """Compare two tables, and turn them round."""
    keys = list(product(VALUES[0], VALUES[1]))
    first = table(chance, keys) or [("L01", 1, None, None, None)]
    second = near(chance, first, keys) or [("L01", 2, None, None, None)]
    kinds = [chance.choice([*KINDS]) for _ in range(2)]
    addresses = [
        KINDS[kind](folder / f"{at}.{kind}", rows)
        for at, (kind, rows) in enumerate(zip(kinds, (first, second), strict=True))
    ]

    here, there = ({row[:2]: row[2:] for row in rows} for rows in (first, second))
    both = here.keys() & there.keys()
    expected = {("only in first", *key) for key in here.keys() - there.keys()}
    expected |= {("only in second", *key) for key in there.keys() - here.keys()}
    expected |= {("different", *key) for key in both if here[key] != there[key]}
    by_column = {name: sum(here[key][at] != there[key][at] for key in both) for at, name in enumerate(NAMES[2:])}

    words = ("compare", *addresses, "--key", "code", "--key", "no")
    ended = run(*words, "--json", "--changes", str(folder / "changes.jsonl"))
    found = json.loads(ended.out)
    assert ended.status == 0, ended.err
    assert found["records"] == {
        "same": len(both) - sum(one[0] == "different" for one in expected),
        "different": sum(one[0] == "different" for one in expected),
        "only_in_first": len(here) - len(both),
        "only_in_second": len(there) - len(both),
    }
    assert found["columns"] == {name: count for name, count in by_column.items() if count}
    lines = [json.loads(line) for line in (folder / "changes.jsonl").read_text("utf-8").splitlines()]
    assert {(line["where"], line["key: Code"], int(line["key: no"])) for line in lines} == expected
    assert sum(line["where"] == "different" for line in lines) == sum(by_column.values())

    turned = json.loads(run("compare", *reversed(addresses), *words[3:], "--json").out)
    assert (turned["records"]["only_in_second"], turned["columns"]) == (len(here) - len(both), found["columns"])
    assert run("compare", addresses[0], addresses[0], *words[3:], "--expect-same").status == 0
    assert run(*words, "--expect-same").status == (4 if expected else 0)
