"""Making the co-operative's database and this week's workbook, as untidy as such workbooks are."""

import sqlite3
from datetime import date
from pathlib import Path
from typing import Any

from tidymerge.demo.season import make_season

DATABASE, WORKBOOK, LIST = "coop.db", "week32.xlsx", "hives.xlsx"

_SCHEMA = """
CREATE TABLE keepers (
    keeper_id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL, email VARCHAR(80) NOT NULL COLLATE NOCASE UNIQUE,
    mentor_id INTEGER REFERENCES keepers (keeper_id), fee DECIMAL(6, 2) NOT NULL);
CREATE TABLE apiaries (
    apiary_code VARCHAR(8) PRIMARY KEY, name VARCHAR(60) NOT NULL, altitude_m INTEGER);
CREATE TABLE hives (
    apiary_code VARCHAR(8) NOT NULL REFERENCES apiaries (apiary_code), hive_no INTEGER NOT NULL,
    queen_colour VARCHAR(10), colony_strength INTEGER CHECK (colony_strength BETWEEN 0 AND 30),
    honey_kg DECIMAL(8, 2), last_inspected DATE, keeper_id INTEGER REFERENCES keepers (keeper_id), notes TEXT,
    PRIMARY KEY (apiary_code, hive_no));
CREATE TABLE honey_lots (
    lot_no VARCHAR(12) PRIMARY KEY, apiary_code VARCHAR(8) NOT NULL REFERENCES apiaries (apiary_code),
    harvested DATE NOT NULL, kg DECIMAL(8, 2) NOT NULL CHECK (kg > 0));
CREATE TABLE inspections (
    apiary_code VARCHAR(8) NOT NULL, hive_no INTEGER NOT NULL, inspected DATE NOT NULL, remark TEXT,
    PRIMARY KEY (apiary_code, hive_no, inspected),
    FOREIGN KEY (apiary_code, hive_no) REFERENCES hives (apiary_code, hive_no));
"""
_KEEPERS = (
    (1, "Alma Brandt", "alma@example.org", None, 60),
    (2, "Jonas Peil", "jonas@example.org", 1, 45),
    (3, "Mirre Tal", "mirre@example.org", 1, 37.5),
    (4, "Oskar Venn", "oskar@example.org", 2, 37.5),
)
_APIARIES = (
    ("101", "Linden Meadow", 210),
    ("102", "Heather Bank", 340),
    ("205", "Mill Lane", 95),
    ("310", "Orchard End", 160),
)
_COLOURS = ("white", "yellow", "red", "green", "blue")
_HIVES_EACH = 6


def make_demo(folder: Path) -> None:
    """Make the database and the workbooks in `folder`, in place of older ones there."""
    folder.mkdir(parents=True, exist_ok=True)
    make_database(folder / DATABASE)
    make_workbook(folder / WORKBOOK)
    make_list(folder / LIST)
    make_season(folder)


def make_database(path: Path) -> None:
    """The co-operative's database with four apiaries of six hives each."""
    path.unlink(missing_ok=True)
    connection = sqlite3.connect(path)
    connection.executescript(_SCHEMA)
    connection.executemany("INSERT INTO keepers VALUES (?, ?, ?, ?, ?)", _KEEPERS)
    connection.executemany("INSERT INTO apiaries VALUES (?, ?, ?)", _APIARIES)
    connection.executemany("INSERT INTO hives VALUES (?, ?, ?, ?, ?, ?, ?, ?)", _hives())
    connection.execute("UPDATE hives SET queen_colour = 'Green' WHERE apiary_code = '205' AND hive_no = 6")
    connection.executemany(
        "INSERT INTO honey_lots VALUES (?, ?, ?, ?)",
        [(f"2026-{code}-1", code, "2026-06-20", 18.5 + int(code) % 7) for code, *_ in _APIARIES],
    )
    connection.executemany(
        "INSERT INTO inspections VALUES (?, ?, ?, ?)", [(*hive[:2], hive[5], None) for hive in _hives()]
    )
    connection.commit()
    connection.close()


def _hives() -> list[tuple[Any, ...]]:
    """The hives as they stand before this week."""
    return [
        (
            code,
            number,
            _COLOURS[(at + number) % 5],
            6 + (3 * at + 5 * number) % 11,
            round(4.25 + ((7 * at + 11 * number) % 29) * 0.75, 2),
            f"2026-07-{20 + (at + number) % 9:02d}",
            1 + (at + number) % 4,
            "new frame" if (at + number) % 4 == 0 else None,
        )
        for at, (code, *_) in enumerate(_APIARIES)
        for number in range(1, _HIVES_EACH + 1)
    ]


def make_workbook(path: Path) -> None:
    """This week's workbook: a sheet of inspections under a title block, with subtotals, and a sheet of notes."""
    from openpyxl import Workbook
    from openpyxl.styles import Font

    workbook = Workbook()
    sheet = workbook.active
    sheet.title = "Inspections"
    for row in _sheet_rows():
        sheet.append(row)
    sheet["A1"].font = Font(bold=True, size=14)
    for cell in sheet[4]:
        cell.font = Font(bold=True)
    for row in sheet.iter_rows(min_row=5, min_col=6, max_col=6):
        row[0].number_format = "dd/mm/yyyy"
    for letter, width in zip("ABCDEFGHI", (14, 10, 14, 16, 12, 15, 22, 20, 12), strict=True):
        sheet.column_dimensions[letter].width = width
    notes = workbook.create_sheet("Notes")
    notes.append(["Wardens: please give the honey in kilograms."])
    workbook.save(path)


def make_list(path: Path) -> None:
    """The chair's own list of the hives: a table under a title, with a column of formulas, colours and a chart."""
    from openpyxl import Workbook
    from openpyxl.chart import BarChart, Reference
    from openpyxl.formatting.rule import DataBarRule
    from openpyxl.styles import Font
    from openpyxl.worksheet.properties import PageSetupProperties
    from openpyxl.worksheet.table import Table, TableStyleInfo

    workbook = Workbook()
    sheet = workbook.active
    sheet.title = "Hives"
    sheet.append(["Our hives"])
    sheet["A1"].font = Font(name="Calibri", bold=True, size=14)
    sheet.append([])
    sheet.append([*_COLUMNS, "Visit"])
    for cell in sheet[sheet.max_row]:
        cell.font = Font(name="Calibri", bold=True)
    first = sheet.max_row + 1
    for number, hive in enumerate(_hives(), start=first):
        cells = [*hive[:5], date.fromisoformat(hive[5]), hive[7], f'=IF(D{number}<8,"soon","")']
        sheet.append(cells)
        sheet.cell(number, 5).number_format, sheet.cell(number, 6).number_format = "0.00", "d mmm yyyy"
    last = sheet.max_row
    table = Table(displayName="HiveList", ref=f"A{first - 1}:H{last}")
    table.tableStyleInfo = TableStyleInfo(name="TableStyleMedium7", showRowStripes=True)
    sheet.add_table(table)
    bars = DataBarRule(start_type="num", start_value=0, end_type="max", color="FFC78B2A")
    sheet.conditional_formatting.add(f"E{first}:E{last}", bars)
    chart = BarChart()
    chart.title = "Colony strength"
    chart.add_data(Reference(sheet, min_col=4, min_row=first, max_row=last))
    chart.legend = None
    sheet.add_chart(chart, "K3")
    sheet.freeze_panes = sheet.cell(first, 1)
    sheet.page_setup.orientation, sheet.sheet_properties.pageSetUpPr = "landscape", PageSetupProperties(fitToPage=True)
    for letter, width in zip("ABCDEFGHI", (14, 10, 14, 16, 12, 15, 22, 8, 12), strict=True):
        sheet.column_dimensions[letter].width = width
    workbook.save(path)


# What is new or wrong this week: the cells of a hive's row, by column number.
_SEEN = date(2026, 8, 5)
_NEWS: dict[tuple[str, int], dict[int, Any]] = {
    ("101", 1): {4: 16.0, 5: _SEEN},
    ("101", 2): {0: "101 ", 2: "\N{NO-BREAK SPACE}blue ", 5: _SEEN},  # spaces that nobody sees
    ("101", 4): {2: None, 6: None},  # nothing said: must not wipe what is known
    ("101", 5): {2: "White"},  # the same colour in another spelling
    ("101", 6): {2: "Y"},
    ("102", 1): {4: 201.9899999999999, 5: _SEEN},  # a float's noise
    ("102", 3): {4: "about 12"},  # text in a number column
    ("102", 5): {1: None},  # a blank key
    ("205", 2): {3: 15, 4: 20.5, 5: _SEEN},
    ("205", 3): {7: "Alma@example.org"},  # another keeper looks after it now
    ("205", 6): {3: 55},  # more than the table's check allows
    ("310", 2): {7: "hanna@example.org"},  # nobody knows her
    ("310", 3): {5: _SEEN, 6: "swarmed, caught again"},
}


def _sheet_rows() -> list[list[Any]]:
    """The sheet: most hives as they are, some with news, and every kind of trouble once."""
    emails = {keeper: email for keeper, _, email, *_ in _KEEPERS}
    rows: list[list[Any]] = [
        ["Weekly inspections, week 32"],
        ["Beekeepers' co-operative, collected by Mirre Tal"],
        [],
        [*_COLUMNS, "Warden", "Weather"],
    ]
    for code, number, colour, strength, honey, inspected, keeper, notes in _hives():
        if number == 1 and code != "101":
            rows.append([f"Subtotal above {int(code)}", None, None, None, 52.25])  # not a hive
        # The spreadsheet made numbers of the codes; the table keeps them as text.
        row = [
            float(code),
            float(number),
            colour,
            strength,
            honey,
            date.fromisoformat(inspected),
            notes,
            emails[keeper],
            "sunny",
        ]
        for at, cell in _NEWS.get((code, number), {}).items():
            row[at] = cell
        rows.append(row)
    again = [310.0, 5.0, "red", 9, 30.5, _SEEN, None, "alma@example.org", "rain"]  # a hive again, but otherwise
    return [
        *rows,
        again,
        [101.0, 7.0, "white", 5, 0, _SEEN, "from the swarm", "jonas@example.org", "sunny"],
        [310.0, 7.0, "white", 4, 0, _SEEN, None, "mirre@example.org", "sunny"],
        [],
        ["Total", None, None, None, 251.5],
    ]


_COLUMNS = ("Apiary code", "Hive no.", "Queen colour", "Colony strength", "Honey kg", "Last inspected", "Notes")


def finish_job(text: str) -> str:
    """The drafted job as a person would finish it: old news does not overwrite new.

    These wardens' sheets are messy: up to a quarter of the rows may be rejected.
    """
    rules = '\n[rules]\nupdate_when = "incoming.last_inspected >= existing.last_inspected"\n'
    rules += '\n[limits]\nrejected = "25%"\n'
    return text.rstrip() + "\n" + rules
