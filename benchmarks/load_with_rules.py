"""What a job's rules cost: a million rows into a million hives, plainly and with rules on, turn by turn.

    python benchmarks/load_with_rules.py [--rows 1000000] [--rounds 5]

The job maps colours, reads dates by a format, looks keepers up by e-mail, computes a column, and has
`skip_when` and `update_when`. Both ways make the same changes. The aim is a ratio of at most 1.5.
"""

import argparse
import csv
import json
import shutil
import sqlite3
import statistics
import tempfile
import time
from pathlib import Path

from coop import COLUMNS, hives, make_database, make_incoming
from turns import in_turn
from ways_sqlite import peak_megabytes

JOB = """[target]
at = "copy.db#hives"
[incoming]
at = "rules.csv"
skip_when = "apiary_code like 'Total%'"
[columns]
apiary_code = "apiary_code"
hive_no = "hive_no"
queen_colour = { from = "queen_colour", values = { W = "white", Y = "yellow", R = "red", G = "green", B = "blue" } }
colony_strength = "colony_strength"
honey_kg = { compute = "cast(honey_kg as decimal(8,2)) * 1" }
last_inspected = { from = "last_inspected", date_format = "%d/%m/%Y" }
keeper_id = { from = "keeper_id", find = { in = "keepers", where = "email", take = "keeper_id" } }
notes = "notes"
[rules]
update_when = "incoming.colony_strength is null or incoming.colony_strength >= 0"
"""


def run_one(way: str, folder: str) -> None:
    """Load once in this process and print seconds, memory and counts as JSON."""
    import tidymerge

    began = time.perf_counter()
    if way == "plain":
        receipt = tidymerge.load(f"{folder}/a.csv", f"{folder}/copy.db#hives")
    else:
        receipt = tidymerge.load(job=f"{folder}/job.toml")
    seconds = time.perf_counter() - began
    counts = [receipt.rows.inserted, receipt.rows.updated, receipt.rows.unchanged]
    print(json.dumps({"seconds": seconds, "megabytes": peak_megabytes(), "counts": counts}))


def encode(folder: Path) -> None:
    """The same rows as a.csv, written as the job expects them."""
    with (folder / "a.csv").open(newline="") as plain, (folder / "rules.csv").open("w", newline="") as coded:
        reader, writer = csv.reader(plain), csv.writer(coded)
        writer.writerow(next(reader))
        for row in reader:
            row[2] = row[2][:1].upper()
            row[5] = "/".join(reversed(row[5].split("-")))
            row[6] = f"k{row[6]}@example.org" if row[6] else ""
            writer.writerow(row)
        writer.writerow(["Total", *[""] * (len(COLUMNS) - 1)])


def main() -> None:
    """Make the data, run both ways in turn, print medians and their ratio."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--one", nargs=2, metavar=("WAY", "FOLDER"))
    options = parser.parse_args()
    if options.one:
        run_one(*options.one)
        return
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        existing = hives(0, options.rows, seed=1)
        make_database(folder / "coop.db", existing)
        with sqlite3.connect(folder / "coop.db") as connection:
            connection.execute("CREATE TABLE keepers (keeper_id INTEGER PRIMARY KEY, email TEXT UNIQUE)")
            connection.executemany("INSERT INTO keepers VALUES (?, ?)", [(n, f"k{n}@example.org") for n in range(5000)])
        make_incoming(folder / "a.csv", existing, options.rows, 0.02, 0.05, seed=2)
        encode(folder)
        (folder / "job.toml").write_text(JOB)
        del existing
        found = in_turn(
            ("plain", "with rules"),
            options.rounds,
            lambda: shutil.copyfile(folder / "coop.db", folder / "copy.db"),
            lambda way: [__file__, "--one", way, name],
            {"TIDYMERGE_HOME": str(folder / "home")},
        )
    base = statistics.median(run["seconds"] for run in found["plain"])
    print("| way | median s | ratio | peak MB | inserted, updated, unchanged |\n|---|---|---|---|---|")
    for way, runs in found.items():
        median, memory = statistics.median(run["seconds"] for run in runs), max(run["megabytes"] for run in runs)
        print(f"| {way} | {median:.2f} | {median / base:.2f} | {memory:.0f} | {runs[0]['counts']} |")


if __name__ == "__main__":
    main()
