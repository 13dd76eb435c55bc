"""Loading into a server's table of a million hives, side by side with the hand-written way and the native upsert.

    python benchmarks/load_servers.py [--server postgresql --server mariadb] [--rows 1000000] [--rounds 5]

Needs the servers that TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name, by the URL of a database in
which `hives` may be made anew. Each way runs in a process of its own on a fresh copy of the same table; the ways
take turns, so that a noisy machine is noisy for all of them. What counts is the ratio of the medians.
"""

import argparse
import csv
import os
import tempfile
from collections.abc import Sequence
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

from coop import CREATE, hives, make_incoming
from load_sqlite import report
from turns import in_turn

_HERE = Path(__file__).parent
_REFILL = ("DROP TABLE IF EXISTS hives", CREATE, "INSERT INTO hives SELECT * FROM hives_kept")


def fill_postgresql(url: str, rows: Path) -> None:
    """Make `hives_kept`, from which every round starts."""
    import psycopg

    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("DROP TABLE IF EXISTS hives_kept")
        connection.execute(CREATE.replace("hives", "hives_kept"))
        with rows.open("rb") as file, connection.cursor().copy("COPY hives_kept FROM STDIN (FORMAT csv)") as copy:
            while block := file.read(1 << 20):
                copy.write(block)


def reset_postgresql(url: str) -> None:
    """A fresh table, vacuumed and written to disk, so that no round pays for the one before."""
    import psycopg

    with psycopg.connect(url, autocommit=True) as connection:
        for statement in (*_REFILL, "VACUUM ANALYZE hives", "CHECKPOINT"):
            connection.execute(statement)


def _mariadb(url: str) -> "object":
    import pymysql

    parts = urlsplit(url)
    socket = parse_qs(parts.query).get("unix_socket", [None])[0]
    return pymysql.connect(
        host=parts.hostname, port=parts.port or 3306, user=parts.username, database=parts.path.strip("/"),
        unix_socket=socket, local_infile=True, autocommit=True,
    )  # fmt: skip


def fill_mariadb(url: str, rows: Path) -> None:
    """Make `hives_kept`, from which every round starts."""
    cursor = _mariadb(url).cursor()
    cursor.execute("DROP TABLE IF EXISTS hives_kept")
    cursor.execute(CREATE.replace("hives", "hives_kept"))
    cursor.execute(
        "LOAD DATA LOCAL INFILE %s INTO TABLE hives_kept FIELDS TERMINATED BY ',' LINES TERMINATED BY '\\r\\n' "
        "(apiary_code, hive_no, @a, @b, @c, @d, @e, @f) SET queen_colour = nullif(@a, ''), "
        "colony_strength = nullif(@b, ''), honey_kg = nullif(@c, ''), last_inspected = nullif(@d, ''), "
        "keeper_id = nullif(@e, ''), notes = nullif(@f, '')",
        [str(rows)],
    )


def reset_mariadb(url: str) -> None:
    """A fresh table."""
    cursor = _mariadb(url).cursor()
    for statement in (*_REFILL, "ANALYZE TABLE hives"):
        cursor.execute(statement)


PREPARE = {"postgresql": (fill_postgresql, reset_postgresql), "mariadb": (fill_mariadb, reset_mariadb)}


def measure(
    server: str, url: str, incoming: Path, rounds: int, ways: Sequence[str] = ("hand-written", "upsert", "tidymerge")
) -> dict[str, list[dict]]:
    """The ways in turn, `rounds` times."""
    return in_turn(
        ways,
        rounds,
        lambda: PREPARE[server][1](url),
        lambda way: [str(_HERE / "ways_servers.py"), way, url, str(incoming)],
        {"TIDYMERGE_HOME": str(incoming.with_name("home"))},
    )


def main() -> None:
    """Make the data, run the ways, print the tables."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--server", action="append", choices=sorted(PREPARE))
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        existing = hives(0, options.rows, seed=1)
        rows = Path(folder) / "existing.csv"
        with rows.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(existing)
        cases = (("a", 1.0, 0.02, 0.05), ("b", 0.2, 0.10, 0.20))
        for case, share, new, changed in cases:
            make_incoming(Path(folder) / f"{case}.csv", existing, int(options.rows * share), new, changed, seed=2)
        del existing
        for server in options.server or sorted(PREPARE):
            url = os.environ[f"TIDYMERGE_BENCH_{server.upper()}"]
            PREPARE[server][0](url, rows)
            for case, share, new, changed in cases:
                found = measure(server, url, Path(folder) / f"{case}.csv", options.rounds)
                title = f"{server} ({case}) {options.rows * share:,.0f} rows, {new:.0%} new, {changed:.0%} changed"
                report(title, found)


if __name__ == "__main__":
    main()
