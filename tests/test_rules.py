"""What the core decides by a job's rules: over tables in memory, as it is the same for every target."""

from datetime import date, datetime

import pytest

import memory
import tidymerge
from conftest import NO_LIMITS, text_file

TABLES = {
    "keepers": {"keeper_id": "INTEGER PRIMARY KEY", "name": "TEXT NOT NULL", "email": "TEXT NOT NULL", "mentor_id": "INTEGER"},
    "t": {"k": "TEXT PRIMARY KEY", "a": "TEXT", "n": "INTEGER", "d": "DECIMAL(10,3)", "s": "DATE", "at": "TIMESTAMP", "b": "BOOLEAN", "keeper": "INTEGER"},
}  # fmt: skip
KEEPERS = [
    (1, "Alma", "alma@example.org", None),
    (2, "Jonas", "jonas@example.org", 1),
    (3, "Jonas", "jo@example.org", 1),
]


def load(folder, rows, columns, *, rules="", incoming="", before=(), table="t", **options):
    """Load `rows` by a job with these columns into a table in memory, fresh the first time; the receipt and the table."""
    place = folder / "coop.memory"
    if place.resolve() not in memory.DATABASES:
        memory.make(place, "keepers", TABLES["keepers"], KEEPERS)
        memory.make(place, "t", TABLES["t"], before)
    text_file(folder / "in.csv", rows)
    (folder / "job.toml").write_text(
        f'[incoming]\nat = "in.csv"\n{incoming}\n[target]\nat = "coop.memory#{table}"\n[columns]\n{columns}\n[rules]\n{rules}\n',
        "utf-8",
    )
    receipt = tidymerge.load(job=folder / "job.toml", accept_warnings=True, rejects=folder / "r.csv", **options)
    shown = [
        tuple(memory.text_of(cell) if isinstance(cell, date) else cell for cell in row)
        for row in memory.rows(f"{place}#{table}")
    ]
    return receipt, sorted(shown)


@pytest.mark.parametrize(
    ("column", "cells", "wanted"),
    [
        ('a = "X"', ["x ", ""], ["x", None]),
        ('a = { from = ["X", "Y"], join = "-" }', ["x", ""], ["x-y", "y"]),
        ('a = { from = "X", split = "/", part = 2 }', ["p/q", "p"], ["q", "wrong number of pieces"]),
        ('a = { from = "X", pattern = "no ([0-9]+)" }', ["hive no 12", "none"], ["12", "pattern not found"]),
        ('a = { from = "X", replace = [{ pattern = "[- ]", with = "" }], case = "upper", pad_to = 5 }', ["a-1 b", "7"], ["00A1B", "00007"]),
        ('a = { value = "same" }', ["x", "y"], ["same", "same"]),
        ("n = { value = 5 }", ["x", "y"], [5, 5]),
        ("""a = { compute = "upper(x) || '!'" }""", ["x", ""], ["X!", None]),
        ("""d = { compute = "round(cast(x as decimal(8,2)) * 0.45, 3)" }""", ["12.5", "abc"], [5.625, "can't be computed"]),
        ('a = { from = "X", values = { W = "white", G = "" }, fold_case = true }', ["w", "red"], ["white", "not in the value map"]),
        ('a = { from = "X", values = { W = "white", G = "" }, otherwise = "keep" }', ["G", "red"], [None, "red"]),
        ('a = { from = "X", values = { W = "white" }, otherwise = "other" }', ["W", "red"], ["white", "other"]),
        ('d = { from = "X", decimal_mark = ",", grouping = "." , currency = "€ EUR" }', ["1.234,5 €", "1.5"], [1234.5, "not a number"]),
        ('d = { from = "X", percent = true, decimal_mark = "," }', ["12,5 %", "3"], [0.125, 3]),
        ('s = { from = "X", date_format = ["%d/%m/%Y", "%d.%m.%y"] }', ["04/05/2026", "4.5.26"], ["2026-05-04", "2026-05-04"]),
        ('s = { from = "X", date_format = "%d/%m/%Y" }', ["31/04/2026", "2026-05-04"], ["not a date", "not a date"]),
        ('at = { from = "X", date_format = "%d/%m/%Y %H:%M" }', ["04/05/2026 09:30", ""], ["2026-05-04 09:30:00", None]),
        ('b = { from = "X", true_words = ["ja"], false_words = ["nein"] }', ["Ja", "nein"], [1, 0]),
        ('keeper = { from = "X", find = { in = "keepers", where = "email", take = "keeper_id" } }', ["alma@example.org", "no@example.org"], [1, "no such record"]),
        ('keeper = { from = "X", find = { in = "keepers", where = "Name", take = "keeper_id", missing = "null" } }', ["nobody", "Jonas"], [None, "several found"]),
        ('n = { from = "X", default = 9 }', ["", "4"], [9, 4]),
        ('a = { from = "X", split = ",", part = -1 }', ["p, q, r", "p"], ["r", "p"]),
        ('a = { from = "X", split = ",", part = 2 }', ["p, q, r", "p, q"], ["wrong number of pieces", "q"]),
        ('a = { from = "X", split = ",", part = 2, rest = "join" }', ["p, q, r", "p"], ["q, r", "wrong number of pieces"]),
        ('a = { from = "X", split = ",", part = 2, rest = "drop", missing = "null" }', ["p, q, r", "p"], ["q", None]),
        ('a = { from = "X", pattern = "[0-9]+", missing = "null" }', ["no 12", "p"], ["12", None]),
        ('a = { from = "X", clear_mark = "-" }', ["-", "x"], [None, "x"]),
        ('n = { from = "X", only_on = "update" }', ["5", "6"], [None, None]),
        ('a = { from = "X", default = "d", blanks = "clear" }', ["", "x"], ["d", "x"]),
    ],
)  # fmt: skip
def test_what_a_column_rule_makes_of_cells(folder, column, cells, wanted):
    receipt, rows = load(folder, [["K", "X", "Y"], ["k1", cells[0], "y"], ["k2", cells[1], "y"]], f'k = "K"\n{column}')
    name = column.split(" ")[0]
    at = ["k", "a", "n", "d", "s", "at", "b", "keeper"].index(name)
    found = {row[0]: row[at] for row in rows}
    found.update({f"k{cell.row - 1}": cell.reason for cell in receipt.rejects.first})
    assert [found["k1"], found["k2"]] == wanted
    again, after = load(folder, [["K", "X", "Y"], ["k1", cells[0], "y"], ["k2", cells[1], "y"]], f'k = "K"\n{column}')
    assert (again.rows.inserted, again.rows.updated, after) == (0, 0, rows)


def test_two_columns_that_cut_one_text_take_all_of_it(folder):
    columns = 'k = "K"\na = { from = "X", split = "," }\nn = { from = "X", split = ",", part = 2 }'
    rows = [["K", "X"], ["k1", "Elm Road 3, 8001"], ["k2", "Elm Road 3, rear, 8001"], ["k3", "Elm Road 3"]]
    receipt, found = load(folder, rows, columns)
    assert [(row[0], row[1], row[2]) for row in found] == [("k1", "Elm Road 3", 8001)]
    assert [(cell.row, cell.reason) for cell in receipt.rejects.first] == [
        (3, "wrong number of pieces"),
        (4, "wrong number of pieces"),
    ]


def test_instructions_for_different_columns_are_changes_to_one_record(folder):
    rules = 'instruction = { column = "Do", values = { price = ["n"], name = ["a"], day = ["s"] } }'
    rows = [
        ["K", "A", "N", "S", "Do"],
        ["k1", "", "7", "", "price"], ["k1", "new", "", "", "name"],
        ["k2", "", "8", "", "price"], ["k2", "", "9", "", "price"],
        ["k3", "old", "", "", "name"], ["k3", "", "", "2026-05-09", "day"],
    ]  # fmt: skip
    receipt, found = load(folder, rows, ALL, rules=rules, before=OLD)
    assert {row[0]: (row[1], row[2], row[4]) for row in found} == {
        "k1": ("new", 7, "2026-05-01"),
        "k2": (None, 2, "2026-05-02"),
        "k3": ("old", 3, "2026-05-09"),
    }
    assert (receipt.rows.updated, receipt.rows.unchanged, receipt.rows.rejected) == (3, 1, 2)
    assert (receipt.tables[0].records_updated, receipt.fields_updated) == (2, 3)
    again, _ = load(folder, rows, ALL, rules=rules)
    assert (again.rows.unchanged, again.rows.rejected) == (4, 2)
    assert tidymerge.undo(receipt.run).rows.updated == 2


OLD = [("k1", "old", 1, 1.5, "2026-05-01"), ("k2", None, 2, 2.5, "2026-05-02"), ("k3", "old", 3, None, None)]


NEW = [
    ["K", "A", "N", "S", "Do"],
    ["k1", "", "0", "2026-05-03", "up"],
    ["k2", "new", "5", "2026-05-01", "price"],
    ["k3", "-", "9", "", ""],
    ["k4", "x", "4", "", "new"],
]


ALL = 'k = "K"\na = "A"\nn = "N"\ns = "S"'


@pytest.mark.parametrize(
    ("columns", "rules", "outcomes", "wanted"),
    [
        (ALL, "", (1, 3, 0, 0, 0), {"k1": ("old", 0, "2026-05-03"), "k2": ("new", 5, "2026-05-01"), "k3": ("-", 9, None), "k4": ("x", 4, None)}),
        (ALL, 'blanks = "clear"', (1, 3, 0, 0, 0), {"k1": (None, 0, "2026-05-03"), "k2": ("new", 5, "2026-05-01"), "k3": ("-", 9, None)}),
        (ALL, 'blanks = "fill-only"', (1, 1, 0, 2, 0), {"k1": ("old", 1, "2026-05-01"), "k2": ("new", 2, "2026-05-02"), "k3": ("old", 3, None)}),
        (ALL, 'clear_mark = "-"', (1, 3, 0, 0, 0), {"k3": (None, 9, None)}),
        (ALL, 'update_when = "incoming.s >= existing.s"', (1, 1, 0, 2, 0), {"k1": ("old", 0, "2026-05-03"), "k2": (None, 2, "2026-05-02"), "k3": ("old", 3, None)}),
        (ALL, 'insert_when = "incoming.n > 5"', (0, 3, 0, 1, 0), {"k4": None}),
        (ALL, "inserts = false", (0, 3, 0, 1, 0), {"k4": None}),
        (ALL, "updates = false", (1, 0, 0, 3, 0), {"k1": ("old", 1, "2026-05-01"), "k4": ("x", 4, None)}),
        (ALL.replace('n = "N"', 'n = { from = "N", update_when = "greater" }'), "", (1, 3, 0, 0, 0), {"k1": ("old", 1, "2026-05-03"), "k2": ("new", 5, "2026-05-01")}),
        ('k = "K"\na = { from = "A", update_when = "empty" }', "", (1, 1, 1, 1, 0), {"k2": ("new", 2, "2026-05-02"), "k3": ("old", 3, None)}),
        ('k = "K"\nn = { from = "N", only_on = "insert" }', "", (1, 0, 3, 0, 0), {"k1": ("old", 1, "2026-05-01"), "k4": (None, 4, None)}),
        ('k = "K"\nn = "N"\na = { from = "A", only_on = "update" }', "", (1, 3, 0, 0, 0), {"k1": ("old", 0, "2026-05-01"), "k2": ("new", 5, "2026-05-02"), "k4": (None, 4, None)}),
        ('k = "K"\na = { from = "A", only_on = "update" }', "", (1, 0, 3, 0, 0), {"k2": (None, 2, "2026-05-02")}),
        ('k = "K"\nn = "N"\na = { stamp = "file" }', 'update_when = "incoming.n > 5"', (1, 1, 0, 2, 0), {"k1": ("old", 1, "2026-05-01"), "k3": ("in.csv", 9, None), "k4": ("in.csv", 4, None)}),
        (ALL, 'instruction = { column = "do", blank = "load", values = { up = "update", new = "insert", price = ["n"] } }', (1, 3, 0, 0, 0), {"k2": (None, 5, "2026-05-02")}),
        (ALL, 'instruction = { column = "Do", blank = "skip", values = { up = "insert", new = "update" } }', (0, 0, 0, 1, 3), {"k1": ("old", 1, "2026-05-01"), "k2": (None, 2, "2026-05-02")}),
        (ALL, 'instruction = { column = "Do", values = { up = "skip", price = "skip", new = "skip" } }', (0, 0, 0, 3, 1), {"k4": None}),
    ],
)  # fmt: skip
def test_rules(folder, columns, rules, outcomes, wanted):
    receipt, rows = load(folder, NEW, columns, rules=rules, before=OLD)
    tally = receipt.rows
    assert (tally.inserted, tally.updated, tally.unchanged, tally.skipped, tally.rejected) == outcomes
    found = {row[0]: (row[1] and str(row[1]).rpartition("/")[2], row[2], row[4]) for row in rows}
    assert {key: found.get(key) for key in wanted} == wanted
    again, after = load(folder, NEW, columns, rules=rules)
    assert (again.rows.inserted, again.rows.updated) == (0, 0)
    assert after == rows


@pytest.mark.parametrize(
    ("rule", "wanted", "outcomes"),
    [
        ('"reject"', {}, (0, 0, 5)), ('"first"', {"k": 1, "m": 8}, (2, 3, 0)), ('"last"', {"k": 2, "m": 8}, (2, 3, 0)),
        ('{ greatest = "n" }', {"k": 3}, (1, 2, 2)),
    ],
)  # fmt: skip
def test_the_same_key_twice(folder, rule, wanted, outcomes):
    rows = [["k", "n", "a"], ["k", 1, "x"], ["k", 3, "y"], ["k", 2, "z"], ["m", 8, "p"], ["m", 8, "q"]]
    receipt, found = load(folder, rows, 'k = "k"\nn = "n"\na = "a"', rules=f"same_key_twice = {rule}")
    assert {row[0]: row[2] for row in found} == wanted
    assert (receipt.rows.inserted, receipt.rows.skipped, receipt.rows.rejected) == outcomes


def test_all_records_of_a_key_can_be_updated(folder):
    before = [("k1", "x", 1, None, None), ("k2", "x", 2, None, None), ("k3", "y", 1, None, None)]
    columns = 'a = "A"\nn = "N"'
    text = 'several_records = "update-all"'
    with pytest.raises(tidymerge.UsageError, match="No incoming column fits the key column k"):
        load(folder, [["A", "N"], ["x", 7]], columns, rules=text, before=before, key="k")
    receipt, rows = load(folder, [["A", "N"], ["x", 7]], columns, rules=text, key="a")
    assert [row[:3] for row in rows] == [("k1", "x", 7), ("k2", "x", 7), ("k3", "y", 1)]
    table = receipt.tables[0]
    assert (receipt.rows.updated, table.records_updated, receipt.fields_updated, table.read_back) == (1, 2, 2, 2)


def test_a_look_up_into_the_target_sees_rows_of_the_same_load(folder):
    rows = [
        ["id", "name", "mail", "mentor"],
        [7, "Ida", "ida@example.org", "max@example.org"],
        [8, "Max", "max@example.org", "alma@example.org"],
        [9, "Ole", "ole@example.org", "x@example.org"],
    ]
    columns = 'keeper_id = "id"\nname = "name"\nemail = "mail"\nmentor_id = { from = "mentor", find = { in = "keepers", where = "email", take = "keeper_id" } }'
    receipt, found = load(folder, rows, columns, table="keepers")
    assert found[3:] == [(7, "Ida", "ida@example.org", 8), (8, "Max", "max@example.org", 1)]
    assert receipt.rejects.first[0].value == "x@example.org"


def test_rows_are_skipped_and_chosen(folder):
    rows = [["K", "N"], ["a", 1], ["Total x", "lots"], ["b", 2], ["", ""], ["c", 3]]
    receipt, found = load(folder, rows, 'k = "K"\nn = "N"', incoming='skip_when = "k like \'Total%\'"\nrows = "2-4,6"')
    assert [row[0] for row in found] == ["a", "b", "c"]
    assert (receipt.rows.skipped, receipt.rows.rejected) == (1, 0)
    assert "1 skipped: left out by skip_when." in receipt.notes


def test_stamps_tell_the_time_of_the_run(folder):
    columns = 'k = "K"\nn = "N"\nat = { stamp = "time" }\na = { stamp = "run" }'
    receipt, rows = load(folder, [["K", "N"], ["a", 1]], columns)
    assert rows[0][1] == receipt.run
    assert datetime.fromisoformat(rows[0][5]) == receipt.started.replace(tzinfo=None, microsecond=0)
    preview = tidymerge.preview("in.csv", job=folder / "job.toml")
    assert preview.rows.unchanged == 1


def test_a_blank_in_the_key_is_the_reason_whatever_else_is_wrong_with_the_row(folder):
    target = memory.make(
        folder / "t.memory", "t", {"a": "INTEGER PRIMARY KEY", "b": "TEXT PRIMARY KEY", "n": "INTEGER"}
    )
    rows = [
        ["a", "b", "n"],
        ["x", "", 1],
        ["", "y", "many"],
        ["x", "y", 1],
        ["", "", ""],
        [1, "y", "many"],
        [1, "z", 1],
    ]
    receipt = tidymerge.load(
        text_file(folder / "in.csv", rows), target, accept_warnings=True, limits=NO_LIMITS, rejects=folder / "r.csv"
    )
    whys = [line.partition(",")[2] for line in (folder / "r.csv").read_text("utf-8-sig").splitlines()[1:]]
    assert ["blank key" in why for why in whys] == [True, True, False, False]
    assert ["not a number" in why for why in whys] == [True, True, True, True]  # all of it is said
    assert receipt.rejects.reasons == {"blank key": 2, "not a number": 2}
    assert receipt.rows.inserted == 1
