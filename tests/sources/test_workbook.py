"""Reading workbooks: the right sheet, the types that the spreadsheet gave, the row numbers that a person sees."""

from datetime import date, datetime, time, timedelta

from openpyxl import Workbook

from tidymerge.core.tidy.convert import as_text
from tidymerge.model import ReadOptions
from tidymerge.sources import open_source


def test_types_offsets_and_blank_rows(tmp_path):
    book = Workbook()
    book.active.title = "Week 1"
    for at, row in {
        3: ["Code", "When", None, "Mixed"],
        4: [1001, datetime(2026, 5, 4), None, "text"],
        7: [None, " ", None, "\N{NO-BREAK SPACE}"],
        9: ["A", datetime(2026, 5, 4, 9, 30), None, True],
        10: [0.5, time(9, 30), None, timedelta(hours=30)],
    }.items():
        for column, cell in enumerate(row, start=2):
            book.active.cell(at, column, cell)
    book.create_sheet("Second").append(["x"])
    book.create_sheet("Hidden").sheet_state = "hidden"
    book.save(tmp_path / "in.xlsx")

    source = open_source(str(tmp_path / "in.xlsx"), ReadOptions())
    assert source.sheets() == (("Week 1", 10, 5), ("Second", 1, 1))
    assert "others are Second" in source.notes[0]
    incoming = source.read(2)
    assert incoming.row_numbers.tolist() == [4, 9, 10]
    assert {column.name: as_text(column).to_pylist() for column in incoming.columns} == {
        "Code": ["1001", "A", "0.5"],
        "When": ["2026-05-04", "2026-05-04 09:30:00", "09:30:00"],
        "Mixed": ["text", "true", "30:00:00"],
    }
    assert (
        date(2026, 5, 4)
        in incoming.column("When").arrays[0].to_pylist() + incoming.column("When").arrays[1].to_pylist()
    )
    assert open_source(f"{tmp_path}/in.xlsx#second", ReadOptions()).sheet == "Second"


def test_text_that_looks_like_a_number_stays_text(tmp_path):
    book = Workbook()
    book.active.append(["Code"])
    book.active.append(["0012"])
    book.save(tmp_path / "in.xlsx")
    incoming = open_source(str(tmp_path / "in.xlsx"), ReadOptions()).read(0)
    assert incoming.columns[0].arrays[0].to_pylist() == ["0012"]
