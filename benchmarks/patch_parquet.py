"""One Parquet file of 40 row groups: written with the untouched ones copied as they are, and written whole.

    python benchmarks/patch_parquet.py [--rounds 3]

Only the writing of the new file is timed, inside of loads that touch 50 rows in each of so many row groups.
"""

import argparse
import csv
import os
import shutil
import statistics
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

ROWS, GROUPS = 2_000_000, 40


def make(path: Path) -> None:
    """The file."""
    from pyarrow import parquet

    random = np.random.default_rng(1)
    values = {
        "hive_id": np.arange(ROWS),
        "honey_g": random.integers(0, 500_000, ROWS),
        "weight": random.random(ROWS),
        "notes": np.char.add("seen ", random.integers(0, 100_000, ROWS).astype(str)),
        "colony_strength": random.integers(0, 20, ROWS).astype(np.int16),
    }
    parquet.write_table(pa.table(values), path, row_group_size=ROWS // GROUPS)


def writing(path: Path, incoming: Path, *, whole: bool) -> float:
    """The seconds that a load spends on writing the new file."""
    import tidymerge
    from tidymerge.formats.parquet import rows as parquet

    write, row_groups, took = parquet.ParquetRows._write, parquet.RowGroups, [0.0]  # noqa: SLF001 - taken apart here
    parquet._MOST_PATCHED = 1.0  # noqa: SLF001 - whatever the product would do

    def timed(self: parquet.ParquetRows, *given: Any) -> None:
        began = time.perf_counter()
        write(self, *given)
        took[0] += time.perf_counter() - began

    def none(_: memoryview) -> parquet.RowGroups:
        raise ValueError("not to be taken apart")

    parquet.ParquetRows._write = timed  # type: ignore[method-assign] # noqa: SLF001
    parquet.RowGroups = none if whole else row_groups  # type: ignore[misc,assignment]
    try:
        tidymerge.load(incoming, path, key="hive_id", accept_warnings=True)
    finally:
        parquet.ParquetRows._write, parquet.RowGroups = write, row_groups  # type: ignore[misc,method-assign] # noqa: SLF001
    return took[0]


def main() -> None:
    """Make the data, write it both ways in turn, print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["TIDYMERGE_HOME"] = str(folder / "home")
        make(folder / "hives.parquet")
        random = np.random.default_rng(2)
        print("| row groups touched | copied, s | whole, s | ratio |\n|---|---|---|---|")
        for touched in (1, 4, 10, 20, 28, 32, 36, 39):
            each = ROWS // GROUPS
            chosen = [group * each + at for group in range(touched) for at in random.choice(each, 50, replace=False)]
            with (folder / "in.csv").open("w", newline="", encoding="utf-8") as file:
                csv.writer(file).writerows([["hive_id", "honey_g"], *((at, 600_000 + at % 1000) for at in chosen)])
            found: dict[bool, list[float]] = {False: [], True: []}
            for _ in range(options.rounds):
                for whole, seconds in found.items():
                    shutil.copyfile(folder / "hives.parquet", folder / "copy.parquet")
                    seconds.append(writing(folder / "copy.parquet", folder / "in.csv", whole=whole))
            copied, wholly = (statistics.median(found[whole]) for whole in (False, True))
            print(f"| {touched} of {GROUPS} | {copied:.2f} | {wholly:.2f} | {copied / wholly:.2f} |")


if __name__ == "__main__":
    main()
