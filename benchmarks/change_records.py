"""Changing a tenth of a million records by a condition, side by side with the bare UPDATE.

    python benchmarks/change_records.py [--rows 1000000] [--rounds 5]

Into SQLite, and into the servers that TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name, if they do. The bare
UPDATE has no preview, counts nothing but its rows, keeps nothing to undo and reads nothing back.
"""

import csv
import os
import shutil
import sqlite3
import tempfile
from pathlib import Path

import mixed
from coop import make_database
from load_servers import PREPARE, mariadb
from turns import arguments, in_turn, table

_WHERE = "colony_strength in (3, 11)"  # a tenth of the records
_FACTOR = "1.05"


def hand_written(address: str, _: str) -> None:
    """The bare statement, committed."""
    sql = f"UPDATE hives SET honey_kg = round(honey_kg * {_FACTOR}, 2) WHERE {_WHERE}"
    if address.startswith("postgresql"):
        import psycopg

        with psycopg.connect(address) as connection:
            connection.execute(sql)
    elif address.startswith("mariadb"):
        mariadb(address).cursor().execute(sql)
    else:
        with sqlite3.connect(address) as connection:
            connection.execute(sql)


def ours(address: str, _: str) -> None:
    """The product, with limits, log, read-back and proof."""
    import tidymerge

    tidymerge.change(f"{address}#hives", {"honey_kg": f"honey_kg * {_FACTOR}"}, where=_WHERE)


WAYS = {"UPDATE … WHERE": hand_written, "tidymerge change": ours}


def main() -> None:
    """Make the data, run the ways, print the tables."""
    options = arguments(__doc__, WAYS, rows=1_000_000, rounds=5)
    with tempfile.TemporaryDirectory() as folder:
        home = {"TIDYMERGE_HOME": f"{folder}/home"}
        existing = mixed.hives(0, options.rows, seed=1)
        kept, copy, rows = (Path(folder) / name for name in ("kept.db", "copy.db", "rows.csv"))
        make_database(kept, existing, mixed.CREATE)
        with rows.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(existing)
        del existing
        places = [("sqlite", str(copy), lambda: shutil.copyfile(kept, copy))]
        for server, (fill, reset) in PREPARE.items():
            url = os.environ.get(f"TIDYMERGE_BENCH_{server.upper()}")
            if url:
                fill(url, rows, mixed)
                places.append((server, url, lambda reset=reset, url=url: reset(url, mixed)))
        for name, address, fresh in places:
            print(f"\n{name}, {options.rows:,} records")
            table(in_turn(WAYS, options.rounds, fresh, lambda way, at=address: [__file__, "--one", way, at, ""], home))


if __name__ == "__main__":
    main()
