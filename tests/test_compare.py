"""Two tables or files side by side, as a person meets it: what is said, written, and left alone."""

import csv
import json

import pytest

from conftest import HIVE_ROWS, database, sheet, stored, text_file

NAMES = ["Apiary code", "Hive no.", "queen_colour", "Honey KG", "Weather"]
ROWS = [
    ["L01", 1, "white", 12.5, "sunny"],
    ["L01", 2, None, 7.25, "rain"],
    ["M02", 1, "<b>red</b>", "about 9", "rain"],
    ["M02", 1, "<b>red</b>", "about 9", "rain"],
    ["l01", 3, "@1+1", 4, "rain"],
    [None, 9, "blue", 1, "rain"],
]


def test_all_rows_of_both_sides_are_accounted_for_and_shown(run, hives, folder):
    book, before = sheet(folder / "week.xlsx", [["Inspections"], [], NAMES, *ROWS]), stored(hives)
    ended = run("compare", hives, f"{book}#Inspections", "--json")
    found = json.loads(ended.out)
    assert ended.status == 3
    assert found["first"] == {"address": hives, "rows": 3, "not_compared": 1}
    assert found["second"] == {"address": f"{book}#Inspections", "rows": 6, "repeated": 0, "not_compared": 3}
    assert found["records"] == {"same": 1, "different": 1, "only_in_first": 0, "only_in_second": 1}
    assert found["examples"] == {"queen_colour": {"row": 5, "key": ["L01", "2"], "first": "yellow", "second": None}}
    assert (found["others_in_first"], found["others_in_second"]) == (["last_inspected", "notes"], ["Weather"])
    assert found["reasons"] == {"not a number": 2, "blank key": 1}
    assert [(cell["row"], cell["column"], cell["value"]) for cell in found["wrong"]] == [
        (6, "Honey KG", "about 9"),
        (7, "Honey KG", "about 9"),
        (9, "Apiary code", None),
    ]

    shown = run("compare", hives, f"{book}#Inspections", "--page", "page.html", "--changes", "changes.csv").out
    assert "They differ, and 3 rows of the second can't be compared." in shown
    assert "only in second  8    l01" in shown
    page = (folder / "page.html").read_text("utf-8")
    assert "<b>red</b>" not in page
    assert "3 rows in the first, 6 in the second." in page
    with (folder / "changes.csv").open(encoding="utf-8-sig", newline="") as file:
        lines = list(csv.reader(file))
    assert lines == [
        ["where", "row", "key: apiary_code", "key: hive_no", "column", "first", "second"],
        ["different", "5", "L01", "2", "queen_colour", "yellow", ""],
        ["only in second", "8", "l01", "3", "queen_colour", "", "'@1+1"],
        ["only in second", "8", "l01", "3", "honey_kg", "", "4"],
    ]
    assert run("compare", hives, book, "--changes", "changes.csv").status == 3, "our own file may be replaced"
    (folder / "mine.csv").write_text("a,b\n")
    refused = run("compare", hives, book, "--changes", "mine.csv")
    assert (refused.status, (folder / "mine.csv").read_text()) == (2, "a,b\n")
    assert stored(hives) == before


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        ((), 2, "No key to match records by"),
        (("--key", "code", "--map", "n=number"), 0, "They differ in 1 record."),
        (("--key", "code", "--map", "n=number", "--expect-same"), 4, "They differ in 1 record."),
        (("--key", "code", "--only", "text", "--expect-same"), 0, "They are the same."),
        (("--key", "code", "--map", "n"), 2, "--map takes FIRST=SECOND"),
        (("--key", "nothing"), 2, "has no column 'nothing'"),
        (("--key", "code", "--header-row", "0"), 2, "Rows count from 1"),
    ],
)
def test_what_belongs_together_and_what_must_be_the_same(run, folder, words, status, said):
    text_file(folder / "a.csv", [["code", "n", "text"], ["a", 1, "x"], ["b", "2.5", "y"]])
    text_file(folder / "b.csv", [["text", "number", "Code"], ["y", 2, "b"], ["x", "1.0", "a"]])
    ended = run("compare", "a.csv", "b.csv", *words)
    assert ended.status == status
    assert said in ended.out + ended.err


@pytest.mark.parametrize(
    ("first", "second", "said"),
    [
        ("k,v\n007,a\n", "k,v\n7,a\n", "1 key only in the second equals one of the first but for leading zeros"),
        ("k,v\n", "k,v\n", "Neither of them has a row."),
        ("k,v\n1,a\n", "k,v\n1,a\n1,a\n", "They are the same, but for 1 repeated row of the second."),
        ("k,v\n1,a\n1,b\n", "k,v\n1,a\n", "one record with this key; there are 2"),
        ("k,v\n1,a\n", "other,name\n1,a\n", "have no column of the same name"),
    ],
)
def test_what_is_doubtful_is_said(run, folder, first, second, said):
    (folder / "a.csv").write_text(first)
    (folder / "b.csv").write_text(second)
    ended = run("compare", "a.csv", "b.csv", "--key", "k")
    assert said in ended.out + ended.err


def test_two_tables_of_one_database_and_a_workbook_without_a_named_sheet(run, folder):
    one = database(folder / "coop.db")
    text_file(
        folder / "hives.csv",
        [["apiary_code", "hive_no", "queen_colour", "honey_kg", "last_inspected", "notes"], *HIVE_ROWS],
    )
    assert run("compare", one, "hives.csv", "--expect-same").status == 0
    assert run("compare", "hives.csv", one, "--expect-same").status == 0
    assert run("compare", "coop.db", "hives.csv", "--expect-same").status == 0, "a database of one table"
    gone = run("compare", one, "coop.db#hive")
    assert (gone.status, "hives" in gone.err) == (1, True)


def test_the_form_that_is_said_is_that_of_the_side_whose_name_says_none(run, folder):
    text_file(folder / "a.csv", [["k", "v"], [1, "x"]])
    lines = json.dumps({"k": 1, "v": "x"}).encode()
    (folder / "a.log").write_bytes(lines)
    for sides in (("a.csv", "-"), ("-", "a.csv"), ("a.csv", "a.log"), ("a.log", "-")):
        ended = run("compare", *sides, "--key", "k", "--format", "jsonl", "--expect-same", stdin=lines)
        assert ended.status == 0, (sides, ended.err)


def test_formulas_that_nobody_calculated_are_warned_of_on_both_sides(run, folder):
    sheet(folder / "a.xlsx", [["k", "v"], [1, "=1+1"]])
    text_file(folder / "a.csv", [["k", "v"], [1, ""]])
    for sides in (("a.xlsx", "a.csv"), ("a.csv", "a.xlsx")):
        assert "1 formula in v has no stored result" in run("compare", *sides, "--key", "k").out
