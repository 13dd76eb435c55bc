"""From which share of the table on it is faster to read all records than to look up the incoming keys.

    python benchmarks/fetch_share.py [--server postgresql --server mariadb] [--rows 1000000] [--rounds 5]

Without a server, in SQLite. The servers are those that TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name.
This is where `look_up_share` of each database comes from.
"""

import argparse
import csv
import os
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

import mixed
from coop import make_database
from load_servers import PREPARE
from mixed import CREATE, hives
from tidymerge.targets import open_target


def seconds(address: str, keys: pa.Table, share_limit: float) -> float:
    """How long fetching what may match takes when looking up is chosen below `share_limit`."""
    with open_target(address, write=False) as target:
        shape = target.describe()
        database = target.database
        database.traits = replace(database.traits, look_up_share=share_limit)
        began = time.perf_counter()
        target.fetch(shape.columns, [shape.column(name) for name in shape.primary_key], keys)
        return time.perf_counter() - began


def compare(address: str, existing: list[list], rounds: int) -> None:
    """Print, for each share, the medians of looking up and of reading all."""
    print(f"\n{address.partition('://')[0] if '://' in address else 'sqlite'}")
    print("| share of the table | look up, s | read all, s | ratio |\n|---|---|---|---|")
    for share in (0.05, 0.1, 0.2, 0.3, 0.4):
        chosen = (
            existing[:: round(1 / share)] if share < 0.4 else [row for at, row in enumerate(existing) if at % 5 < 2]
        )
        if share == 0.3:
            chosen = [row for at, row in enumerate(existing) if at % 10 < 3]
        chosen = [chosen[at] for at in np.random.default_rng(1).permutation(len(chosen))]
        keys = pa.table({"apiary_code": [row[0] for row in chosen], "hive_no": [row[1] for row in chosen]})
        pairs = [(seconds(address, keys, 2.0), seconds(address, keys, 0.0)) for _ in range(rounds)]
        look_up, read_all = (statistics.median(times) for times in zip(*pairs, strict=True))
        print(f"| {share:.0%} | {look_up:.2f} | {read_all:.2f} | {look_up / read_all:.2f} |", flush=True)


def main() -> None:
    """Make the data and compare."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--server", action="append", choices=sorted(PREPARE))
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    existing = hives(0, options.rows, seed=1)
    with tempfile.TemporaryDirectory() as folder:
        if not options.server:
            make_database(Path(folder) / "coop.db", existing, CREATE)
            compare(f"{folder}/coop.db#hives", existing, options.rounds)
        rows = Path(folder) / "existing.csv"
        with rows.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(existing)
        for server in options.server or ():
            url = os.environ[f"TIDYMERGE_BENCH_{server.upper()}"]
            PREPARE[server][0](url, rows, mixed)
            PREPARE[server][1](url, mixed)
            compare(f"{url}#hives", existing, options.rounds)


if __name__ == "__main__":
    main()
