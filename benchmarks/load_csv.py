"""A CSV file of a million hives as target, 5 % changed, side by side with a pandas read, merge and write.

    python benchmarks/load_csv.py [--rows 1000000] [--rounds 5]

pandas is only needed here. The aim is a ratio of at most 1.5.
"""

import csv
import shutil
import tempfile
from pathlib import Path

from coop import COLUMNS, hives, make_incoming
from turns import arguments, in_turn, table

_KEY = list(COLUMNS[:2])


def by_hand(target: str, path: str) -> None:
    """Both files read as text, the incoming values over the existing ones, and all written again."""
    import pandas as pd

    old, new = (pd.read_csv(name, dtype=str, keep_default_na=False) for name in (target, path))
    both = old.merge(new, on=_KEY, how="outer", suffixes=("", " new"), sort=False)
    for name in COLUMNS[2:]:
        given = both[f"{name} new"].fillna("")
        both[name] = given.where(given != "", both[name])
    both[list(COLUMNS)].to_csv(target, index=False)


def ours(target: str, path: str) -> None:
    """The product, which also logs, reads back and proves."""
    import tidymerge

    tidymerge.load(path, target, key=_KEY)


def main() -> None:
    """Make the data, run both ways in turn, print the table."""
    options = arguments(__doc__, {"pandas": by_hand, "tidymerge": ours}, rows=1_000_000, rounds=5)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        existing = hives(0, options.rows, seed=1)
        with (folder / "hives.csv").open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows([COLUMNS, *existing])
        make_incoming(folder / "in.csv", existing, options.rows, 0.02, 0.05, seed=2)
        del existing
        copy = folder / "copy.csv"
        found = in_turn(
            ("pandas", "tidymerge"),
            options.rounds,
            lambda: shutil.copyfile(folder / "hives.csv", copy),
            lambda way: [__file__, "--one", way, str(copy), str(folder / "in.csv")],
            {"TIDYMERGE_HOME": str(folder / "home")},
        )
        table(found)


if __name__ == "__main__":
    main()
