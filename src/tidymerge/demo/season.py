"""The season's workbook: new keepers, an apiary, and one wide sheet of hives and what was seen there."""

from datetime import date
from pathlib import Path
from typing import Any

SEASON, JOB = "season.xlsx", "season.toml"

JOB_TEXT = """\
# The season's workbook goes into four tables, in one run: parents before their children.
[incoming]
at = "season.xlsx"

[[table]]
rows = "#Keepers"
at = "coop.db#keepers"
key = "email"
[table.columns]
name = "Name"
email = "E-mail"
fee = "Fee"
mentor_id = { from = "Mentor", find = { in = "keepers", where = "email", take = "keeper_id" } }

[[table]]
rows = "#Apiaries"
at = "coop.db#apiaries"

# One wide sheet: a row says something of a hive, and of what was seen there.
[[table]]
rows = "#Visits"
at = "coop.db#hives"
[table.columns]
apiary_code = "Apiary"
hive_no = "Hive"
queen_colour = "Queen"
keeper_id = { from = "Keeper", find = { in = "keepers", where = "email", take = "keeper_id" } }

[[table]]
rows = "#Visits"
at = "coop.db#inspections"
[table.columns]
apiary_code = "Apiary"
hive_no = "Hive"
inspected = "Seen on"
remark = "Remark"
"""
_KEEPERS: tuple[tuple[Any, ...], ...] = (
    ("Name", "E-mail", "Mentor", "Fee"),
    ("Nela Roth", "nela@example.org", "tam@example.org", 30),  # her mentor is new, too, and comes after her
    ("Tam Okoro", "tam@example.org", "alma@example.org", 45),
    ("Jonas Peil", "jonas@example.org", "alma@example.org", None),
    ("Ben Ost", "ben@example.org", "nela@example.org", "free"),  # no fee that the table could hold
)
_APIARIES: tuple[tuple[Any, ...], ...] = (
    ("Apiary code", "Name", "Altitude m"),
    ("310", "Orchard End", 160),
    ("412", "Fir Hollow", 520),
)
_VISITS: tuple[tuple[Any, ...], ...] = (
    ("Apiary", "Hive", "Queen", "Keeper", "Seen on", "Remark"),
    ("412", 1, "white", "nela@example.org", date(2026, 9, 2), "settled in"),
    ("412", 1, "white", "nela@example.org", date(2026, 9, 9), "flying well"),
    ("412", 2, "red", "tam@example.org", date(2026, 9, 2), None),
    ("412", 3, "blue", "tam@example.org", date(2026, 9, 2), "weak"),
    ("412", 3, "white", "tam@example.org", date(2026, 9, 9), "weak"),  # which colour is it?
    ("412", 4, "red", "ben@example.org", date(2026, 9, 9), "his first"),
    ("310", 6, None, "tam@example.org", date(2026, 7, 20), None),  # given to another keeper
)


def make_season(folder: Path) -> None:
    """Make the workbook and its job in `folder`, in place of older ones there."""
    from openpyxl import Workbook
    from openpyxl.styles import Font

    workbook = Workbook()
    workbook.remove(workbook.active)
    for name, rows in (("Keepers", _KEEPERS), ("Apiaries", _APIARIES), ("Visits", _VISITS)):
        sheet = workbook.create_sheet(name)
        for row in rows:
            sheet.append(row)
        for cell in sheet[1]:
            cell.font = Font(bold=True)
        for letter in "ABCDEF":
            sheet.column_dimensions[letter].width = 18
    workbook.save(folder / SEASON)
    (folder / JOB).write_text(JOB_TEXT, encoding="utf-8")
