"""One way of loading a CSV into a server's table, run alone in a process so that its time and memory are its own.

python benchmarks/ways_servers.py WAY URL CSV [DATA]     prints JSON: seconds, megabytes, counts

DATA is the module that made the data: coop, or mixed.
"""

import importlib
import json
import sys
import time
from collections.abc import Callable
from urllib.parse import parse_qs, urlsplit

from ways_sqlite import peak_megabytes

_DATA = importlib.import_module(sys.argv[4] if len(sys.argv) > 4 else "coop")
_KEY, _VALUES = _DATA.COLUMNS[:2], _DATA.COLUMNS[2:]
_STAGE = _DATA.CREATE.replace("CREATE TABLE hives", "CREATE TEMPORARY TABLE incoming").replace(
    ", PRIMARY KEY (apiary_code, hive_no)", ""
)
_SAME = " AND ".join(f"h.{name} = i.{name}" for name in _KEY)


def postgresql_hand_written(url: str, path: str) -> dict:
    """What an expert writes: COPY to a temporary table, one UPDATE of differing rows, one INSERT of missing ones."""
    import psycopg

    with psycopg.connect(url) as connection:
        connection.execute(_STAGE)
        _copy(connection, path)
        connection.execute("ANALYZE incoming")
        differs = " OR ".join(f"(i.{name} IS NOT NULL AND h.{name} IS DISTINCT FROM i.{name})" for name in _VALUES)
        sets = ", ".join(f"{name} = coalesce(i.{name}, h.{name})" for name in _VALUES)
        updated = connection.execute(
            f"UPDATE hives h SET {sets} FROM incoming i WHERE {_SAME} AND ({differs})"
        ).rowcount
        inserted = connection.execute(
            f"INSERT INTO hives SELECT * FROM incoming i WHERE NOT EXISTS (SELECT 1 FROM hives h WHERE {_SAME})"
        ).rowcount
    return {"updated": updated, "inserted": inserted}


def postgresql_upsert(url: str, path: str) -> dict:
    """Every row through the server's own insert-or-update."""
    import psycopg

    with psycopg.connect(url) as connection:
        connection.execute(_STAGE)
        _copy(connection, path)
        sets = ", ".join(f"{name} = coalesce(excluded.{name}, hives.{name})" for name in _VALUES)
        connection.execute(
            f"INSERT INTO hives SELECT * FROM incoming ON CONFLICT ({', '.join(_KEY)}) DO UPDATE SET {sets}"
        )
    return {}


def _copy(connection: "object", path: str) -> None:
    with (
        open(path, "rb") as file,
        connection.cursor().copy("COPY incoming FROM STDIN (FORMAT csv, HEADER true)") as copy,
    ):
        while block := file.read(1 << 20):
            copy.write(block)


def _mariadb(url: str, path: str) -> "object":
    import pymysql

    parts = urlsplit(url)
    connection = pymysql.connect(
        host=parts.hostname,
        port=parts.port or 3306,
        user=parts.username,
        database=parts.path.strip("/"),
        unix_socket=parse_qs(parts.query).get("unix_socket", [None])[0],
        local_infile=True,
    )
    cursor = connection.cursor()
    cursor.execute(_STAGE)
    read = ", ".join((*_KEY, *(f"@{name}" for name in _VALUES)))
    sets = ", ".join(f"{name} = nullif(@{name}, '')" for name in _VALUES)
    cursor.execute(
        f"LOAD DATA LOCAL INFILE %s INTO TABLE incoming CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' "
        "OPTIONALLY ENCLOSED BY '\"' LINES TERMINATED BY '\\r\\n' "
        f"IGNORE 1 LINES ({read}) SET {sets}",
        [path],
    )
    return connection


def mariadb_hand_written(url: str, path: str) -> dict:
    """What an expert writes: LOAD DATA to a temporary table, one UPDATE of differing rows, one INSERT of missing ones."""
    connection = _mariadb(url, path)
    cursor = connection.cursor()
    differs = " OR ".join(f"(i.{name} IS NOT NULL AND NOT h.{name} <=> i.{name})" for name in _VALUES)
    sets = ", ".join(f"h.{name} = coalesce(i.{name}, h.{name})" for name in _VALUES)
    updated = cursor.execute(f"UPDATE incoming i JOIN hives h ON {_SAME} SET {sets} WHERE {differs}")
    inserted = cursor.execute(
        f"INSERT INTO hives SELECT * FROM incoming i WHERE NOT EXISTS (SELECT 1 FROM hives h WHERE {_SAME})"
    )
    connection.commit()
    return {"updated": updated, "inserted": inserted}


def mariadb_upsert(url: str, path: str) -> dict:
    """Every row through the server's own insert-or-update."""
    connection = _mariadb(url, path)
    sets = ", ".join(f"{name} = coalesce(values({name}), hives.{name})" for name in _VALUES)
    connection.cursor().execute(f"INSERT INTO hives SELECT * FROM incoming ON DUPLICATE KEY UPDATE {sets}")
    connection.commit()
    return {}


def ours(url: str, path: str) -> dict:
    """The product, with preview's decision, constraints, read-back and proof."""
    import tidymerge

    receipt = tidymerge.load(path, f"{url}#hives")
    return {"updated": receipt.rows.updated, "inserted": receipt.rows.inserted}


WAYS: dict[str, dict[str, Callable[[str, str], dict]]] = {
    "postgresql": {"hand-written": postgresql_hand_written, "upsert": postgresql_upsert, "tidymerge": ours},
    "mariadb": {"hand-written": mariadb_hand_written, "upsert": mariadb_upsert, "tidymerge": ours},
}

if __name__ == "__main__":
    way = WAYS[sys.argv[2].partition("://")[0]][sys.argv[1]]
    began = time.perf_counter()
    counts = way(sys.argv[2], sys.argv[3])
    seconds = time.perf_counter() - began
    print(json.dumps({"seconds": seconds, "megabytes": peak_megabytes(), **counts}))
