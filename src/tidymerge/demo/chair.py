"""The chair's sheet of one apiary: taken out, edited for days, and brought back while a warden was there, too."""

from pathlib import Path

SHEET, VISIT, CONFLICTS, REJECTS = "chair.xlsx", "visit.csv", "chair-conflicts.csv", "chair-rejects.csv"
LATE = "late.csv"
FILES = (SHEET, VISIT, CONFLICTS, REJECTS, LATE)
APIARY = "apiary_code = '205'"
_VISIT_TEXT = "Apiary code,Hive no.,Honey kg,Colony strength\n205,2,26.5,16\n"
_LATE_TEXT = (
    "Apiary code,Hive no.,Honey kg,Last inspected\n310,1,21.5,2026-08-12\n310,2,9,2026-08-12\n310,8,0,2026-08-12\n"
)
_EDITS = (("2", "honey_kg", 24), ("3", "notes", "requeened"), ("4", "queen_colour", "red"))


def make_visit(folder: Path) -> None:
    """Make the wardens' rows in `folder`, and let an earlier sheet of the chair's go."""
    (folder / SHEET).unlink(missing_ok=True)
    (folder / VISIT).write_text(_VISIT_TEXT, encoding="utf-8")
    (folder / LATE).write_text(_LATE_TEXT, encoding="utf-8")


def edit_sheet(path: Path) -> list[str]:
    """Change three cells of the sheet that was taken out, as the chair would; what was changed, in words."""
    from openpyxl import load_workbook

    book = load_workbook(path)
    sheet = book["hives"]
    names = [cell.value for cell in sheet[1]]
    said = []
    for row in sheet.iter_rows(min_row=2):
        for hive, column, value in _EDITS:
            if str(row[names.index("hive_no")].value) == hive:
                cell = row[names.index(column)]
                said.append(f"hive {hive}: {column} is {value}, not {cell.value or 'blank'}")
                cell.value = value
    book.save(path)
    return said
