"""Rows that go out and come back, while the sheet and the table are both edited at random: a naive three-way model."""

import csv
import random
import sqlite3
from contextlib import closing, suppress
from pathlib import Path

import pyarrow.parquet as pq
import pytest
from openpyxl import load_workbook

import tidymerge
from chance import PARTS, fresh_folder
from conftest import NO_LIMITS

SCHEMA = "CREATE TABLE hives (code VARCHAR(9) PRIMARY KEY, kg DECIMAL(6, 2), seen DATE, strength INTEGER, notes TEXT, wax FLOAT)"
COLUMNS = ("code", "kg", "seen", "strength", "notes", "wax")
MARK = "extract: row"
KINDS = ("xlsx", "csv", "parquet")
VALUES = {
    "kg": [1.5, 2, 12.25, None],
    "seen": ["2026-05-01", "2026-06-30", None],
    "strength": [0, 7, 12, None],
    "notes": ["=1+1", " spaced ", "007", 'é, "q"\n2nd', "", None],
    "wax": [0.1, 1e-7, 123456789.125, None],
}
CODES = ["A1", "A2", "=B3", "007", "C 4", "D5"]


pytestmark = pytest.mark.by_chance(share=2)


def record(chance, code):
    return {"code": code, **{name: chance.choice(values) for name, values in VALUES.items()}}


def blank(value):
    return value is None or (isinstance(value, str) and not value.strip())


def same(one, other):
    return one == other or (blank(one) and blank(other))


def edited(chance, rows):
    """What somebody makes of some rows: other values, rows that go, rows that come."""
    rows = {code: dict(row) for code, row in rows.items()}
    for row in rows.values():
        for name in chance.sample(list(VALUES), chance.choice([0, 0, 1, 2])):
            row[name] = chance.choice(VALUES[name])
    for code in chance.sample(list(rows), min(len(rows), chance.choice([0, 0, 1]))):
        del rows[code]
    for code in chance.sample([code for code in CODES if code not in rows], chance.choice([0, 0, 1])):
        rows[code] = record(chance, code)
    return rows


def merged(base, sheet, table, prefer):
    """The naive model: what is in the table afterwards, and the codes of the rejected rows."""
    after, rejected = {code: dict(row) for code, row in table.items()}, set()
    for code, row in sheet.items():
        was, now = base.get(code), table.get(code)
        if was is None and now is None:
            after[code] = {name: None if blank(value) else value for name, value in row.items()}
        elif was is None:
            other = {name: value for name, value in row.items() if not blank(value) and not same(value, now[name])}
            if other and prefer is None:
                rejected.add(code)
            elif prefer == "sheet":
                after[code] |= other
        else:
            own = {name: value for name, value in row.items() if not same(value, was[name])}
            if now is None:
                if own and prefer is None:
                    rejected.add(code)
                elif own and prefer == "sheet":
                    after[code] = {name: None if blank(value) else value for name, value in row.items()}
                continue
            clash = {n for n, value in own.items() if not same(now[n], was[n]) and not same(now[n], value)}
            if clash and prefer is None:
                rejected.add(code)
                continue
            after[code] |= {name: value for name, value in own.items() if not (prefer == "table" and name in clash)}
    return after, rejected


def write_sheet(path, sheet, base_order, chance):
    """Put the edited rows into the file that was taken out, in any order, as a person would: marks stay with rows."""
    rows = list(sheet.values())
    chance.shuffle(rows)
    if path.suffix == ".xlsx":
        book = load_workbook(path)
        page = book["hives"]
        names = [cell.value for cell in page[1]]
        marks = {row[names.index("code")].value: row[names.index(MARK)].value for row in page.iter_rows(min_row=2)}
        page.delete_rows(2, page.max_row)
        for at, row in enumerate(rows, start=2):
            for number, name in enumerate(names, start=1):
                value = row.get(name, marks.get(row["code"]) if name == MARK else None)
                if value is not None:
                    cell = page.cell(at, number)
                    cell.value = float(value) if name == "kg" else value
                    if isinstance(value, str):
                        cell.data_type = "s"
        book.save(path)
    elif path.suffix == ".csv":
        with path.open(encoding="utf-8-sig", newline="") as file:
            names = next(csv.reader(file))
        with path.open("w", encoding="utf-8-sig", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(names)
            for row in rows:
                writer.writerow(["" if row[name] is None else _guarded(row[name]) for name in names])
    else:
        import pyarrow as pa

        held = pq.read_table(path)
        table = pa.table(
            {
                name: pa.array([None if row[name] is None else str(row[name]) for row in rows], pa.string())
                for name in COLUMNS
            }
        )
        pq.write_table(table.replace_schema_metadata(held.schema.metadata), path)


def _guarded(value):
    return f"'{value}" if isinstance(value, str) and value.startswith("=") else value


def stored(path):
    with closing(sqlite3.connect(path)) as connection:
        rows = connection.execute(f"SELECT {', '.join(COLUMNS)} FROM hives").fetchall()
    return {row[0]: dict(zip(COLUMNS, row, strict=True)) for row in rows}


def fill(path, rows):
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute("DELETE FROM hives")
        connection.executemany(
            f"INSERT INTO hives VALUES ({', '.join('?' * len(COLUMNS))})",
            [tuple(row[name] for name in COLUMNS) for row in rows.values()],
        )


def tidied(rows):
    """A text that came by the sheet has no spaces around it."""
    return {
        code: {name: value.strip() if isinstance(value, str) else value for name, value in row.items()}
        for code, row in rows.items()
    }


@pytest.mark.parametrize("part", PARTS)
def test_what_comes_back_is_what_a_naive_three_way_model_says(part, share, monkeypatch):
    for number in share.of(12, 400, part):
        chance = random.Random(number)
        with fresh_folder() as folder:
            monkeypatch.chdir(folder)
            with closing(sqlite3.connect("coop.db")) as connection, connection:
                connection.execute(SCHEMA)
            base = {code: record(chance, code) for code in chance.sample(CODES, chance.randint(1, 5))}
            fill("coop.db", base)
            base = stored("coop.db")
            path = Path(f"out.{chance.choice(KINDS)}")
            run = tidymerge.extract("coop.db#hives", path)
            sheet, table, prefer = edited(chance, base), edited(chance, base), chance.choice([None, "sheet", "table"])
            fill("coop.db", table)
            table = stored("coop.db")
            write_sheet(path, sheet, base, chance)
            wanted, rejected = merged(base, sheet, table, prefer)
            options = {"prefer": prefer, "limits": NO_LIMITS, "accept_warnings": True, "rejects": False}
            if path.suffix == ".csv":
                options["base"] = run
            done = tidymerge.load(path, **options)
            said = f"{number} {path} {prefer}\nbase {base}\nsheet {sheet}\ntable {table}\n{done.rejects.first}"
            found = stored("coop.db")
            assert set(found) == set(wanted), said
            for code, row in wanted.items():
                for name, value in row.items():
                    new, held = tidied({code: row})[code][name], found[code][name]
                    assert same(held, value) or same(held, new), (code, name, held, value, said)
            assert done.rows.rejected == len(rejected), said
            with suppress(tidymerge.Stopped):
                again = tidymerge.load(path, **options)
                assert again.changed == 0, said
                assert stored("coop.db") == found
            if done.changed:
                tidymerge.undo(done.run)
                assert stored("coop.db") == table, said
