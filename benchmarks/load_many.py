"""Ten million incoming rows against ten million on PostgreSQL, in one transaction and bounded memory.

    python benchmarks/load_many.py [--rows 10000000]

Needs TIDYMERGE_BENCH_POSTGRESQL, the URL of a database in which `hives` may be made anew. One run of the
hand-written way and one of ours, each in a process of its own on a fresh copy of the table.
"""

import argparse
import csv
import os
import tempfile
from pathlib import Path

import numpy as np

from coop import COLUMNS, hives
from load_servers import fill_postgresql, measure
from load_sqlite import report

_CHUNK = 500_000


def make(folder: Path, rows: int) -> tuple[Path, Path]:
    """Existing rows without a header, and incoming ones with: 2 % new, 5 % changed, shuffled in chunks."""
    random = np.random.default_rng(3)
    existing, incoming = folder / "existing.csv", folder / "incoming.csv"
    with (
        existing.open("w", newline="", encoding="utf-8") as old,
        incoming.open("w", newline="", encoding="utf-8") as new,
    ):
        kept, given = csv.writer(old), csv.writer(new)
        given.writerow(COLUMNS)
        for start in range(0, rows, _CHUNK):
            chunk = hives(start, _CHUNK, seed=start)
            kept.writerows(chunk)
            fresh = hives(rows + start // 50, _CHUNK // 50, seed=start + 1)
            for row in chunk[: _CHUNK // 20]:
                row[4] = f"{random.integers(5000, 9000) / 100:.2f}"
            together = chunk[: _CHUNK - len(fresh)] + fresh
            given.writerows(together[at] for at in random.permutation(len(together)))
    return existing, incoming


def main() -> None:
    """Make the data, run both ways, print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=10_000_000)
    options = parser.parse_args()
    url = os.environ["TIDYMERGE_BENCH_POSTGRESQL"]
    with tempfile.TemporaryDirectory() as name:
        existing, incoming = make(Path(name), options.rows)
        fill_postgresql(url, existing)
        existing.unlink()
        found = measure("postgresql", url, incoming, 1, ways=("hand-written", "tidymerge"))
        report(f"postgresql, {options.rows:,} rows, 2% new, 5% changed", found)


if __name__ == "__main__":
    main()
