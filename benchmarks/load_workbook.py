"""A sheet of 100,000 rows by 12 columns as target, 5 % changed, side by side with opening and saving it by openpyxl.

    python benchmarks/load_workbook.py [--rows 100000] [--rounds 5]

The aim is a ratio of at most 1.3, although openpyxl only opens and saves, and the product also matches, compares,
logs, reads back and proves.
"""

import random
import shutil
import tempfile
from datetime import date, timedelta
from pathlib import Path

from turns import arguments, in_turn, table

_HEAD = [
    "apiary_code", "hive_no", "queen_colour", "colony_strength", "honey_kg", "last_inspected", "keeper", "notes",
    "varroa", "frames", "feed_kg", "seen_by",
]  # fmt: skip
_KEY = _HEAD[:2]


def row_of(at: int, dice: random.Random) -> list[object]:
    """One made-up hive."""
    return [
        f"A{at // 50:04}", at % 50 + 1, dice.choice(["white", "yellow", "red", "green", "blue"]), dice.randint(0, 30),
        dice.randint(0, 5000) / 100, date(2026, 4, 1) + timedelta(days=dice.randint(0, 90)), f"keeper {at % 97}",
        f"note {at}", dice.randint(0, 9), dice.randint(1, 20), dice.randint(0, 300) / 10, f"warden {at % 13}",
    ]  # fmt: skip


def by_hand(target: str, _: str) -> None:
    """Open and save: no comparison, no change."""
    from openpyxl import load_workbook

    load_workbook(target).save(target)


def ours(target: str, path: str) -> None:
    """The product."""
    import tidymerge

    tidymerge.load(path, target, key=_KEY)


def make(folder: Path, rows: int) -> None:
    """The workbook, and the incoming rows: all of the workbook's, 5 % of them with another value."""
    import csv

    from openpyxl import Workbook

    dice = random.Random(1)  # noqa: S311 - made-up data
    book = Workbook()
    book.active.append(_HEAD)
    with (folder / "in.csv").open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(_HEAD)
        for at in range(rows):
            row = row_of(at, dice)
            book.active.append(row)
            if dice.random() < 0.05:
                row[4] = 77.25
            writer.writerow(row)
    for at, cells in enumerate(book.active.iter_rows(min_row=2, min_col=5, max_col=6), start=2):
        cells[0].number_format = "0.00"
        cells[1].number_format = "dd.mm.yyyy"
        if at > rows:
            break
    book.save(folder / "hives.xlsx")


def main() -> None:
    """Make the data, run both ways in turn, print the table."""
    options = arguments(__doc__, {"openpyxl": by_hand, "tidymerge": ours}, rows=100_000, rounds=5)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make(folder, options.rows)
        copy = folder / "copy.xlsx"
        found = in_turn(
            ("openpyxl", "tidymerge"),
            options.rounds,
            lambda: shutil.copyfile(folder / "hives.xlsx", copy),
            lambda way: [__file__, "--one", way, str(copy), str(folder / "in.csv")],
            {"TIDYMERGE_HOME": str(folder / "home")},
        )
        table(found)


if __name__ == "__main__":
    main()
