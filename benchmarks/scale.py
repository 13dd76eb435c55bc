"""How time grows with rows: the exponent of loads, rejects, refused rows and undos, for SQLite or a server.

    python benchmarks/scale.py [--server postgresql] [--most 3000000] [--rounds 3]

1 means twice the rows take twice the time. Each load runs in a process of its own; the imports are not counted, as
they would hide how the rest grows. The exponent is that of the line through the medians, in logarithms; the last one
is between the two largest sizes.
"""

import argparse
import csv
import json
import os
import shutil
import sqlite3
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import mixed
from load_servers import PREPARE, mariadb
from mixed import COLUMNS, CREATE, hives, make_incoming
from turns import in_turn

_SIZES = (100_000, 300_000, 1_000_000, 3_000_000)
_CASES = ("load (a)", "load (b)", "rejects", "refused", "undo")
# A rule that only writing tells of: of the hives with one note, no two have one address.
_RULE = "CREATE UNIQUE INDEX one_rich_hive ON hives (notes, email) WHERE notes = 'taken'"
_MARIADB_RULE = (
    "ALTER TABLE hives ADD COLUMN taken VARCHAR(40) AS (CASE WHEN notes = 'taken' THEN email END) VIRTUAL, "
    "ADD UNIQUE INDEX one_rich_hive (taken)"
)


class Sqlite:
    """The table in a file."""

    def fill(self, folder: Path, existing: list[list]) -> None:
        """Make the table, from which every turn starts."""
        connection = sqlite3.connect(folder / "coop.db")
        connection.execute(CREATE)
        connection.execute(_RULE)
        connection.executemany(f"INSERT INTO hives VALUES ({','.join('?' * len(COLUMNS))})", existing)
        connection.commit()
        connection.close()

    def fresh(self, folder: Path) -> None:
        """The table as it was."""
        shutil.copyfile(folder / "coop.db", folder / "copy.db")

    def address(self, folder: Path) -> str:
        """Where it is."""
        return f"{folder / 'copy.db'}#hives"


class Server:
    """The table on a server."""

    def __init__(self, kind: str) -> None:
        self._kind = kind
        self._url = os.environ[f"TIDYMERGE_BENCH_{kind.upper()}"]

    def fill(self, folder: Path, existing: list[list]) -> None:
        """Make the table, from which every turn starts."""
        with (folder / "existing.csv").open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(existing)
        PREPARE[self._kind][0](self._url, folder / "existing.csv", mixed)

    def fresh(self, _: Path) -> None:
        """The table as it was."""
        PREPARE[self._kind][1](self._url, mixed)
        if self._kind == "postgresql":
            import psycopg

            with psycopg.connect(self._url, autocommit=True) as connection:
                connection.execute(_RULE)
        else:
            mariadb(self._url).cursor().execute(_MARIADB_RULE)

    def address(self, _: Path) -> str:
        """Where it is."""
        return f"{self._url}#hives"


def make(folder: Path, rows: int, place: Sqlite | Server) -> None:
    """A table of `rows` hives, and the incoming rows of all cases."""
    existing = hives(0, rows, seed=1)
    place.fill(folder, existing)
    make_incoming(folder / "a.csv", existing, rows, 0.02, 0.05, seed=2)
    make_incoming(folder / "b.csv", existing, rows // 5, 0.10, 0.20, seed=2)
    with (folder / "b.csv").open(newline="", encoding="utf-8") as file:
        head, *given = csv.reader(file)
    _changed(folder / "rejects.csv", head, given, 10, {"colony_strength": "strong"})
    _changed(folder / "refused.csv", head, given, 100, {"notes": "taken", "email": "one@bees.example"})


def _changed(path: Path, head: list[str], rows: list[list[str]], each: int, values: dict[str, str]) -> None:
    """The rows, with other values in one of `each`."""
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(head)
        for at, row in enumerate(rows):
            new = list(row)
            for name, value in values.items() if at % each == 0 else ():
                new[head.index(name)] = value
            writer.writerow(new)


def one(case: str, folder: Path, address: str) -> dict:
    """Seconds of one case, and how many rows ended how."""
    import tidymerge
    from tidymerge import Limits, Most

    def load(name: str) -> "tidymerge.Receipt":
        return tidymerge.load(
            folder / f"{name}.csv", address, rejects=folder / "rejected.csv", accept_warnings=True,
            limits=Limits(updated=Most(100, "target"), inserted=Most(100, "target"), rejected=Most(100, "incoming")),
        )  # fmt: skip

    tidymerge.preview(folder / "few.csv", address)  # so that all is imported
    (folder / "rejected.csv").unlink(missing_ok=True)
    before = load("b") if case == "undo" else None
    began = time.perf_counter()
    receipt = tidymerge.undo(before.run) if before else load({"load (a)": "a", "load (b)": "b"}.get(case, case))
    seconds = time.perf_counter() - began
    return {
        "seconds": seconds,
        "written": receipt.rows.inserted + receipt.rows.updated,
        "rejected": receipt.rows.rejected,
    }


def main() -> None:
    """Make each size, measure each case, print the seconds and the exponents."""
    if sys.argv[1:2] == ["--one"]:
        print(json.dumps(one(sys.argv[2], Path(sys.argv[3]), sys.argv[4])))
        return
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--most", type=int, default=_SIZES[-1])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--server", choices=sorted(PREPARE))
    options = parser.parse_args()
    place = Server(options.server) if options.server else Sqlite()
    sizes = [size for size in _SIZES if size <= options.most]
    seconds: dict[str, list[float]] = {case: [] for case in _CASES}
    for size in sizes:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            make(folder, size, place)
            (folder / "few.csv").write_text(
                f"{','.join(COLUMNS)}\nA00000,0{',' * (len(COLUMNS) - 2)}\n", encoding="utf-8"
            )
            found = in_turn(
                _CASES, options.rounds,
                lambda folder=folder: place.fresh(folder),
                lambda case, folder=folder: [__file__, "--one", case, str(folder), place.address(folder)],
                {"TIDYMERGE_HOME": str(folder / "home")},
            )  # fmt: skip
            for case, runs in found.items():
                seconds[case].append(statistics.median(run["seconds"] for run in runs))
                ends = {(run["written"], run["rejected"]) for run in runs}
                print(
                    f"{size:,} {case}: {seconds[case][-1]:.2f} s, (written, rejected) {ends}",
                    file=sys.stderr,
                    flush=True,
                )
    print(f"| case | {' | '.join(f'{size:,}, s' for size in sizes)} | exponent | of the last step |")
    print("|---" * (len(sizes) + 3) + "|")
    for case, taken in seconds.items():
        steps = np.diff(np.log(taken)) / np.diff(np.log(sizes))
        slope = np.polyfit(np.log(sizes), np.log(taken), 1)[0]
        print(f"| {case} | {' | '.join(f'{each:.2f}' for each in taken)} | {slope:.2f} | {steps[-1]:.2f} |")


if __name__ == "__main__":
    main()
