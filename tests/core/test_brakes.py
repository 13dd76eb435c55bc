"""The brakes: what a careful person would stop at is said, and what happens every week is not."""

import random
from datetime import date

import pytest

import tidymerge
from conftest import database, text_file

TABLE = """CREATE TABLE t (k INTEGER PRIMARY KEY, price DECIMAL(8, 2), stock DECIMAL(8, 2), name VARCHAR(20), maker VARCHAR(20),
    seen DATE, active BOOLEAN)"""
NAMES = ("k", "price", "stock", "name", "maker", "seen", "active")


def records(count):
    chance = random.Random(5)
    return [
        (at, f"{chance.randrange(100, 99_999) / 100:.2f}", f"{chance.randrange(500_000, 900_000) / 100:.2f}", f"name {at}", f"maker {at % 40}", "2026-05-01", 1)
        for at in range(count)
    ]  # fmt: skip


def warnings(folder, before, change, **options):
    target = database(folder / "t.db", TABLE, "t", before)
    rows = [dict(zip(NAMES, row, strict=True)) for row in before]
    for at, row in enumerate(rows):
        change(at, row)
    incoming = text_file(folder / "in.csv", [NAMES, *([row[name] for name in NAMES] for row in rows)])
    return tidymerge.preview(incoming, target, **options).warnings


def swap(one, other):
    def change(at, row):
        row[one], row[other] = row[other], row[one]

    return change


def set_to(column, value, share=1.0):
    def change(at, row):
        if at % 100 < share * 100:
            row[column] = value(at, row) if callable(value) else value

    return change


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (swap("name", "maker"), "Are the two columns swapped?"),
        (swap("price", "stock"), "Are the two columns swapped?"),
        (
            lambda at, row: (swap("price", "stock")(at, row), row.update(price=f"{float(row['price']) + at % 3:.2f}")),
            "swapped?",
        ),
        (
            set_to("price", 0, 0.5),
            "price becomes 0 or blank in 50 records, which held 50 different values: row 2 (0) price",
        ),
        (set_to("stock", 7), "stock gets one and the same value in 60 records"),
        (set_to("name", "name", 0.6), "Was a value written in place of a column?"),
        (
            set_to("stock", lambda at, row: f"{float(row['stock']) + 1:.2f}"),
            "60 of 60 rows that matched would change (100%)",
        ),
    ],
)
def test_what_is_hardly_meant_is_said_with_an_example(folder, change, words):
    before = [*records(60), *((1000 + at, "5.00", 1, "other", "m", None, 1) for at in range(40))]

    def only_first(at, row):
        if at < 60:
            change(at, row)

    target_rows = before
    database(folder / "all.db", TABLE, "t", target_rows)
    rows = [dict(zip(NAMES, row, strict=True)) for row in before[:60]]
    for at, row in enumerate(rows):
        only_first(at, row)
    incoming = text_file(folder / "in.csv", [NAMES, *([row[name] for name in NAMES] for row in rows)])
    found = tidymerge.preview(incoming, f"{folder}/all.db#t").warnings
    assert [one for one in found if words in one], found
    assert len(found) == 1


@pytest.mark.parametrize(
    "change",
    [
        set_to("seen", date(2026, 5, 9).isoformat(), 0.9),  # all were seen on the day of the round
        set_to("active", 0, 0.9),
        set_to("stock", lambda at, row: f"{float(row['stock']) + at % 7:.2f}", 0.6),
        set_to("maker", "Alma", 0.1),
        lambda at, row: (set_to("price", "1.00", 0.03)(at, row), set_to("stock", 3, 0.03)(at, row)),
    ],
)
def test_what_happens_every_week_is_no_warning(folder, change):
    assert warnings(folder, records(200), change, only=["price", "stock", "name", "maker", "seen", "active"]) == ()


def test_no_false_alarm_on_a_register_and_on_a_first_load(folder):
    chance = random.Random(9)

    def three_percent(at, row):
        if chance.random() < 0.03:
            column = chance.choice(NAMES[1:5])
            row[column] = (
                f"{chance.randrange(10_000) / 100:.2f}"
                if column == "price"
                else chance.randrange(9)
                if column == "stock"
                else f"new {at}"
            )

    assert warnings(folder, records(28_000), three_percent) == ()
    empty = database(folder / "empty.db", TABLE, "t", ())
    assert tidymerge.preview(folder / "in.csv", empty).warnings == ()
