"""One way of loading a CSV into SQLite, run alone in a process so that its time and memory are its own.

python benchmarks/ways_sqlite.py WAY DATABASE CSV [DATA]     prints JSON: seconds, megabytes, counts

DATA is the module that made the data: coop, or mixed.
"""

import csv
import importlib
import json
import sqlite3
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

_PRIMARY_KEY = ", PRIMARY KEY (apiary_code, hive_no)"


def _rows(path: str) -> Iterator[list]:
    with open(path, newline="", encoding="utf-8") as file:
        reader = csv.reader(file)
        next(reader)
        for row in reader:
            yield [cell or None for cell in row]


def hand_written(database: str, path: str, data: ModuleType) -> dict:
    """What an expert writes: a temporary table, one UPDATE of differing rows, one INSERT of missing ones."""
    connection = sqlite3.connect(database, isolation_level=None)
    connection.execute("BEGIN IMMEDIATE")
    # Without the key: the look-ups go into hives, and an index on the incoming rows only costs time.
    create = data.CREATE.replace("CREATE TABLE hives", "CREATE TEMP TABLE incoming").replace(_PRIMARY_KEY, "")
    connection.execute(create)
    connection.executemany(f"INSERT INTO temp.incoming VALUES ({','.join('?' * len(data.COLUMNS))})", _rows(path))
    same = " AND ".join(f"h.{name} = i.{name}" for name in data.COLUMNS[:2])
    differs = " OR ".join(f"(i.{name} IS NOT NULL AND h.{name} IS NOT i.{name})" for name in data.COLUMNS[2:])
    sets = ", ".join(f"{name} = coalesce(i.{name}, h.{name})" for name in data.COLUMNS[2:])
    updated = connection.execute(
        f"UPDATE main.hives AS h SET {sets} FROM temp.incoming i WHERE {same} AND ({differs})"
    ).rowcount
    inserted = connection.execute(
        f"INSERT INTO main.hives SELECT * FROM temp.incoming i WHERE NOT EXISTS (SELECT 1 FROM main.hives h WHERE {same})"
    ).rowcount
    connection.execute("COMMIT")
    return {"updated": updated, "inserted": inserted}


def upsert(database: str, path: str, data: ModuleType) -> dict:
    """Every row through the database's own insert-or-update, in batches."""
    connection = sqlite3.connect(database, isolation_level=None)
    connection.execute("BEGIN IMMEDIATE")
    sets = ", ".join(f"{name} = coalesce(excluded.{name}, {name})" for name in data.COLUMNS[2:])
    connection.executemany(
        f"INSERT INTO hives VALUES ({','.join('?' * len(data.COLUMNS))}) ON CONFLICT ({', '.join(data.COLUMNS[:2])}) DO UPDATE SET {sets}",
        _rows(path),
    )
    connection.execute("COMMIT")
    return {}


def ours(database: str, path: str, data: ModuleType) -> dict:
    """The product, with preview's decision, constraints, read-back and proof."""
    import tidymerge

    receipt = tidymerge.load(path, f"{database}#hives")
    return {"updated": receipt.rows.updated, "inserted": receipt.rows.inserted}


def peak_megabytes() -> float:
    """This process's own highest resident memory (getrusage would count the parent's at the fork)."""
    lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM")) / 1024


if __name__ == "__main__":
    way = {"hand-written": hand_written, "upsert": upsert, "tidymerge": ours}[sys.argv[1]]
    data = importlib.import_module(sys.argv[4] if len(sys.argv) > 4 else "coop")
    began = time.perf_counter()
    counts = way(sys.argv[2], sys.argv[3], data)
    seconds = time.perf_counter() - began
    print(json.dumps({"seconds": seconds, "megabytes": peak_megabytes(), **counts}))
