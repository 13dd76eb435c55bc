"""Loading into a SQLite table of a million hives, side by side with the hand-written way and the native upsert.

    python benchmarks/load_sqlite.py [--rows 1000000] [--rounds 5] [--data mixed] [--case b]

Each way runs in a process of its own on a fresh copy of the same database; the ways take turns, so
that a noisy machine is noisy for all of them. What counts is the ratio of the medians.
"""

import argparse
import importlib
import shutil
import statistics
import tempfile
from collections.abc import Sequence
from pathlib import Path

from coop import make_database
from turns import in_turn

WAYS = ("hand-written", "upsert", "tidymerge")
_HERE = Path(__file__).parent
# Incoming rows as a share of the table's, the share of new ones among them, that of changed ones.
CASES = {"a": (1.0, 0.02, 0.05), "b": (0.2, 0.10, 0.20), "c": (1.0, 0.0, 0.50)}


def measure(database: Path, incoming: Path, rounds: int, data: str, ways: Sequence[str]) -> dict[str, list[dict]]:
    """The ways in turn, `rounds` times."""
    copy = database.with_name("copy.db")
    return in_turn(
        ways,
        rounds,
        lambda: shutil.copyfile(database, copy),
        lambda way: [str(_HERE / "ways_sqlite.py"), way, str(copy), str(incoming), data],
        {"TIDYMERGE_HOME": str(database.with_name("home"))},
    )


def report(title: str, found: dict[str, list[dict]]) -> None:
    """Medians, ratios to the hand-written way, peak memory."""
    medians = {way: statistics.median(run["seconds"] for run in runs) for way, runs in found.items()}
    print(
        f"\n{title}\n| way | median s | lowest s | ratio | peak MB | updated | inserted |\n|---|---|---|---|---|---|---|"
    )
    for way, runs in found.items():
        lowest, memory = min(run["seconds"] for run in runs), max(run["megabytes"] for run in runs)
        print(
            f"| {way} | {medians[way]:.2f} | {lowest:.2f} | {medians[way] / medians['hand-written']:.2f} "
            f"| {memory:.0f} | {runs[0].get('updated', '')} | {runs[0].get('inserted', '')} |"
        )


def main() -> None:
    """Make the data, run the ways, print the tables."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--data", choices=("coop", "mixed"), default="coop")
    parser.add_argument("--case", action="append", choices=sorted(CASES))
    parser.add_argument("--way", action="append", choices=WAYS)
    options = parser.parse_args()
    data = importlib.import_module(options.data)
    with tempfile.TemporaryDirectory() as folder:
        database = Path(folder) / "coop.db"
        existing = data.hives(0, options.rows, seed=1)
        make_database(database, existing, data.CREATE)
        cases = options.case or sorted(CASES)
        for case in cases:
            share, new, changed = CASES[case]
            data.make_incoming(Path(folder) / f"{case}.csv", existing, int(options.rows * share), new, changed, seed=2)
        del existing
        for case in cases:
            share, new, changed = CASES[case]
            found = measure(database, Path(folder) / f"{case}.csv", options.rounds, options.data, options.way or WAYS)
            report(
                f"{options.data} ({case}) {options.rows * share:,.0f} rows, {new:.0%} new, {changed:.0%} changed", found
            )


if __name__ == "__main__":
    main()
