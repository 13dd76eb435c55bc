"""What the tests share: the installed program, and small databases and sheets in a temporary folder."""

import csv
import json
import sqlite3
import subprocess
import sysconfig
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from openpyxl import Workbook

import servers
from tidymerge import Limits, Most

pytest.register_assert_rewrite("contract", "server_contract")

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "tidymerge")
EVERYTHING = Most(100, "target")
NO_LIMITS = Limits(EVERYTHING, Most(10**9), Most(100, "incoming"))
HIVES = """CREATE TABLE hives (
    apiary_code VARCHAR(8) NOT NULL, hive_no INTEGER NOT NULL, queen_colour VARCHAR(10), honey_kg DECIMAL(8, 2),
    last_inspected DATE, notes TEXT, PRIMARY KEY (apiary_code, hive_no))"""
HIVE_ROWS = (
    ("L01", 1, "white", 12.5, "2026-05-01", "calm"),
    ("L01", 2, "yellow", "7.250", "2026-05-01", None),
    ("M02", 1, None, 3, None, "new frame"),
)


@dataclass
class Ended:
    """How a run of the program ended."""

    status: int
    out: str
    err: str

    @property
    def receipt(self) -> dict[str, Any]:
        return json.loads(self.out)


@pytest.fixture(autouse=True)
def home(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Each test has a run log of its own, outside its folder."""
    path = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("TIDYMERGE_HOME", str(path))
    return path


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """An empty folder that is the current one."""
    monkeypatch.chdir(tmp_path)
    return tmp_path


@pytest.fixture
def run(folder: Path) -> Callable[..., Ended]:
    """Run the installed program in the folder, without a terminal."""

    def run(*arguments: str, stdin: bytes = b"") -> Ended:
        done = subprocess.run([PROGRAM, *arguments], cwd=folder, input=stdin, capture_output=True, check=False)
        return Ended(done.returncode, done.stdout.decode(), done.stderr.decode())

    return run


def database(path: Path, script: str = HIVES, table: str = "hives", rows: Any = HIVE_ROWS) -> str:
    """A SQLite file with one table, and its address."""
    connection = sqlite3.connect(path)
    connection.executescript(script)
    if rows:
        quoted = table.replace('"', '""')
        connection.executemany(f'INSERT INTO "{quoted}" VALUES ({",".join("?" * len(rows[0]))})', rows)
    connection.commit()
    connection.close()
    return f"{path}#{table}"


def stored(address: str, columns: str = "*") -> list[tuple]:
    """The rows of a SQLite table, with their storage classes as SQLite has them."""
    path, _, table = address.partition("#")
    connection = sqlite3.connect(path)
    connection.text_factory = bytes
    quoted = table.replace('"', '""')
    rows = connection.execute(f'SELECT {columns} FROM "{quoted}" ORDER BY 1, 2').fetchall()
    connection.close()
    return rows


@pytest.fixture(scope="session")
def postgresql_server() -> Iterator[str]:
    with servers.postgresql() as url:
        yield url


@pytest.fixture(scope="session")
def mariadb_server() -> Iterator[str]:
    with servers.mariadb() as url:
        yield url


@pytest.fixture
def hives(folder: Path) -> str:
    """The address of a small table of hives."""
    return database(folder / "coop.db")


def sheet(path: Path, rows: list[list[Any]], title: str = "Inspections") -> str:
    """A workbook with one sheet, and its path as text."""
    workbook = Workbook()
    workbook.active.title = title
    for row in rows:
        workbook.active.append(row)
    workbook.save(path)
    return str(path)


def text_file(path: Path, rows: list[list[Any]], **style: Any) -> str:
    """A CSV file, and its path as text."""
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file, **style).writerows(rows)
    return str(path)
