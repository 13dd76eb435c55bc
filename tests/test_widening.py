"""New columns: what they are called, which types they get, and what can't be added."""

import sqlite3
from contextlib import closing
from types import SimpleNamespace

import numpy as np
import pyarrow as pa
import pytest
from openpyxl import load_workbook
from openpyxl.formatting.rule import FormulaRule
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.table import Table
from pyarrow import parquet

import tidymerge
from conftest import NO_LIMITS, database, sheet, text_file
from targets.file_kinds import KINDS
from tidymerge.core.infer.told import TEXT
from tidymerge.job.model import Job
from tidymerge.model import Incoming, IncomingColumn, Sample, TableShape, TargetColumn
from tidymerge.run.split import Gathered
from tidymerge.run.widen import widen

ROWS = [["L01", 1, 12.5, None, "calm"], ["L01", 2, None, None, None], ["M02", 1, 3.0, None, "x"]]
NEWS = [
    ["code", "no", "kg", "Wind dir.", "Varroa"],
    ["L01", 1, 13, "=west", "3"],
    ["M02", 1, "", "", "4.5"],
    ["N09", 4, 1, "east", ""],
]


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: type(kind).__name__.lower())
def test_a_file_gets_columns_and_loses_them_with_the_undo(kind, folder):
    target = kind.make(folder, ROWS)
    start = kind.rows(target)
    incoming = text_file(folder / "in.csv", NEWS)
    named = {"key": ["code", "no"], "add": True}
    preview = tidymerge.preview(incoming, target, **named)
    assert kind.rows(target) == start
    receipt = tidymerge.load(incoming, target, **named, accept_warnings=True, limits=NO_LIMITS)
    assert receipt.fingerprint == preview.fingerprint
    names = ["wind_dir", "varroa"]
    assert dict(receipt.tables[0].columns_added) == {names[0]: "text", names[1]: "decimal(18, 1)"}
    after = kind.rows(target)
    assert sorted(row[5:] for row in after) == [["", ""], ["", "4.5"], ["=west", "3"], ["east", ""]]
    assert [row[:5] for row in after if row[:2] == ["L01", "2"]] == [start[1]]
    assert tidymerge.load(incoming, target, **named).changed == 0
    undone = tidymerge.undo(receipt.run)
    assert kind.rows(target) == start
    assert dict(undone.tables[0].columns_dropped) == dict(receipt.tables[0].columns_added)
    tidymerge.undo(undone.run)
    assert sorted(kind.rows(target)) == sorted(after)


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: type(kind).__name__.lower())
def test_a_column_of_a_file_goes_and_comes_back(kind, folder):
    target = kind.make(folder, ROWS)
    start = kind.rows(target)
    preview = tidymerge.change(target, drop="Note", key=["code", "no"], preview=True)
    gone = tidymerge.change(target, drop="Note", key=["code", "no"], expect=preview.fingerprint)
    assert (gone.rows.updated, gone.rows.unchanged, dict(gone.tables[0].columns)) == (2, 1, {"note": 2})
    assert [row[:4] for row in kind.rows(target)] == [row[:4] for row in start]
    assert all(len(row) == 4 for row in kind.rows(target))
    tidymerge.undo(gone.run)
    assert kind.rows(target) == start
    tidymerge.undo("last")
    assert all(len(row) == 4 for row in kind.rows(target))


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: type(kind).__name__.lower())
def test_a_column_of_a_file_that_holds_nothing_comes_back(kind, folder):
    target = kind.make(folder, [[*row[:4], None] for row in ROWS])
    start = kind.rows(target)
    gone = tidymerge.change(target, drop="Note", key=["code", "no"])
    back = tidymerge.undo(gone.run)
    assert kind.rows(target) == start
    tidymerge.undo(back.run)
    assert kind.rows(target) == [row[:4] for row in start]


def test_a_parquet_file_has_the_same_type_again(folder):
    parquet.write_table(pa.table({"a": pa.array([1, None], pa.uint8()), "k": pa.array([1, 2], pa.int64())}), folder / "t.parquet")  # fmt: skip
    gone = tidymerge.change(folder / "t.parquet", drop="a", key="k")
    tidymerge.undo(gone.run)
    assert parquet.read_table(folder / "t.parquet").equals(
        pa.table({"k": pa.array([1, 2], pa.int64()), "a": pa.array([1, None], pa.uint8())})
    )


def test_what_names_a_column_of_a_workbook_is_found(run, folder):
    path = sheet(folder / "t.xlsx", [["k", "n", "note"], [1, 2, "x"], [2, 3, "y"]])
    book = load_workbook(path)
    book.create_sheet("Sums")
    formulas = [
        "=COUNTA(Sheet!C2:C3)",
        "=SUM(Sheet!B:C)",
        "=Sheet!$C$2&LOG10(4)",
        '=SUM(Sheet!B2:B3)&"Sheet!C2"',
        "=C2",
        "=Sheet!C9",
    ]
    for at, formula in enumerate(formulas, start=1):
        book["Sums"].cell(at, 1).value = formula
    book.defined_names["notes"] = DefinedName("notes", attr_text="Sheet!$C$2:$C$3")
    book.active.conditional_formatting.add("A2:A3", FormulaRule(["$C2=1"]))
    book.active.title = "Sheet"
    book.save(path)
    preview = run("change", f"{path}#Sheet", "--drop-column", "note", "--key", "k", "--preview")
    for place in ("A1 of Sums", "A2 of Sums", "A3 of Sums", "he name notes", "conditional format of Sheet"):
        assert place in preview.out.replace("\n", " "), preview.out
    for place in ("A4 of", "A5 of", "A6 of"):
        assert place not in preview.out, preview.out
    before = (folder / "t.xlsx").read_bytes()
    stopped = run("change", f"{path}#Sheet", "--drop-column", "note", "--key", "k")
    assert stopped.status == 4
    assert "note is needed by a conditional format" in stopped.err
    inner = run("change", f"{path}#Sheet", "--drop-column", "n", "--key", "k")
    assert inner.status == 4
    assert "the column note, whose cells would move" in inner.err
    assert (folder / "t.xlsx").read_bytes() == before


def test_a_job_that_names_the_column_stops_it(run, folder):
    target = text_file(folder / "t.csv", [["k", "n", "note"], [1, 2, "x"]])
    (folder / "job.toml").write_text("[incoming]\nat = 'in.csv'\n[target]\nat = 't.csv'\nkey = 'k'\n[rules]\nupdate_when = 'existing.note is not null'\n")  # fmt: skip
    text_file(folder / "in.csv", [["k", "n"], [1, 3]])
    run("load", "--job", "job.toml", "--yes")
    stopped = run("change", target, "--drop-column", "note", "--key", "k")
    assert stopped.status == 4
    assert "job.toml; nothing was written" in stopped.err.replace("\n", " ")
    (folder / "job.toml").unlink()
    run("change", target, "--drop-column", "note", "--key", "k")
    assert (folder / "t.csv").read_text() == "k,n\n1,3\n"


def test_the_types_are_those_that_the_values_tell_whatever_they_come_in(folder):
    incoming = sheet(folder / "in.xlsx", [
        ["code", "no", "Whole", "Half", "Mixed", "When", "Day", "True?", "Zip"],
        ["L01", 1, 3.0, 0.5, "x", "2026-05-01 10:00:00", "2026-05-01", True, "0071"],
        ["L01", 2, 4, 2, 7, "2026-05-02", None, False, "12"],
    ])  # fmt: skip
    target = text_file(folder / "t.csv", [["code", "no"], ["L01", 1], ["L01", 2]])
    receipt = tidymerge.preview(incoming, target, key=["code", "no"], add=True)
    assert list(receipt.tables[0].columns_added.values()) == [
        "integer", "decimal(18, 1)", "text", "text", "date", "boolean", "text"
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("target", "words"),
    [
        ("add = ['Wind dir.']\ntypes = { wind_dir = 'text(9)' }", None),
        ("add = true\ntypes = { varroa = 'integer' }", "not a whole number"),
        ("add = ['Wind']", "no column 'Wind'"),
        ("add = ['Honey kg']", "has the column honey_kg"),
        ("types = { honey_kg = 'text' }", "has types of its own"),
        ("add = true\ntypes = { varroa = 'number' }", "is no type of a column"),
        ("add = ['Wind dir.']\n[columns]\nspeed = { from = 'Varroa', decimal_mark = ',' }", "no column 'speed'"),
        ("add = true\n[columns]\nspeed = { from = 'Varroa', decimal_mark = ',' }", "Say the type of the new column speed"),
        ("add = true\ntypes = { speed = 'decimal(8, 2)' }\n[columns]\nspeed = { from = 'Varroa', decimal_mark = '.' }", None),
    ],
)  # fmt: skip
def test_a_job_says_which_columns_and_their_types(run, folder, target, words):
    database(folder / "coop.db")
    rows = [["apiary_code", "hive_no", "Wind dir.", "Varroa"], ["L01", "1", "west", "3"], ["L01", "2", "", "4.5"]]
    text_file(
        folder / "in.csv",
        rows if "Honey kg" not in target else [[*rows[0], "Honey kg"], *([*row, ""] for row in rows[1:])],
    )
    text = f"[incoming]\nat = 'in.csv'\n[target]\nat = 'coop.db#hives'\nkey = ['apiary_code', 'hive_no']\n{target}\n"
    if "[columns]" in text:
        text += "apiary_code = 'apiary_code'\nhive_no = 'hive_no'\n"
    (folder / "j.toml").write_text(text, "utf-8")
    ended = run("load", "--job", "j.toml", "--yes", "--most-inserted", "9")
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        columns = [row[1] for row in connection.execute("PRAGMA table_info(hives)")]
    if words is None:
        assert ended.status == 0, ended.err
        assert ("speed" in columns) == ("speed" in target)
        assert ("varroa" in columns) == False  # noqa: E712 - it feeds speed, or was not asked for
    elif words == "not a whole number":
        assert (ended.status, words in ended.out) == (3, True), ended.out
    else:
        assert (ended.status, words in ended.err) == (2, True), ended.err
        assert "wind_dir" not in columns


def test_all_pieces_of_a_large_file_tell_the_type_and_whether_there_is_anything():
    def piece(*columns):
        found = tuple(
            IncomingColumn(name, (pa.array(cells, pa.string()),)) for name, cells in zip("abc", columns, strict=True)
        )
        return Incoming("in.csv", found, np.arange(2), 1)

    pieces = [piece([None, None], [None, None], ["1", "2"]), piece(["1", None], [None, " "], ["2.25", ""])]
    gathered = Gathered(Sample(pieces[0]), lambda: pieces[0], 4, lambda: iter(pieces))
    added = []
    target = SimpleNamespace(add=lambda new: added.extend(new) or shape)
    shape = TableShape("t", (TargetColumn("k", TEXT),))
    job = Job(("in.csv",), "t.csv", key=("k",), renames={"k": "a"}, add=("b", "c"))
    assert [(one.name, one.type) for one in widen(job, gathered, shape, target).added] == [("c", "decimal(18, 2)")]
    job = Job(("in.csv",), "t.csv", key=("k",), renames={"k": "c"}, add=True)
    assert [(one.name, one.type) for one in widen(job, gathered, shape, target).added] == [("a", "integer")]


def test_a_new_column_is_not_called_like_a_formula(folder):
    target = text_file(folder / "t.csv", [["K"], ["1"]])
    incoming = text_file(folder / "in.csv", [["K", "=Sign"], ["1", "=x"]])
    done = tidymerge.load(incoming, target, key="K", add=True, accept_warnings=True, limits=NO_LIMITS)
    assert (folder / "t.csv").read_text("utf-8") == "K,SIGN\n1,'=x\n"
    assert tidymerge.load(incoming, target, key="K").changed == 0
    tidymerge.undo(done.run)
    assert (folder / "t.csv").read_text("utf-8") == "K\n1\n"


@pytest.mark.parametrize(
    ("kind", "cell"), [("integer", "1234567890123456"), ("decimal(20, 2)", "12345678901234567.25"), ("timestamp", "2026-05-01 10:00:00.123456")]
)  # fmt: skip
def test_what_a_sheet_can_not_keep_exactly_is_rejected_whatever_the_job_declares(run, folder, kind, cell):
    target = KINDS[1].make(folder, ROWS)
    text_file(
        folder / "in.csv",
        [["code", "no", "new"], ["L01", 1, cell], ["L01", 2, "2026-05-01 10:00:00" if ":" in cell else "5"]],
    )
    job = f"[incoming]\nat = 'in.csv'\n[target]\nat = '{target}'\nkey = ['code', 'no']\nadd = true\ntypes = {{ new = '{kind}' }}\n"
    (folder / "j.toml").write_text(job, "utf-8")
    ended = run("load", "--job", "j.toml", "--yes")
    assert (ended.status, "1  updated" in ended.out, "1  rejected" in ended.out) == (3, True, True), ended


def test_a_preview_picks_out_what_would_be_new(run, folder):
    database(folder / "coop.db")
    text_file(folder / "in.csv", [["apiary_code", "hive_no", "Wind"], ["L01", "1", "west"]])
    shown = run("preview", "in.csv", "--into", "coop.db#hives", "--add-columns").out
    assert "wind (new)" in shown
    assert "New column: wind, of the type text." in shown
    assert "wind" not in run("look", "coop.db#hives").out


def test_a_sheet_without_room_at_its_right_is_left_as_it_is(folder, run):
    target = KINDS[1].make(folder, ROWS)
    book = load_workbook(target)
    book.active["F5"] = "a note"
    book.active.add_table(Table(displayName="Hives", ref="A2:E5"))
    book.save(target)
    text_file(folder / "in.csv", NEWS)
    ended = run("load", "in.csv", "--into", target, "--key", "code", "--key", "no", "--add-column", "Varroa", "--yes")
    assert (ended.status, "no room for new columns: F5 is not empty" in ended.err) == (1, True), ended.err


def test_a_column_whose_values_could_not_come_back_does_not_go(run, folder):
    database(
        folder / "t.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, twice INTEGER GENERATED ALWAYS AS (k * 2))", "t", []
    )
    refused = run("change", "t.db#t", "--drop-column", "twice")
    assert (refused.status, "computed by the target itself, so an undo could not bring back" in refused.err) == (
        2,
        True,
    )
    both = run("change", "t.db#t", "--drop-column", "twice", "--where", "k = 1")
    assert (both.status, "a condition has no meaning" in both.err) == (2, True)
