"""Rows that are taken out and come back, as people do it: the program on files in a folder."""

import csv
import json
import os
import shutil
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

import pytest
from openpyxl import load_workbook

import tidymerge
from conftest import NO_LIMITS, database, text_file
from tidymerge import errors
from tidymerge.core.infer.bounds import bounds_of
from tidymerge.model import Check

COOP = """
CREATE TABLE keepers (keeper_id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, email VARCHAR(40) UNIQUE);
INSERT INTO keepers VALUES (1, 'Alma', 'alma@x'), (2, 'Zoe <&>', 'zoe@x');
CREATE TABLE hives (code VARCHAR(8) PRIMARY KEY, colour VARCHAR(9) CHECK (colour IN ('red', 'white')), kg DECIMAL(6, 2) CHECK (kg BETWEEN 0 AND 90),
    keeper_id INTEGER REFERENCES keepers (keeper_id), seen DATE, notes TEXT);
"""
ROWS = [
    ("001", "red", 1.5, 1, "2026-05-01", "=1+1"),
    ("002", "white", 2, 2, None, None),
    ("003", None, 3, 1, "2026-05-03", "old"),
]


@pytest.fixture
def coop(folder):
    return database(folder / "coop.db", COOP, rows=ROWS)


def do(statement):
    with closing(sqlite3.connect("coop.db")) as connection, connection:
        connection.execute(statement)


def held(columns="code, colour, kg, keeper_id, seen, notes"):
    with closing(sqlite3.connect("coop.db")) as connection:
        return {row[0]: row[1:] for row in connection.execute(f"SELECT {columns} FROM hives")}


def edit(path, changes=(), *, delete=None, append=()):
    """Change cells of the sheet, by code and column; take a row away; add rows."""
    book = load_workbook(path)
    sheet = book["hives"]
    names = [cell.value for cell in sheet[1]]
    at = {sheet.cell(row, 1).value: row for row in range(2, sheet.max_row + 1)}
    for code, column, value in changes:
        sheet.cell(at[code], names.index(column) + 1).value = value
    for row in append:
        sheet.append([row.get(name) for name in names])
    if delete:
        sheet.delete_rows(at[delete])
    book.save(path)


def why(receipt):
    return {cell["row"]: (cell["reason"], cell["value"]) for cell in receipt["rejects"]["first"]}


def test_a_sheet_is_taken_out_edited_and_comes_back_while_the_table_moves_on(run, coop, folder):
    out = run("extract", "coop.db#hives", "--out", "h.xlsx", "--where", "code < '9'", "--order", "code desc")
    assert (out.status, "Took 3 rows of" in out.out) == (0, True), out.err
    book = load_workbook("h.xlsx")
    sheet = book["hives"]
    assert [cell.value for cell in sheet[1]] == [
        "code", "colour", "kg", "keeper_id", "keeper_id (name)", "seen", "notes", "extract: row",
    ]  # fmt: skip
    assert [sheet.cell(row, 1).value for row in (2, 3, 4)] == ["003", "002", "001"]
    assert (sheet["A2"].protection.locked, sheet["C2"].protection.locked, sheet.protection.sheet) == (True, False, True)
    assert (sheet["G4"].value, sheet["G4"].data_type, sheet["A2"].number_format) == ("=1+1", "s", "@")
    assert (sheet.freeze_panes, sheet.auto_filter.ref, sheet.column_dimensions["H"].hidden) == ("B2", "A1:H4", True)
    checks = {
        str(one.sqref)[0]: (one.type, one.formula1, one.formula2) for one in sheet.data_validations.dataValidation
    }
    assert checks["B"][0] == checks["D"][0] == "list"
    assert checks["C"] == ("decimal", "0", "90")
    assert [row[0].value for row in book["Lists"].iter_rows(max_col=1)] == ["red", "white"]
    do("UPDATE hives SET kg = 9, notes = 'theirs' WHERE code = '001'")  # somebody else, meanwhile
    do("UPDATE hives SET colour = 'red' WHERE code = '002'")
    edit("h.xlsx", [("001", "kg", 2), ("002", "kg", 7.25), ("003", "notes", None)])
    preview = run("preview", "h.xlsx")
    assert "only cells that were edited are loaded" in preview.out, preview.err
    done = run("load", "h.xlsx", "--yes", "--json", "--conflicts", "c.csv")
    assert why(done.receipt) == {4: ("changed since", "2.00 (was 1.50, is 9.00 now)")}
    with Path("c.csv").open(encoding="utf-8-sig") as file:
        assert list(csv.reader(file)) == [
            ["row", "key", "column", "conflict: was", "conflict: sheet", "conflict: now"],
            ["4", "001", "kg", "1.50", "2.00", "9.00"],
        ]
    found = held()
    assert found["001"] == ("red", 9, 1, "2026-05-01", "theirs")
    assert found["002"] == ("red", 7.25, 2, None, None)
    assert found["003"] == (None, 3, 1, "2026-05-03", None)
    again = run("load", "h.xlsx", "--yes", "--json", "--prefer", "sheet")  # it may come several times
    assert again.receipt["rows"]["updated"] == 1
    assert held("code, kg")["001"] == (2,)
    listed = run("runs")
    assert "hives: 3 rows to h.xlsx, where code < '9'" in listed.out
    undone = run("undo", json.loads(run("runs", "--json").out)["runs"][-1]["run"])
    assert "took rows out and changed nothing" in undone.err


def test_rows_that_are_gone_came_or_had_another_key_are_each_named(run, coop, folder):
    assert run("extract", "coop.db#hives", "--out", "h.xlsx").status == 0
    do("DELETE FROM hives WHERE code IN ('002', '003')")
    do("INSERT INTO hives (code, notes) VALUES ('004', 'theirs')")
    edit("h.xlsx", [("002", "kg", 9)], append=[{"code": "004", "notes": "mine"}, {"code": "005"}, {"code": "001"}])
    done = run("load", "h.xlsx", "--yes", "--json")
    assert why(done.receipt) == {
        2: ("same key twice", "001 (row 7 says otherwise)"),
        3: ("gone since", "002"),
        5: ("came since", "004"),
        7: ("same key twice", "001 (row 2 says otherwise)"),
    }
    assert (done.receipt["rows"]["inserted"], done.receipt["rows"]["skipped"]) == (1, 1)
    assert run("extract", "coop.db#hives", "--out", "k.xlsx").status == 0
    edit("k.xlsx", [("001", "code", "009"), ("005", "code", "006")])  # the first and the last row
    keyed = why(run("preview", "k.xlsx", "--json").receipt)
    assert (keyed[2], keyed[4]) == (("key edited", "009 (was 001)"), ("key edited", "006 (was 005)"))


def test_records_on_no_row_go_only_if_nobody_changed_them(run, coop, folder):
    assert run("extract", "coop.db#hives", "--out", "h.xlsx", "--where", "code <> '003'").status == 0
    edit("h.xlsx", delete="001")
    kept = run("load", "h.xlsx", "--yes", "--json")
    assert "1 row of the extract is not among these" in str(kept.receipt["notes"])
    assert len(held()) == 3
    Path("gone.toml").write_text(
        '[incoming]\nat = "h.xlsx"\n[target]\nat = "coop.db#hives"\n[rules]\nabsent = "remove"\n'
    )
    do("UPDATE hives SET kg = 8 WHERE code = '001'")
    edit("h.xlsx", append=[])
    options = {"limits": NO_LIMITS, "accept_warnings": True}
    assert tidymerge.load(job="gone.toml", **options).rows.removed == 0  # somebody changed it since
    do("UPDATE hives SET kg = 1.5 WHERE code = '001'")
    assert tidymerge.load(job="gone.toml", **options).rows.removed == 1  # 003 was never taken out
    assert sorted(held()) == ["002", "003"]


def test_a_file_that_carries_its_base_comes_back_where_the_log_knows_nothing(run, coop, folder, monkeypatch):
    for ending in ("xlsx", "ods", "parquet"):
        assert run("extract", "coop.db#hives", "--out", f"c.{ending}", "--carry-base").status == 0
    assert run("extract", "coop.db#hives", "--out", "p.xlsx").status == 0
    refused = run("extract", "coop.db#hives", "--out", "c.csv", "--carry-base")
    assert (refused.status, "can't carry" in refused.err, Path("c.csv").exists()) == (2, True, False)
    edit("c.xlsx", [("001", "kg", 4)])
    monkeypatch.setenv("TIDYMERGE_HOME", str(folder / "elsewhere"))
    do("UPDATE hives SET notes = 'theirs'")
    lost = run("preview", "p.xlsx")
    assert (lost.status, "of which this log knows nothing" in lost.err, "--no-base" in lost.err) == (2, True, True)
    for file in ("c.parquet", "c.ods"):
        alone = run("load", file, "--yes")  # anybody can make a file that names a table
        assert (alone.status, "coop.db#hives" in alone.err, "--into TARGET" in alone.err) == (2, True, True), alone.err
        there = run("load", file, "--into", "coop.db#hives", "--json", "--yes")
        assert there.receipt["rows"]["unchanged"] == 3, there.err
    back = run("load", "c.xlsx", "--into", "coop.db#hives", "--json", "--yes")
    assert (back.receipt["rows"]["updated"], back.receipt["fields_updated"]) == (1, 1)
    bare = run("preview", "p.xlsx", "--no-base", "--into", "coop.db#hives", "--json")
    assert bare.receipt["rows"]["updated"] == 2  # the old notes would come back


def test_text_needs_to_be_told_its_base_or_carries_marks(run, coop, folder):
    assert run("extract", "coop.db#hives", "--out", "plain.csv", "--only", "notes").status == 0
    marked = run("extract", "coop.db#hives", "--out", "marked.csv", "--mark-rows", "--json")
    text = Path("plain.csv").read_text("utf-8-sig").splitlines()
    assert (text[0], text[1]) == ('"code","notes"', '"001","\'=1+1"')
    do("UPDATE hives SET notes = 'theirs' WHERE code = '003'")
    rows = Path("marked.csv").read_text("utf-8-sig").replace("white", "red")
    Path("marked.csv").write_text(rows, "utf-8")
    back = run("load", "marked.csv", "--yes", "--json")
    assert (back.status, back.receipt["rows"]["updated"], back.receipt["fields_updated"]) == (0, 1, 1), back.err
    by_base = run("preview", "plain.csv", "--base", marked.out and json.loads(marked.out)["run"], "--json")
    assert by_base.receipt["rows"]["unchanged"] == 3
    nothing = run("preview", "plain.csv")
    assert (nothing.status, "--into" in nothing.err) == (2, True)
    no_run = run("preview", "plain.csv", "--base", "20200101", "--into", "coop.db#hives")
    assert no_run.status == 2


def test_the_rows_of_a_query_name_the_records_and_bring_more_to_read(run, coop, folder):
    query = "SELECT h.kg, h.code, k.email FROM hives h JOIN keepers k USING (keeper_id) ORDER BY h.kg DESC"
    for ending in ("xlsx", "csv", "ods"):
        out = run("extract", "coop.db#hives", "--out", f"q.{ending}", "--query", query, "--mark-rows")
        assert (out.status, "Columns: code, kg, and to read: email." in out.out) == (0, True), out.err
    sheet = load_workbook("q.xlsx")["hives"]
    assert [[cell.value for cell in row][:3] for row in sheet][:2] == [["code", "kg", "email"], ["003", 3, "alma@x"]]
    edit("q.xlsx", [("002", "kg", 5), ("001", "email", "nobody")])
    done = run("load", "q.xlsx", "--yes", "--json")
    assert (done.receipt["rows"]["updated"], done.receipt["fields_updated"]) == (1, 1), done.err
    twice = run(
        "extract", "coop.db#hives", "--out", "t.csv", "--query", "SELECT code FROM hives UNION ALL SELECT '001'"
    )
    lacking = run("extract", "coop.db#hives", "--out", "t.csv", "--query", "SELECT kg FROM hives")
    assert ("share their code" in twice.err, "lack code" in lacking.err) == (True, True), (twice.err, lacking.err)
    query = "SELECT DISTINCT keeper_id FROM hives"  # a row that names several records
    several = run("extract", "coop.db#hives", "--out", "t.csv", "--key", "keeper_id", "--query", query)
    assert "1 record of hives share their keeper_id" in several.err, several.err


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("coop.db#hives", "--out", "h.docx"), "has another ending"),
        (("coop.db#hives", "--out", "there.xlsx"), "there already"),
        (("coop.db#hives", "--out", "no/h.xlsx"), "no folder"),
        (("coop.db#nothing", "--out", "h.xlsx"), "no table"),
        (("coop.db#hives", "--out", "h.xlsx", "--only", "nothing"), "no column"),
        (("coop.db#hives", "--out", "h.xlsx", "--where", "nothing > 1"), "nothing"),
        (("coop.db#hives", "--out", "h.xlsx", "--key", "keeper_id"), "share their keeper_id"),
    ],
)
def test_what_can_not_be_taken_out_is_said_and_leaves_nothing(run, coop, folder, arguments, words):
    Path("there.xlsx").write_text("mine")
    before = sorted(path.name for path in folder.iterdir())
    ended = run("extract", *arguments)
    assert (ended.status in (1, 2), words in ended.err) == (True, True), ended.err
    assert sorted(path.name for path in folder.iterdir()) == before
    assert Path("there.xlsx").read_text() == "mine"


def test_a_damaged_base_is_an_error_and_no_guess(run, coop, folder, home):
    named = json.loads(run("extract", "coop.db#hives", "--out", "h.xlsx", "--json").out)["run"]
    base = next(home.rglob(f"{named}.base"))
    base.write_bytes(base.read_bytes()[:-20])
    with pytest.raises(errors.LogDamaged, match="when they were taken out"):
        tidymerge.preview("h.xlsx")


@pytest.mark.skipif(shutil.which("soffice") is None and "CI" not in os.environ, reason="needs a spreadsheet program")
def test_a_workbook_that_a_spreadsheet_program_saved_comes_back_right(run, coop, folder):
    assert run("extract", "coop.db#hives", "--out", "h.xlsx", "--carry-base").status == 0
    for form in ("ods", "xlsx"):
        source = "h.xlsx" if form == "ods" else "saved/h.ods"
        command = ["soffice", f"-env:UserInstallation=file://{folder}/office", "--headless", "--convert-to", form, "--outdir", "saved", source]  # fmt: skip
        subprocess.run(command, check=True, capture_output=True, timeout=120)
    for file in ("saved/h.ods", "saved/h.xlsx"):
        back = run("preview", file, "--json")
        assert back.status == 0, back.err
        assert back.receipt["rows"]["unchanged"] == 3, (file, back.receipt["tables"][0]["examples"])


@pytest.mark.parametrize("kind", ["csv", "xlsx", "parquet"])
def test_rows_of_a_file_go_out_and_come_back_too(run, folder, kind):
    made = run("load", "-", "--into", f"t.{kind}", "--create", "--key", "code", "--yes", stdin=b"code,kg\nA,1\nB,2\n")
    assert made.status == 0, made.err
    assert run("extract", f"t.{kind}", "--key", "code", "--out", "out.csv", "--mark-rows").status == 0
    other = run("load", "-", "--into", f"t.{kind}", "--key", "code", "--yes", stdin=b"code,kg\nB,7\n")
    assert other.status == 0, other.err
    rows = list(csv.reader(Path("out.csv").read_text("utf-8-sig").splitlines()))
    text_file(folder / "out.csv", [rows[0], ["A", "5", rows[1][2]], rows[2]])
    back = run("load", "out.csv", "--yes", "--json")
    assert (back.status, back.receipt["rows"]["updated"], back.receipt["rows"]["unchanged"]) == (0, 1, 1), back.err


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("colour IN ('red', 'it''s')", (("red", "it's"), None, None)),
        ("((kg >= (0)::numeric) AND (kg <= 90.5))", ((), 0, 90.5)),
        ("`kg` between -3 and 30", ((), -3, 30)),
        ("((colour)::text = ANY ((ARRAY['red'::character varying, 'white'::character varying])::text[]))", (("red", "white"), None, None)),
        ("kg > 0 OR kg < -5", ((), None, None)),
        ("length(colour) <= 3", ((), None, None)),
        ("colour IN (SELECT 1)", ((), None, None)),
    ],
)  # fmt: skip
def test_what_checks_say_of_one_column(text, told):
    column = "colour" if "colour" in text else "kg"
    found = bounds_of([Check("c", text, (column,))]).get(column)
    assert (((), None, None) if found is None else (found.allowed, found.least, found.most)) == told
