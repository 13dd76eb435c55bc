"""Loading into a server's table of a million hives, side by side with the hand-written way and the native upsert.

    python benchmarks/load_servers.py [--server postgresql --server mariadb] [--data mixed] [--rows 1000000]
        [--rounds 5]

Needs the servers that TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name, by the URL of a database in
which `hives` may be made anew. Each way runs in a process of its own on a fresh copy of the same table; the ways
take turns, so that a noisy machine is noisy for all of them. What counts is the ratio of the medians.
"""

import argparse
import csv
import importlib
import os
import tempfile
from collections.abc import Sequence
from pathlib import Path
from types import ModuleType
from urllib.parse import parse_qs, urlsplit

import coop
from load_sqlite import CASES, WAYS, report
from turns import in_turn

_HERE = Path(__file__).parent


def _refill(data: ModuleType) -> tuple[str, ...]:
    return "DROP TABLE IF EXISTS hives", data.CREATE, "INSERT INTO hives SELECT * FROM hives_kept"


def fill_postgresql(url: str, rows: Path, data: ModuleType = coop) -> None:
    """Make `hives_kept`, from which every round starts."""
    import psycopg

    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("DROP TABLE IF EXISTS hives_kept")
        connection.execute(data.CREATE.replace("hives", "hives_kept"))
        with rows.open("rb") as file, connection.cursor().copy("COPY hives_kept FROM STDIN (FORMAT csv)") as copy:
            while block := file.read(1 << 20):
                copy.write(block)


def reset_postgresql(url: str, data: ModuleType = coop) -> None:
    """A fresh table, vacuumed and written to disk, so that no round pays for the one before."""
    import psycopg

    with psycopg.connect(url, autocommit=True) as connection:
        for statement in (*_refill(data), "VACUUM ANALYZE hives", "CHECKPOINT"):
            connection.execute(statement)


def mariadb(url: str) -> "object":
    """A connection."""
    import pymysql

    parts = urlsplit(url)
    socket = parse_qs(parts.query).get("unix_socket", [None])[0]
    return pymysql.connect(
        host=parts.hostname, port=parts.port or 3306, user=parts.username, database=parts.path.strip("/"),
        unix_socket=socket, local_infile=True, autocommit=True,
    )  # fmt: skip


def fill_mariadb(url: str, rows: Path, data: ModuleType = coop) -> None:
    """Make `hives_kept`, from which every round starts."""
    cursor = mariadb(url).cursor()
    cursor.execute("DROP TABLE IF EXISTS hives_kept")
    cursor.execute(data.CREATE.replace("hives", "hives_kept"))
    key, values = data.COLUMNS[:2], data.COLUMNS[2:]
    listed = ", ".join((*key, *(f"@{name}" for name in values)))
    sets = ", ".join(f"{name} = nullif(@{name}, '')" for name in values)
    cursor.execute(
        "LOAD DATA LOCAL INFILE %s INTO TABLE hives_kept CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' "
        f"OPTIONALLY ENCLOSED BY '\"' LINES TERMINATED BY '\\r\\n' ({listed}) SET {sets}",
        [str(rows)],
    )


def reset_mariadb(url: str, data: ModuleType = coop) -> None:
    """A fresh table."""
    cursor = mariadb(url).cursor()
    for statement in (*_refill(data), "ANALYZE TABLE hives"):
        cursor.execute(statement)


PREPARE = {"postgresql": (fill_postgresql, reset_postgresql), "mariadb": (fill_mariadb, reset_mariadb)}


def measure(
    server: str,
    url: str,
    incoming: Path,
    rounds: int,
    data: ModuleType = coop,
    ways: Sequence[str] = WAYS,
) -> dict[str, list[dict]]:
    """The ways in turn, `rounds` times."""
    return in_turn(
        ways,
        rounds,
        lambda: PREPARE[server][1](url, data),
        lambda way: [str(_HERE / "ways_servers.py"), way, url, str(incoming), data.__name__],
        {"TIDYMERGE_HOME": str(incoming.with_name("home"))},
    )


def main() -> None:
    """Make the data, run the ways, print the tables."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--server", action="append", choices=sorted(PREPARE))
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--data", choices=("coop", "mixed"), default="coop")
    parser.add_argument("--case", action="append", choices=sorted(CASES))
    parser.add_argument("--way", action="append", choices=WAYS)
    options = parser.parse_args()
    data = importlib.import_module(options.data)
    with tempfile.TemporaryDirectory() as folder:
        existing = data.hives(0, options.rows, seed=1)
        rows = Path(folder) / "existing.csv"
        with rows.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(existing)
        cases = options.case or sorted(CASES)
        for case in cases:
            share, new, changed = CASES[case]
            data.make_incoming(Path(folder) / f"{case}.csv", existing, int(options.rows * share), new, changed, seed=2)
        del existing
        for server in options.server or sorted(PREPARE):
            url = os.environ[f"TIDYMERGE_BENCH_{server.upper()}"]
            PREPARE[server][0](url, rows, data)
            for case in cases:
                share, new, changed = CASES[case]
                found = measure(server, url, Path(folder) / f"{case}.csv", options.rounds, data, options.way or WAYS)
                title = f"{server} {options.data} ({case}) {options.rows * share:,.0f} rows, {new:.0%} new, {changed:.0%} changed"
                report(title, found)


if __name__ == "__main__":
    main()
