"""What the run log costs: the same load with the log and with all that keeps it taken out, turn by turn.

    python benchmarks/log_cost.py [--rows 1000000] [--rounds 5]

Case (a) of load_sqlite.py (2 % new, 5 % changed), and one in which every second record changes. The aims: at most 15 % of
the run's time, and at most 40 % of the size of the changed rows in the CSV. Servers too, where
TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name them.
"""

import argparse
import csv
import json
import os
import shutil
import statistics
import tempfile
import time
from pathlib import Path

from coop import hives, make_database, make_incoming
from load_servers import PREPARE
from turns import in_turn


def without_log() -> None:
    """Take out what reads the records once more for the log, and what writes it."""
    import numpy as np
    import pyarrow as pa

    from tidymerge.history.folder import FolderRecording
    from tidymerge.run import commit, gather
    from tidymerge.targets.sql import SqlTarget

    def nothing_read(_: SqlTarget, changes, columns, *, written: bool = False) -> pa.Table:
        return pa.table({"n": np.zeros(changes.written if written else len(changes.updates))})

    SqlTarget.as_stored = nothing_read
    commit.logged = lambda *_: None
    gather.checksums = lambda _: {}
    FolderRecording.add = FolderRecording.seal = FolderRecording.settle = lambda *_: None


def run_one(way: str, path: str, target: str) -> None:
    """Load once in this process and print seconds and the size of the log as JSON."""
    import tidymerge

    if way == "without":
        without_log()
    began = time.perf_counter()
    receipt = tidymerge.load(path, target, limits=tidymerge.Limits(updated=tidymerge.Most(100, "target")))
    seconds = time.perf_counter() - began
    size = sum(file.stat().st_size for file in (Path(os.environ["TIDYMERGE_HOME"]) / "runs").glob("*.parquet"))
    print(json.dumps({"seconds": seconds, "size": size, "counts": [receipt.rows.inserted, receipt.rows.updated]}))


def changed_size(path: Path, existing: list[list]) -> int:
    """The bytes of the CSV's rows that differ from the table."""
    known = {",".join("" if value is None else str(value) for value in row) for row in existing}
    with path.open("r", encoding="utf-8", newline="") as file:
        next(file)
        return sum(len(line) for line in file if line.rstrip("\r\n") not in known)


def main() -> None:
    """Make the data, run both ways, print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--one", nargs=3)
    options = parser.parse_args()
    if options.one:
        run_one(*options.one)
        return
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        existing = hives(0, options.rows, seed=1)
        make_database(folder / "coop.db", existing)
        copy, rows = folder / "copy.db", folder / "existing.csv"
        with rows.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(existing)
        print(
            "| target and case | with the log, s | without, s | more | size of log, MB | of the CSV's changed rows |\n|---|---|---|---|---|---|"
        )
        for case, new, changed in (("2 % new, 5 % changed", 0.02, 0.05), ("50 % changed", 0.0, 0.5)):
            path = folder / "in.csv"
            make_incoming(path, existing, options.rows, new, changed, seed=2)
            size = changed_size(path, existing)
            targets = {"SQLite": (f"{copy}#hives", lambda: shutil.copyfile(folder / "coop.db", copy))}
            for server in ("postgresql", "mariadb"):
                url = os.environ.get(f"TIDYMERGE_BENCH_{server.upper()}")
                if url and new:
                    fill, reset = PREPARE[server]
                    fill(url, rows)
                    targets[server] = (f"{url}#hives", lambda url=url, reset=reset: reset(url))
            for target, (address, make) in targets.items():
                home = folder / "home"
                found = in_turn(
                    ("with", "without"),
                    options.rounds,
                    lambda make=make, home=home: (make(), shutil.rmtree(home, ignore_errors=True)),
                    lambda way, path=path, address=address: [__file__, "--one", way, str(path), address],
                    {"TIDYMERGE_HOME": str(home)},
                )
                medians = {way: statistics.median(run["seconds"] for run in runs) for way, runs in found.items()}
                log = found["with"][0]["size"]
                print(
                    f"| {target}, {case} | {medians['with']:.2f} | {medians['without']:.2f} | "
                    f"{medians['with'] / medians['without'] - 1:.0%} | {log / 1e6:.2f} | {log / size:.0%} |",
                    flush=True,
                )


if __name__ == "__main__":
    main()
