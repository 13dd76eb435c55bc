"""Parents and their children with ids that the database gives, side by side with staging by hand.

    python benchmarks/load_family.py [--parents 100000] [--rounds 3]

Ten children a parent; a tenth of the parents, with their children, is there already, and half of those change. Into
SQLite, and into the servers that TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name. By hand that is a
staging table for each, UPDATE, INSERT … SELECT, and a join that finds the ids; with no preview, rejects, undo or proof.
"""

import csv
import os
import sqlite3
import tempfile
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from append_rows import _IDS, _run
from load_servers import mariadb
from turns import arguments, in_turn, table

Files = tuple[tuple[str, str, int], ...]
_CHILDREN = 10
_JOB = """
[[table]]
rows = "keepers.csv"
at = "{at}#keeper"
key = "email"
[[table]]
rows = "hives.csv"
at = "{at}#hive"
key = ["keeper", "no"]
[table.columns]
keeper = {{ from = "email", find = {{ in = "keeper", where = "email", take = "id" }} }}
no = "no"
kg = "kg"
notes = "notes"
"""
_BY_HAND = (
    (
        "UPDATE keeper SET name = (SELECT s.name FROM s_keeper s WHERE s.email = keeper.email) WHERE EXISTS "
        "(SELECT 1 FROM s_keeper s WHERE s.email = keeper.email AND s.name <> keeper.name)"
    ),
    (
        "INSERT INTO keeper (email, name) SELECT s.email, s.name FROM s_keeper s WHERE NOT EXISTS "
        "(SELECT 1 FROM keeper k WHERE k.email = s.email)"
    ),
    "INSERT INTO s_ids SELECT k.id, s.email FROM s_keeper s JOIN keeper k ON k.email = s.email",
    (
        "UPDATE hive SET kg = (SELECT s.kg FROM s_hive s JOIN s_ids i ON i.email = s.email WHERE i.id = hive.keeper AND "
        "s.no = hive.no) WHERE EXISTS (SELECT 1 FROM s_hive s JOIN s_ids i ON i.email = s.email WHERE i.id = hive.keeper "
        "AND s.no = hive.no AND s.kg <> hive.kg)"
    ),
    (
        "INSERT INTO hive (keeper, no, kg, notes) SELECT i.id, s.no, s.kg, s.notes FROM s_hive s JOIN s_ids i ON "
        "i.email = s.email WHERE NOT EXISTS (SELECT 1 FROM hive h WHERE h.keeper = i.id AND h.no = s.no)"
    ),
)
_STAGES = (
    "CREATE TEMPORARY TABLE s_keeper (email VARCHAR(40) PRIMARY KEY, name VARCHAR(40))",
    "CREATE TEMPORARY TABLE s_ids (id bigint PRIMARY KEY, email VARCHAR(40))",
    "CREATE TEMPORARY TABLE s_hive (email VARCHAR(40), no integer, kg DECIMAL(8, 2), notes VARCHAR(80), PRIMARY KEY (email, no))",
)  # fmt: skip
_INDEX = "CREATE UNIQUE INDEX s_ids_email ON s_ids (email)"


def parents(first: int, count: int, version: int) -> Iterator[tuple[str, str]]:
    """Keepers; a later version renames half of them."""
    for at in range(first, first + count):
        yield f"keeper{at * 7919 % 10_000_019}@example.org", f"Name {at} {version if at % 2 else 0}"


def children(first: int, count: int, version: int) -> Iterator[tuple[str, int, str, str]]:
    """The hives of some keepers."""
    for at, (email, _) in enumerate(parents(first, count, version), start=first):
        for no in range(_CHILDREN):
            yield email, no, f"{(at * 31 + no * 17 + version * (at % 2)) % 9000 / 100:.2f}", f"stand {at % 97}, süd"


def fresh(kind: str, address: str, folder: str, count: int) -> None:
    """Both tables, with a tenth of what comes."""
    _run(
        address, "DROP TABLE IF EXISTS hive", "DROP TABLE IF EXISTS keeper",
        f"CREATE TABLE keeper ({_IDS[kind]}, email VARCHAR(40) NOT NULL UNIQUE, name VARCHAR(40) NOT NULL)",
        f"CREATE TABLE hive ({_IDS[kind]}, keeper bigint NOT NULL, no integer NOT NULL, kg DECIMAL(8, 2), notes VARCHAR(80), "
        "UNIQUE (keeper, no), FOREIGN KEY (keeper) REFERENCES keeper (id))",
    )  # fmt: skip
    sheets(folder, 0, count // 10, version=0, name="before")
    by_hand(address, f"{folder}/before")


def sheets(folder: str, first: int, count: int, version: int, name: str) -> None:
    """The files of keepers and hives, and the job beside them."""
    place = Path(folder, name)
    place.mkdir(exist_ok=True)
    for file, names, rows in (
        ("keepers.csv", ("email", "name"), parents(first, count, version)),
        ("hives.csv", ("email", "no", "kg", "notes"), children(first, count, version)),
    ):
        with (place / file).open("w", newline="", encoding="utf-8") as out:
            csv.writer(out).writerows([names, *rows])


def _in_postgresql(address: str, files: Files) -> None:
    import psycopg

    with psycopg.connect(address) as connection:
        for statement in (*_STAGES, _INDEX):
            connection.execute(statement)
        for stage, path, _ in files:
            copy = f"COPY {stage} FROM STDIN (FORMAT csv, HEADER)"
            with Path(path).open("rb") as file, connection.cursor().copy(copy) as copying:
                while block := file.read(1 << 20):
                    copying.write(block)
            connection.execute(f"ANALYZE {stage}")
        for statement in _BY_HAND:
            connection.execute(statement)
            connection.execute("ANALYZE s_ids")


def _in_mariadb(address: str, files: Files) -> None:
    connection = mariadb(address)
    cursor = connection.cursor()
    for statement in (*_STAGES, _INDEX, "START TRANSACTION"):
        cursor.execute(statement)
    for stage, path, _ in files:
        cursor.execute(
            f"LOAD DATA LOCAL INFILE %s INTO TABLE {stage} CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' "
            "OPTIONALLY ENCLOSED BY '\"' LINES TERMINATED BY '\\r\\n' IGNORE 1 LINES",
            [path],
        )
    for statement in (*_BY_HAND, "COMMIT"):
        cursor.execute(statement)


def _in_sqlite(address: str, files: Files) -> None:
    with sqlite3.connect(address) as connection:
        for statement in (*_STAGES, _INDEX):
            connection.execute(statement)
        for stage, path, width in files:
            with Path(path).open(newline="", encoding="utf-8") as file:
                rows = csv.reader(file)
                next(rows)
                connection.executemany(f"INSERT INTO {stage} VALUES ({', '.join('?' * width)})", rows)
        for statement in _BY_HAND:
            connection.execute(statement)


def by_hand(address: str, folder: str) -> None:
    """Staging tables and set-based statements, in one transaction."""
    files = (("s_keeper", f"{folder}/keepers.csv", 2), ("s_hive", f"{folder}/hives.csv", 4))
    ways = {"postgresql": _in_postgresql, "mariadb": _in_mariadb}
    ways.get(address.partition(":")[0], _in_sqlite)(address, files)


def ours(address: str, folder: str) -> None:
    """The product, with preview's decision, log, read-back and proof."""
    import tidymerge

    Path(folder, "family.toml").write_text(_JOB.format(at=address))
    done = tidymerge.load(job=f"{folder}/family.toml", accept_warnings=True)
    if not done.verified:
        raise SystemExit("not verified")


WAYS = {"staging by hand": by_hand, "tidymerge load": ours}


def main() -> None:
    """Make the data, run the ways, print the tables."""
    options = arguments(__doc__, WAYS, parents=100_000, rounds=3)
    with tempfile.TemporaryDirectory() as folder:
        home = {"TIDYMERGE_HOME": f"{folder}/home"}
        sheets(folder, 0, options.parents, version=1, name="now")
        places = {"sqlite": f"{folder}/copy.db"}
        for server in ("postgresql", "mariadb"):
            url = os.environ.get(f"TIDYMERGE_BENCH_{server.upper()}")
            if url:
                places[server] = url
        for kind, address in places.items():
            print(f"\n{kind}, {options.parents:,} parents and {options.parents * _CHILDREN:,} children")
            prepare = partial(fresh, kind, address, folder, options.parents)
            table(
                in_turn(
                    WAYS, options.rounds, prepare,
                    lambda way, at=address: [__file__, "--one", way, at, f"{folder}/now"], home,
                )
            )  # fmt: skip


if __name__ == "__main__":
    main()
