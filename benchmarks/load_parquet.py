"""A folder of 20 Parquet files of 500,000 hives each as target, with changes in one file, two, ten or all of them.

    python benchmarks/load_parquet.py [--rounds 3]

5,000 rows come in each time, all of them with another value. By hand means: pandas reads each file, looks for the keys,
and writes the files in which it found some. Files without touched rows must keep their checksum and time stamp: both
are checked here in every run.
"""

import csv
import hashlib
import os
import shutil
import tempfile
from pathlib import Path

import numpy as np
import pyarrow as pa

from turns import arguments, in_turn, table

FILES, EACH, CHANGED = 20, 500_000, 5_000
_COLOURS = np.array(["white", "yellow", "red", "green", "blue"])


def make(folder: Path) -> None:
    """The files; hive numbers run on from one to the next."""
    from pyarrow import parquet

    folder.mkdir()
    for index in range(FILES):
        random = np.random.default_rng(index)
        number = np.arange(index * EACH, (index + 1) * EACH)
        values = {
            "hive_id": number,
            "queen_colour": _COLOURS[random.integers(0, 5, EACH)],
            "colony_strength": random.integers(0, 20, EACH).astype(np.int16),
            "honey_g": random.integers(0, 500_000, EACH),
            "last_inspected": np.datetime64("2024-01-01") + random.integers(0, 900, EACH),
            "notes": np.char.add("seen ", random.integers(0, 100_000, EACH).astype(str)),
        }
        parquet.write_table(pa.table(values), folder / f"part-{index:02}.parquet", row_group_size=100_000)


def make_incoming(path: Path, files: int) -> None:
    """Changes for hives in the first so many files."""
    random = np.random.default_rng(99)
    chosen = random.choice(files * EACH, CHANGED, replace=False)
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([["hive_id", "honey_g"], *((at, 600_000 + at % 1000) for at in chosen.tolist())])


def by_hand(target: str, path: str) -> None:
    """File by file with pandas."""
    import pandas as pd

    new = pd.read_csv(path).set_index("hive_id")["honey_g"]
    for file in sorted(Path(target).glob("*.parquet")):
        old = pd.read_parquet(file)
        given = old["hive_id"].map(new)
        if given.notna().any():
            old["honey_g"] = given.fillna(old["honey_g"]).astype("int64")
            old.to_parquet(file, index=False)


def ours(target: str, path: str) -> None:
    """The product."""
    import tidymerge

    receipt = tidymerge.load(path, target, key="hive_id", accept_warnings=True)
    assert receipt.rows.updated == CHANGED, receipt.rows  # noqa: S101


def state(folder: Path) -> dict[str, tuple[int, str]]:
    """Time stamp and checksum of each file."""
    return {
        path.name: (path.stat().st_mtime_ns, hashlib.sha256(path.read_bytes()).hexdigest())
        for path in folder.glob("*.parquet")
    }


def main() -> None:
    """Make the data, run both ways in turn, print the tables."""
    options = arguments(__doc__, {"pandas": by_hand, "tidymerge": ours}, rounds=3)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make(folder / "hives")
        copy = folder / "copy"

        def fresh() -> None:
            if copy.exists():
                check(copy, before, files)
                shutil.rmtree(copy)
            shutil.copytree(folder / "hives", copy)
            before.clear()
            before.update(state(copy))

        before: dict[str, tuple[int, str]] = {}
        for files in (1, 2, 10, 20):
            make_incoming(folder / "in.csv", files)
            environment = {"TIDYMERGE_HOME": str(folder / "home"), **os.environ}
            print(f"\nrows touched in {files} of {FILES} files, {FILES - files} files unchanged to the byte and second")
            table(
                in_turn(
                    ("pandas", "tidymerge"),
                    options.rounds,
                    fresh,
                    lambda way: [__file__, "--one", way, str(copy), str(folder / "in.csv")],
                    environment,
                )
            )
            check(copy, before, files)
            shutil.rmtree(copy)


def check(copy: Path, before: dict[str, tuple[int, str]], files: int) -> None:
    """Make sure that the files without touched rows are the same, and the others not."""
    after = state(copy)
    changed = sorted(name for name in before if before[name] != after[name])
    assert changed == [f"part-{index:02}.parquet" for index in range(files)], changed  # noqa: S101


if __name__ == "__main__":
    main()
