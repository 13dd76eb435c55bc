"""Columns are told apart by what they are, never by how their names look."""

import sqlite3
from contextlib import closing

import pytest
from openpyxl import load_workbook

import tidymerge
from conftest import database, sheet, stored, text_file
from tidymerge.core.naming.letters import column_names
from tidymerge.model.rules import ColumnRule, Find

ODD = [
    "column width", "unreadable x", "row number", "x", "value 0", "0", "0 0", "tidymerge position", "tidymerge place 0",
    "tidymerge staged changes", "Honey / kg", "a + b", "before: x", "key: x", "stamp: file", "read", "why",
]  # fmt: skip


@pytest.mark.parametrize("rows_at_once", ["1000000", "20"])
def test_columns_named_like_our_own_are_columns_like_others(run, folder, rows_at_once):
    columns = ", ".join(f'"{name}" TEXT' for name in ODD)
    target = database(
        folder / "t.db", f"CREATE TABLE t (k INTEGER PRIMARY KEY, {columns})", "t", [(1, *["old"] * len(ODD))]
    )
    rows = [["k", *ODD], *([at, *[f"new {at}"] * len(ODD)] for at in range(1, 100))]
    text_file(folder / "in.csv", rows)
    settings = {"TIDYMERGE_ROWS_AT_ONCE": rows_at_once, "TIDYMERGE_LARGE_FILE": "10"}
    ended = run("load", "in.csv", "--into", target, "--yes", "--json", "--most-inserted", "1000", **settings)
    assert ended.status == 0, ended.err
    assert (ended.receipt["rows"]["updated"], ended.receipt["rows"]["inserted"]) == (1, 98)
    assert stored(target)[98][1:] == (b"new 99",) * len(ODD)
    assert run("receipt", "last", "--changes", "c.csv").status == 0
    undone = run("undo", "last", "--yes", "--json", **settings)
    assert (undone.status, stored(target)) == (0, [(1, *[b"old"] * len(ODD))])


def test_a_column_whose_name_has_a_slash_is_marked_in_the_senders_copy(run, folder):
    target = database(
        folder / "t.db",
        'CREATE TABLE t (a TEXT, b TEXT, "Honey / kg" DECIMAL(5, 1), PRIMARY KEY (a, b))',
        "t",
        [("x", "y", 1)],
    )
    sheet(
        folder / "in.xlsx",
        [["a", "b", "Honey / kg"], ["x", "y", 2], ["x", "z", "many"], ["", "z", 3], ["x", "q", 1], ["x", "q", 2]],
    )
    run("load", "in.xlsx", "--into", target, "--yes", "--marked", "m.xlsx", "--most-rejected", "9")
    marked = load_workbook(folder / "m.xlsx").active
    fills = {
        cell.coordinate: cell.fill.fgColor.rgb[2:] for row in marked["A2:C6"] for cell in row if cell.fill.fill_type
    }
    changed, wrong = fills.pop("C2"), fills.pop("C3")
    assert changed != wrong
    assert fills == dict.fromkeys(("A4", "A5", "B5", "A6", "B6"), wrong)


def test_names_of_a_header_are_made_different():
    header = ["Qty", " Qty", "", "column D", "Qty (2)", "", "Qty"]
    assert column_names(header) == [
        "Qty", "Qty (3)", "column C", "column D", "Qty (2)", "column F", "Qty (4)",
    ]  # fmt: skip
    assert column_names(["column B", ""]) == ["column B", "column B (2)"]
    assert column_names([""] * 28)[27] == "column AB"


@pytest.mark.parametrize("ending", ["csv", "xlsx"])
def test_columns_of_one_name_are_told_apart_and_never_guessed_between(run, folder, ending):
    target = database(
        folder / "t.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, qty INTEGER, more INTEGER)", "t", [(1, 0, 0)]
    )
    rows = [["k", "Qty", "Qty"], [1, 5, 7], [2, "x", 8]]
    file = text_file(folder / "in.csv", rows) if ending == "csv" else sheet(folder / "in.xlsx", rows)
    with pytest.raises(tidymerge.UsageError, match=r"fit qty: Qty, 'Qty \(2\)'"):
        tidymerge.preview(file, target)
    receipt = tidymerge.load(
        file, target, columns={"qty": "Qty", "more": "Qty (2)"}, rejects=folder / "r.csv", accept_warnings=True
    )
    assert stored(target) == [(1, 5, 7)]
    assert "2 columns are called 'Qty'; here they are Qty, 'Qty (2)'." in receipt.notes
    assert (folder / "r.csv").read_text("utf-8-sig").splitlines()[0].startswith("k,Qty,Qty (2)")
    looked = run("look", file)
    assert "Qty (2)" in looked.out


def test_tables_of_hostile_names_are_loaded_together(folder, home):
    path = folder / "co#op.db"
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.executescript(
            'CREATE TABLE "kee""per;%s" ("select" INTEGER PRIMARY KEY, "na\'me; --" TEXT UNIQUE, "मधु" INTEGER REFERENCES "kee""per;%s");'
            'CREATE TABLE "h#i ve" ("from" TEXT PRIMARY KEY, "%s" INTEGER REFERENCES "kee""per;%s")'
        )
    keepers = text_file(folder / "k.csv", [["na'me; --", "boss"], ["x", "y"], ["y", "x"]])
    hives = text_file(folder / "h.csv", [["from", "who"], ["a", "x"], ["b", "y"]])
    find = Find('kee"per;%s', "na'me; --", "select")

    def job(rows, table, key, name, source):
        columns = {key: ColumnRule((key,)), name: ColumnRule((source,), find=find)}
        return tidymerge.Job((rows,), f"{path}#{table}", (key,), columns)

    both = tidymerge.TablesJob(
        (job(hives, "h#i ve", "from", "%s", "who"), job(keepers, 'kee"per;%s', "na'me; --", "मधु", "boss"))
    )
    done = tidymerge.load(job=both, accept_warnings=True)
    assert ([table.called for table in done.tables], done.tree) == (['kee"per;%s', "h#i ve"], [(0, 0), (1, 1)])
    with closing(sqlite3.connect(path)) as connection, connection:
        assert connection.execute('SELECT * FROM "h#i ve"').fetchall() == [("a", 1), ("b", 2)]
        assert connection.execute('SELECT * FROM "kee""per;%s"').fetchall() == [(1, "x", 2), (2, "y", 1)]
    assert tidymerge.undo(done.run).rows.removed == 4
