"""What the tests share: the installed program, and small databases and sheets in a temporary folder."""

import csv
import os
import sqlite3
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from openpyxl import Workbook

import servers
from chance import pytest_collection_modifyitems, pytest_runtest_setup, pytest_terminal_summary, share  # noqa: F401
from program import Ended, Programs
from tidymerge import Limits, Most

pytest.register_assert_rewrite("contract", "server_contract")


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_auto_num_workers() -> int:
    """Half more than there are cores: each test waits a good deal for disks, servers and programs."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return max(cores * 3 // 2, 1)


def pytest_itemcollected(item: pytest.Item) -> None:
    """What the core decides is the same on each server."""
    servers_used = {"postgresql_server", "mariadb_server"}.intersection(getattr(item, "fixturenames", ()))
    if servers_used and item.get_closest_marker("core"):
        item.add_marker("long")


EVERYTHING = Most(100, "target")
NO_LIMITS = Limits(EVERYTHING, Most(10**9), Most(100, "incoming"), removed=EVERYTHING)
HIVES = """CREATE TABLE hives (
    apiary_code VARCHAR(8) NOT NULL, hive_no INTEGER NOT NULL, queen_colour VARCHAR(10), honey_kg DECIMAL(8, 2),
    last_inspected DATE, notes TEXT, PRIMARY KEY (apiary_code, hive_no))"""
HIVE_ROWS = (
    ("L01", 1, "white", 12.5, "2026-05-01", "calm"),
    ("L01", 2, "yellow", "7.250", "2026-05-01", None),
    ("M02", 1, None, 3, None, "new frame"),
)


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


@pytest.fixture(scope="session")
def programs(shared_folder: Path) -> Programs:
    """What runs the program quickly."""
    return Programs(shared_folder)


@pytest.fixture
def run(folder: Path, programs: Programs) -> Callable[..., Ended]:
    """Run the program in the folder, without a terminal: in this process, or with the reason why not."""

    def run(*arguments: str, **how: Any) -> Ended:
        return programs.run(arguments, folder, **how)

    return run


@pytest.fixture
def on_terminal(folder: Path, programs: Programs) -> Callable[..., tuple[str, int]]:
    """Run the program on a terminal; what it showed, and its status."""

    def on_terminal(*arguments: str, answer: bytes = b"", **environment: str) -> tuple[str, int]:
        return programs.on_terminal(arguments, folder, answer, **environment)

    return on_terminal


def wait_for(seen: Callable[[], object], seconds: float = 60) -> None:
    """Wait until something has happened; it is an error if it never does."""
    until = time.monotonic() + seconds
    while not seen():
        assert time.monotonic() < until, "it never came"
        time.sleep(0.02)


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
def shared_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder that all workers of this run have in common."""
    own = tmp_path_factory.getbasetemp()
    return own.parent if "PYTEST_XDIST_WORKER" in os.environ else own


@pytest.fixture(scope="session")
def postgresql_server(shared_folder: Path) -> Iterator[str]:
    """The URL of a database of this worker's own."""
    with servers.own_database(servers.shared("postgresql", shared_folder)) as url:
        yield url


@pytest.fixture(scope="session")
def mariadb_server(shared_folder: Path) -> str:
    """The URL of a server on which each test makes databases of its own names."""
    return servers.shared("mariadb", shared_folder)


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
