"""Changing, and removing, a tenth of a million records by a condition, side by side with the bare UPDATE and DELETE.

    python benchmarks/change_records.py [--rows 1000000] [--rounds 5]

Into SQLite, and into the servers that TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name, if they do. The bare
statements have no preview, count nothing but their rows, keep nothing to undo and read nothing back.
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


def bare(address: str, statement: str) -> None:
    """The bare statement, committed."""
    if address.startswith("postgresql"):
        import psycopg

        with psycopg.connect(address) as connection:
            connection.execute(statement)
    elif address.startswith("mariadb"):
        mariadb(address).cursor().execute(statement)
    else:
        with sqlite3.connect(address) as connection:
            connection.execute(statement)


def bare_update(address: str, _: str) -> None:
    """All that is wanted, and nothing else."""
    bare(address, f"UPDATE hives SET honey_kg = round(honey_kg * {_FACTOR}, 2) WHERE {_WHERE}")


def change(address: str, _: str) -> None:
    """The product, with limits, log, read-back and proof."""
    import tidymerge

    tidymerge.change(f"{address}#hives", {"honey_kg": f"honey_kg * {_FACTOR}"}, where=_WHERE)


def bare_delete(address: str, _: str) -> None:
    """All that is wanted, and nothing else."""
    bare(address, f"DELETE FROM hives WHERE {_WHERE}")


def remove(address: str, _: str) -> None:
    """The product, with limits, log and proof."""
    import tidymerge

    limits = tidymerge.Limits(removed=tidymerge.Most(50, "target"))
    tidymerge.remove(f"{address}#hives", where=_WHERE, limits=limits)


def empty_archive(address: str) -> None:
    """A table like the other one, for both ways."""
    bare(address, "DROP TABLE IF EXISTS hives_gone")
    if address.startswith("mariadb"):
        bare(address, "CREATE TABLE hives_gone LIKE hives")
    elif address.startswith("postgresql"):
        bare(address, "CREATE TABLE hives_gone (LIKE hives INCLUDING ALL)")
    else:
        bare(address, mixed.CREATE.replace("hives", "hives_gone"))


def bare_archive(address: str, _: str) -> None:
    """All that is wanted, and nothing else."""
    empty_archive(address)
    bare(address, f"INSERT INTO hives_gone SELECT * FROM hives WHERE {_WHERE}")
    bare(address, f"DELETE FROM hives WHERE {_WHERE}")


def archive(address: str, _: str) -> None:
    """The product, with limits, log and proof, and the copies read back before anything is removed."""
    import tidymerge

    empty_archive(address)
    limits = tidymerge.Limits(removed=tidymerge.Most(50, "target"))
    tidymerge.remove(f"{address}#hives", where=_WHERE, archive="hives_gone", limits=limits)


PAIRS = (
    {"UPDATE … WHERE": bare_update, "tidymerge change": change},
    {"DELETE … WHERE": bare_delete, "tidymerge remove": remove},
    {"INSERT … SELECT, DELETE": bare_archive, "tidymerge remove --archive": archive},
)
WAYS = {name: way for pair in PAIRS for name, way in pair.items()}


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
            for pair in PAIRS:
                found = in_turn(
                    pair, options.rounds, fresh, lambda way, at=address: [__file__, "--one", way, at, ""], home
                )
                table(found)


if __name__ == "__main__":
    main()
