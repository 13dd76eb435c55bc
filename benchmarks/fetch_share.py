"""From which share of the table on it is faster to read all records than to look up the incoming keys.

    python benchmarks/fetch_share.py [--rows 1000000]

This is where the figure in targets/sqlite/target.py comes from.
"""

import argparse
import statistics
import tempfile
import time
from pathlib import Path

import pyarrow as pa

from coop import hives, make_database
from tidymerge.core.mapping import pair_columns
from tidymerge.targets.sqlite import target as sqlite


def seconds(database: Path, keys: pa.Table, share_limit: float) -> float:
    """How long fetching what may match takes when looking up is chosen below `share_limit`."""
    sqlite._LOOK_UP_SHARE = share_limit  # noqa: SLF001 - what is measured
    with sqlite.SqliteTarget(database, "hives", write=False) as target:
        shape = target.describe()
        pairing = pair_columns([column.name for column in shape.columns], shape)
        began = time.perf_counter()
        target.fetch(pairing, keys)
        return time.perf_counter() - began


def main() -> None:
    """Print, for each share, the medians of looking up and of reading all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    rows = parser.parse_args().rows
    with tempfile.TemporaryDirectory() as folder:
        database = Path(folder) / "coop.db"
        existing = hives(0, rows, seed=1)
        make_database(database, existing)
        print("| share of the table | look up, s | read all, s | ratio |\n|---|---|---|---|")
        for share in (0.05, 0.1, 0.2, 0.3, 0.4, 0.5):
            chosen = existing[:: round(1 / share)]
            keys = pa.table({"apiary_code": [row[0] for row in chosen], "hive_no": [row[1] for row in chosen]})
            pairs = [(seconds(database, keys, 2.0), seconds(database, keys, 0.0)) for _ in range(5)]
            look_up, read_all = (statistics.median(times) for times in zip(*pairs, strict=True))
            print(f"| {share:.0%} | {look_up:.2f} | {read_all:.2f} | {look_up / read_all:.2f} |")


if __name__ == "__main__":
    main()
