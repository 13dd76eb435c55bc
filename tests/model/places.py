"""The six kinds of targets: a table made of a case's records, and its records read back, without the program's code."""

import csv
import json
import os
import re
import sqlite3
import uuid
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
from openpyxl import Workbook, load_workbook
from pyarrow import parquet

from model.kinds import TYPES, Type
from model.naive import Case, Column
from servers import mariadb_connection

_READ = {column.name: column.read for column in TYPES}
_ARROW = {
    "int64": pa.int64(), "int16": pa.int16(), "float64": pa.float64(), "string": pa.string(), "bool": pa.bool_(), "date32": pa.date32(),
    "timestamp": pa.timestamp("us"), "time64": pa.time64("us"), "binary": pa.binary(),
}  # fmt: skip


def quoted(name: str, mark: str = '"') -> str:
    return mark + name.replace(mark, mark * 2) + mark


def create(case: Case, mark: str = '"') -> str:
    """The CREATE TABLE statement of a case, by standard SQL."""
    key = ", ".join(quoted(column.name, mark) for column in case.columns if column.key)
    parts = [_declared(case, column, mark) for column in case.columns]
    if case.computes:
        parts.append("computed INTEGER GENERATED ALWAYS AS (1 + 1) STORED")
    if case.stamped:
        parts.append(f"touched {_STAMPED[case.place]}")
    parts += [
        f"CHECK ({quoted(column.name, mark)} <= {column.most})" for column in case.columns if column.most is not None
    ]
    parts += [
        f"FOREIGN KEY ({quoted(column.name, mark)}) REFERENCES t ({key})" for column in case.columns if column.parent
    ]
    return f"CREATE TABLE t ({', '.join([*parts, f'PRIMARY KEY ({key})'])})"


_STAMPED = {"sqlite": "TEXT", "postgresql": "timestamp", "mariadb": "TIMESTAMP(6) NULL ON UPDATE CURRENT_TIMESTAMP(6)"}


def _declared(case: Case, column: Column, mark: str) -> str:
    words = [quoted(column.name, mark), column.type.names[case.place]]
    if column.default is not None:
        value = str(column.default).replace("'", "''")
        words.append(f"DEFAULT '{value}'")
    if not column.nullable or column.key:
        words.append("NOT NULL")
    if column.unique:
        words.append("UNIQUE")
    return " ".join(words)


def listed(case: Case, mark: str = '"') -> str:
    """The columns of a case."""
    return ", ".join(quoted(column.name, mark) for column in case.columns)


def settled(value: Any, column: Type) -> Any:
    """A value as the model has it: what the drivers give in other classes is made the same."""
    if value is None:
        return None
    match column.name:
        case "json":
            return _READ["json"](value if isinstance(value, str) else json.dumps(value))
        case "money" | "exact" | "wide" | "open":
            return Decimal(str(value))
        case "real":
            return float(value)
        case "truth":
            return bool(int(value)) if not isinstance(value, str) else value.lower() == "true"
        case "int" | "count" | "small":
            return int(value)
        case "uuid":
            return str(uuid.UUID(str(value)))
        case "bytes":
            return bytes(value)
        case "day":
            return value if type(value) is date else _READ["day"](str(value)[:10])
        case "moment":
            return value if isinstance(value, datetime) else datetime.fromisoformat(str(value))
        case "clock":
            if isinstance(value, timedelta):
                return (datetime(2000, 1, 1) + value).time()
            return value if isinstance(value, time) else time.fromisoformat(str(value))
    return str(value)


def _plain(value: Any) -> Any:
    """A value as the drivers take it."""
    if isinstance(value, tuple):
        return json.dumps(value[1], default=float)
    return str(value) if isinstance(value, Decimal) else value


class Sqlite:
    name = "sqlite"

    def make(self, case: Case, folder: Path) -> str:
        path = folder / "t.db"
        path.unlink(missing_ok=True)
        connection = sqlite3.connect(path)
        connection.execute(create(case))
        marks = ", ".join("?" * len(case.columns))
        spelled = [
            tuple(
                str(v) if isinstance(v, date | time) else int(v) if isinstance(v, bool) else _plain(v) for v in record
            )
            for record in case.records
        ]
        connection.executemany(f"INSERT INTO t ({listed(case)}) VALUES ({marks})", spelled)
        if case.stamped:
            connection.execute("CREATE TRIGGER stamp AFTER UPDATE ON t WHEN NEW.touched IS OLD.touched BEGIN "
                               "UPDATE t SET touched = hex(randomblob(8)) WHERE rowid = NEW.rowid; END")  # fmt: skip
        connection.commit()
        connection.close()
        return f"{path}#t"

    def rows(self, case: Case, address: str) -> list[tuple[Any, ...]]:
        connection = sqlite3.connect(address.removesuffix("#t"))
        found = connection.execute(f"SELECT {listed(case)} FROM t").fetchall()
        connection.close()
        return found


_STAMPING = """CREATE OR REPLACE FUNCTION stamp() RETURNS trigger AS 'BEGIN NEW.touched := clock_timestamp(); RETURN NEW; END' LANGUAGE plpgsql;
CREATE TRIGGER stamp BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION stamp();"""


class Postgresql:
    name = "postgresql"

    def __init__(self, url: str) -> None:
        self._url = url
        self._connection = psycopg.connect(url, autocommit=True, prepare_threshold=None)
        self._own = own = f"model{os.getpid()}"  # tests in several processes may share a server
        self._connection.execute(
            f"CREATE EXTENSION IF NOT EXISTS citext; DROP SCHEMA IF EXISTS {own} CASCADE; CREATE SCHEMA {own}; SET search_path = {own}, public"
        )

    def close(self) -> None:
        self._connection.execute(f"DROP SCHEMA {self._own} CASCADE")
        self._connection.close()

    def make(self, case: Case, folder: Path) -> str:
        self._connection.execute("DROP TABLE IF EXISTS t")
        self._connection.execute(create(case))
        marks = ", ".join(["%s"] * len(case.columns))
        named, records = listed(case).replace("%", "%%"), [tuple(map(_plain, record)) for record in case.records]
        with self._connection.cursor() as cursor:
            cursor.executemany(f"INSERT INTO t ({named}) VALUES ({marks})".encode(), records)
        if case.stamped:
            self._connection.execute(_STAMPING)
        return f"{self._url}#{self._own}.t"

    def rows(self, case: Case, address: str) -> list[tuple[Any, ...]]:
        shown = (quoted(one.name) + ("::text" if one.type.name == "json" else "") for one in case.columns)
        return self._connection.execute(f"SELECT {', '.join(shown)} FROM t".encode()).fetchall()


class Mariadb:
    name = "mariadb"

    def __init__(self, url: str) -> None:
        server, _, options = url.partition("?")
        self._connection = mariadb_connection(url, None)
        self._own = own = f"model{os.getpid()}"  # tests in several processes may share a server
        self._run(f"DROP DATABASE IF EXISTS {own}")
        self._run(f"CREATE DATABASE {own} CHARACTER SET utf8mb4")
        self._run(f"USE {own}")
        self._address = f"{server.rstrip('/')}/{own}?{options}#t"

    def _run(self, sql: str) -> None:
        with self._connection.cursor() as cursor:
            cursor.execute(sql)

    def close(self) -> None:
        self._run(f"DROP DATABASE {self._own}")
        self._connection.close()

    def make(self, case: Case, folder: Path) -> str:
        self._run("DROP TABLE IF EXISTS t")
        self._run(create(case, "`"))
        marks = ", ".join(["%s"] * len(case.columns))
        named, records = listed(case, "`").replace("%", "%%"), [tuple(map(_plain, record)) for record in case.records]
        with self._connection.cursor() as cursor:
            cursor.executemany(f"INSERT INTO t ({named}) VALUES ({marks})", records)
        return self._address

    def rows(self, case: Case, address: str) -> list[tuple[Any, ...]]:
        with self._connection.cursor() as cursor:
            cursor.execute(f"SELECT {listed(case, '`')} FROM t")
            return list(cursor.fetchall())


class Csv:
    name = "csv"

    def make(self, case: Case, folder: Path) -> str:
        path = folder / "t.csv"
        with path.open("w", encoding="utf-8", newline="") as file:
            writer = csv.writer(file)
            writer.writerow([column.name for column in case.columns])
            writer.writerows(
                [["" if v is None else str(v).lower() if isinstance(v, bool) else v for v in r] for r in case.records]
            )
        return str(path)

    def rows(self, case: Case, address: str) -> list[tuple[Any, ...]]:
        with Path(address).open(encoding="utf-8", newline="") as file:
            # Without the apostrophe that keeps a spreadsheet from running a text.
            return [
                tuple(re.sub("^'('*[=+@\t\r-])", r"\1", cell) or None for cell in row)
                for row in list(csv.reader(file))[1:]
            ]


class Xlsx:
    name = "xlsx"

    def make(self, case: Case, folder: Path) -> str:
        book = Workbook()
        book.active.append([column.name for column in case.columns])
        for at, record in enumerate(case.records, start=2):
            for index, value in enumerate(record, start=1):
                cell = book.active.cell(at, index)
                cell.value = value
                if isinstance(value, str):
                    cell.data_type = "s"  # also what looks like a formula
        path = folder / "t.xlsx"
        book.save(path)
        return str(path)

    def rows(self, case: Case, address: str) -> list[tuple[Any, ...]]:
        found = load_workbook(address).active.iter_rows(min_row=2, values_only=True)
        return [row for row in found if any(value is not None for value in row)]


class Parquet:
    name = "parquet"

    def make(self, case: Case, folder: Path) -> str:
        path = folder / "t.parquet"
        arrays = [
            pa.array([record[at] for record in case.records], _arrow(column.type.names["parquet"]))
            for at, column in enumerate(case.columns)
        ]
        names = [column.name for column in case.columns]
        parquet.write_table(pa.Table.from_arrays(arrays, names), path, row_group_size=3)
        return str(path)

    def rows(self, case: Case, address: str) -> list[tuple[Any, ...]]:
        table = parquet.read_table(address)
        return list(zip(*(column.to_pylist() for column in table.columns), strict=True))


def _arrow(name: Any) -> pa.DataType:
    return pa.decimal128(*name[1:]) if isinstance(name, tuple) else _ARROW[name]


def records(place: Any, case: Case, address: str) -> list[tuple[Any, ...]]:
    """All records of a target, as the model has them."""
    return [
        tuple(settled(value, column.type) for value, column in zip(row, case.columns, strict=True))
        for row in place.rows(case, address)
    ]
