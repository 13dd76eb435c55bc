"""The sender's copy: every row says what became of it, and all else in the workbook is as it was."""

import csv

import pytest
from openpyxl import Workbook, load_workbook
from openpyxl.styles import Font, PatternFill
from openpyxl.worksheet.table import Table

from conftest import database, stored, text_file

ROWS = [
    ["Weekly inspections", None, None, None, None],
    ["Apiary code", "Hive no.", "Queen colour", "Honey kg", "Remark"],
    ["L01", 1, "red", 20, "=D3*2"],
    ["L01", 2, "yellow", 7.25, None],
    ["M02", 1, None, "about 9", "x"],
    ["N03", 4, "blue", 3, "y"],
    [None, None, None, None, None],
    ["Total", None, None, 39, None],
]


@pytest.fixture
def workbook(folder):
    """A sheet with looks of its own, and another beside it."""
    book = Workbook()
    sheet = book.active
    sheet.title = "Week"
    for row in ROWS:
        sheet.append(row)
    sheet["A1"].font = Font(bold=True, size=20)
    sheet["C3"].fill = PatternFill("solid", fgColor="FF00FF")
    sheet["D3"].number_format = "0.000"
    sheet.column_dimensions["A"].width = 33
    sheet.freeze_panes = "A3"
    book.create_sheet("Legend")["A1"] = "mine"
    book.save(folder / "week.xlsx")
    return "week.xlsx#Week"


def marks(path, sheet="Week", header=2):
    """Our columns of each row: {row: (status, why, changed, key)}."""
    cells = load_workbook(path)[sheet]
    left = next(cell.column for cell in cells[header] if cell.value == "load: status")
    return {
        row: tuple(cells.cell(row, left + at).value for at in range(4)) for row in range(header + 1, cells.max_row + 1)
    }


def test_every_row_of_a_workbook_says_what_became_of_it(run, hives, workbook, folder):
    skip = ("--skip-when", "\"Apiary code\" = 'Total'")
    ended = run("load", workbook, "--into", hives, "--yes", *skip, "--marked", "copy.xlsx", "--rejects", "r.csv")
    assert ended.status == 3, ended.err
    found = marks(folder / "copy.xlsx")
    assert found[3] == ("updated", None, "queen_colour, honey_kg", "L01 / 1")
    assert found[4] == ("unchanged", None, None, "L01 / 2")
    assert found[5][0] == "rejected"
    assert "'about 9': not a number" in found[5][1]
    assert found[6] == ("inserted", None, None, "N03 / 4")
    assert found[7] == (None,) * 4
    assert found[8] == ("skipped", "left out by skip_when", None, None)
    sheet = load_workbook(folder / "copy.xlsx")["Week"]
    assert sheet["C3"].comment.text == "before: white"
    assert sheet["D3"].comment.text == "before: 12.50"
    colours = {name: sheet[name].fill.fgColor.rgb for name in ("C3", "D5", "C4", "F3", "F5", "F6")}
    assert colours["C4"] == "00000000"  # untouched
    assert len({colours["C3"], colours["D5"], colours["F3"], colours["F5"], colours["F6"]}) == 5
    assert sheet.auto_filter.ref == "A2:J8"
    assert (sheet["E3"].value, sheet["D3"].number_format, sheet["A1"].font.size) == ("=D3*2", "0.000", 20)
    assert (sheet.column_dimensions["A"].width, sheet.freeze_panes) == (33, "A3")
    book = load_workbook(folder / "copy.xlsx")
    assert book.sheetnames == ["Week", "Legend", "Legend 2"]
    assert "rejected" in [cell.value for cell in book["Legend 2"]["A"]]
    assert run("load", "copy.xlsx#Week", "--into", hives, "--yes").status == 3  # it can be sent again


def test_a_preview_says_what_would_become_of_the_rows(run, hives, workbook, folder):
    before = stored(hives)
    run("preview", workbook, "--into", hives, "--marked", "copy.xlsx")
    found = marks(folder / "copy.xlsx")
    assert [found[row][0] for row in (3, 4, 5, 6)] == ["would be updated", "unchanged", "rejected", "would be inserted"]
    assert stored(hives) == before


def test_a_table_of_the_sheets_own_keeps_its_filter(run, hives, folder):
    book = Workbook()
    for row in ROWS[1:6]:
        book.active.append(row)
    book.active.add_table(Table(displayName="inspections", ref="A1:E5"))
    book.save(folder / "t.xlsx")
    run("load", "t.xlsx#inspections", "--into", hives, "--yes", "--marked", "copy.xlsx")
    sheet = load_workbook(folder / "copy.xlsx").worksheets[0]
    assert sheet.auto_filter.ref is None
    assert marks(folder / "copy.xlsx", sheet.title, 1)[2][0] == "updated"


HOSTILE = [["apiary_code", "hive_no", "notes"], ["L01", 1, "=1+1"], ["L01", "@x", "+2"], ["-7", 2, "\ttab"]]


def test_rows_of_a_text_file_are_only_text_in_the_copy(run, hives, folder):
    incoming = text_file(folder / "in.csv", HOSTILE)
    run("load", incoming, "--into", hives, "--yes", "--marked", "copy.csv")
    with (folder / "copy.csv").open(encoding="utf-8-sig", newline="") as file:
        lines = list(csv.reader(file))
    assert lines[0][3:] == ["load: status", "load: why", "load: changed", "load: key", "load: time", "load: guarded"]
    assert [(line[3], line[8]) for line in lines[1:]] == [("updated", "yes"), ("rejected", "yes"), ("inserted", "yes")]
    assert [line[2] for line in lines[1:]] == ["'=1+1", "+2", "'\ttab"]  # a number stays one
    run("preview", incoming, "--into", hives, "--marked", "copy.xlsx")
    sheet = load_workbook(folder / "copy.xlsx")["Rows"]
    assert {cell.data_type for row in sheet.iter_rows() for cell in row if cell.value is not None} == {"s"}
    assert [sheet.cell(row, 3).value for row in (2, 3, 4)] == ["=1+1", "+2", "\ttab"]


@pytest.mark.parametrize("copy", ["copy.csv", "copy.xlsx", "rejects"])
def test_what_was_guarded_comes_back_as_it_was(run, folder, copy):
    """A copy that is corrected and sent in again brings the very same texts, also such as look guarded themselves."""
    target = database(folder / "coop.db", 'CREATE TABLE t (k INTEGER, "=note" TEXT)', "t", ())
    texts = ["=1+1", "'=1+1", "plain", "-x", "'quoted"]
    incoming = text_file(folder / "in.csv", [["k", "=note"], *([at, text] for at, text in enumerate(texts))])
    if copy == "rejects":
        copy = "r.csv"
        bad = text_file(folder / "bad.csv", [["k", "=note"], *([f"x{at}", text] for at, text in enumerate(texts))])
        run("preview", bad, "--into", target, "--key", "k", "--rejects", copy)
        (folder / copy).write_text((folder / copy).read_text("utf-8-sig").replace("\nx", "\n"), "utf-8")
    else:
        run("preview", incoming, "--into", target, "--key", "k", "--marked", copy)
    ended = run("load", copy, "--into", target, "--key", "k", "--yes", "--json")
    assert ended.receipt["tables"][0]["not_loaded"] == [], ended.err
    assert [row[1].decode() for row in stored(target)] == texts


def test_a_load_that_fails_leaves_no_copy_behind(run, hives, workbook, folder):
    before = stored(hives)
    for name in ("one", "two"):
        text_file(folder / f"{name}.csv", [["apiary_code", "hive_no", "queen_colour"], ["L01", 1 + len(name), name]])
    several = run("load", "*.csv", "--into", hives, "--yes", "--marked", "copy.csv")
    assert (several.status, "one sheet or file at a time" in several.err) == (2, True), several.err
    assert (stored(hives), (folder / "copy.csv").exists()) == (before, False)
    stopped = run("load", workbook, "--into", hives, "--strict", "--marked", "strict.xlsx")
    assert (stopped.status, (folder / "strict.xlsx").exists()) == (4, False)
    assert run("load", workbook, "--into", hives, "--yes", "--marked", "copy.ods").status == 2


def test_large_loads_in_parts_are_marked_in_the_order_of_the_rows(run, hives, folder, monkeypatch):
    monkeypatch.setenv("TIDYMERGE_ROWS_AT_ONCE", "20")
    monkeypatch.setenv("TIDYMERGE_LARGE_FILE", "10")
    rows = [[f"X{at % 7}", at, "red"] for at in range(300)]
    incoming = text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour"], *rows])
    run("load", incoming, "--into", hives, "--yes", "--most-inserted", "300", "--marked", "copy.csv")
    with (folder / "copy.csv").open(encoding="utf-8-sig", newline="") as file:
        lines = list(csv.reader(file))[1:]
    assert [[*line[:4], line[6]] for line in lines] == [
        [code, str(number), "red", "inserted", f"{code} / {number}"] for code, number, _ in rows
    ]
