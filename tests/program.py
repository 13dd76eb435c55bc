"""The installed program, run as often as the tests need it: loaded once, forked for each run.

Most of a short run is the start of Python and the import of libraries. A process of our own has both behind it and
starts no threads; each run is a child of it, with its own folder, environment, standard streams and exit status, and goes
through the same `main` as the installed command, or through a script that puts something in its way before. `PROGRAM`
is that command itself, for what is about the start.

Started as a script, this file is that process.
"""

import contextlib
import io
import json
import os
import pkgutil
import pty
import select
import signal
import socket
import subprocess
import sys
import sysconfig
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import tidymerge

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "tidymerge")
LATE = (  # what libraries the commands import when they need them
    "adbc_driver_sqlite", "jinja2", "matplotlib.figure", "matplotlib.backends.backend_agg", "odfdo", "openpyxl", "psycopg",
    "pyarrow.compute", "pyarrow.csv", "pyarrow.parquet", "pydantic", "pymysql", "python_calamine", "rich.progress",
    "rich.table", "sqlglot", "tomlkit", "typer", "watchfiles",
)  # fmt: skip
_OF_TERMINALS = {"COLUMNS", "CLICOLOR_FORCE", "FORCE_COLOR", "NO_COLOR"}  # which would change what is printed


@dataclass
class Ended:
    """How a run of the program ended."""

    status: int
    out: str
    err: str

    @property
    def receipt(self) -> dict[str, Any]:
        return json.loads(self.out)


class Running:
    """A run under way: `pid` is its process."""

    def __init__(self, connection: socket.socket) -> None:
        self._connection = connection
        self.pid = self._answer()

    def _answer(self) -> int:
        line = b""
        while not line.endswith(b"\n"):
            byte = self._connection.recv(1)
            if not byte:
                raise RuntimeError("the process that tests fork is gone")
            line += byte
        return int(line)

    def wait(self, seconds: float = 120) -> int:
        """Its exit status, or minus the signal that ended it."""
        with self._connection:
            self._connection.settimeout(seconds)
            return self._answer()

    def kill(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGKILL)


class Programs:
    """The process that is forked. `start` and `run` are like those of `subprocess`."""

    def __init__(self, folder: Path) -> None:
        self._at = str(folder / "programs")
        self._process = subprocess.Popen([sys.executable, __file__, self._at])
        while not Path(self._at).exists():
            if self._process.poll() is not None:
                raise RuntimeError("the process that tests fork did not start")
            time.sleep(0.01)

    def close(self) -> None:
        self._process.kill()
        self._process.wait()

    def start(
        self,
        arguments: Sequence[str],
        folder: Path,
        files: Sequence[Any] | None = None,
        script: str | None = None,
        **environment: str,
    ) -> Running:
        """Start a run; `files` are its standard input, output and error, or else nothing."""
        if files is None:
            with Path(os.devnull).open("r+b") as nothing:
                return self.start(arguments, folder, (nothing, nothing, nothing), script, **environment)
        connection = socket.socket(socket.AF_UNIX)
        connection.connect(self._at)
        asked = {
            "arguments": list(arguments),
            "folder": str(folder),
            "script": script,
            "environment": {name: value for name, value in os.environ.items() if name not in _OF_TERMINALS}
            | environment,
        }
        socket.send_fds(connection, [b"go"], [file if isinstance(file, int) else file.fileno() for file in files])
        connection.sendall(json.dumps(asked).encode() + b"\n")
        return Running(connection)

    def run(
        self, arguments: Sequence[str], folder: Path, stdin: bytes = b"", script: str | None = None, **environment: str
    ) -> Ended:
        """Run the program to its end."""
        with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            given.write(stdin)
            given.seek(0)
            status = self.start(arguments, folder, (given, out, err), script, **environment).wait()
            out.seek(0)
            err.seek(0)
            return Ended(status, out.read().decode(), err.read().decode())

    def on_terminal(
        self, arguments: Sequence[str], folder: Path, answer: bytes = b"", **environment: str
    ) -> tuple[str, int]:
        """Run it on a terminal of its own, type the answer when asked; what it showed, and its status."""
        ours, theirs = pty.openpty()
        environment = {"TERM": "xterm-256color", "COLUMNS": "120", **environment}
        running = self.start(arguments, folder, (theirs, theirs, theirs), **environment)
        os.close(theirs)
        shown, until, asked = b"", time.monotonic() + 60, False
        while time.monotonic() < until:
            if select.select([ours], [], [], 0.2)[0]:
                try:
                    chunk = os.read(ours, 65536)
                except OSError:
                    break
                if not chunk:
                    break
                shown += chunk
            if b"[y/N]" in shown and not asked:
                os.write(ours, answer)
                asked = True
        os.close(ours)
        return shown.decode(), running.wait(10)


def _serve(at: str) -> None:
    """Fork a run for each connection, until our parent is gone."""
    own = (module.name for module in pkgutil.walk_packages(tidymerge.__path__, "tidymerge."))
    for name in (*LATE, *(name for name in own if not name.endswith("__main__"))):
        __import__(name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(f"{at}.new")
    listening.listen()
    listening.settimeout(5)
    Path(f"{at}.new").rename(at)  # whoever sees the name can connect
    parent = os.getppid()
    while os.getppid() == parent:
        with contextlib.suppress(TimeoutError):
            connection, _ = listening.accept()
            connection.setblocking(True)
            if os.fork() == 0:
                listening.close()
                _handle(connection)
            connection.close()


def _handle(connection: socket.socket) -> None:
    """One run, from its start to its status."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    _, files, _, _ = socket.recv_fds(connection, 2, 3)
    asked = json.loads(connection.makefile().readline())
    child = os.fork()
    if child == 0:
        connection.close()
        _become(asked, files)
    connection.sendall(f"{child}\n".encode())
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    with contextlib.suppress(OSError):  # who asked may be gone
        connection.sendall(f"{status}\n".encode())
    os._exit(0)


def _become(asked: dict[str, Any], files: Sequence[int]) -> None:
    """Be the program: never returns."""
    for number, file in enumerate(files):
        os.dup2(file, number)
        os.close(file)
    os.chdir(asked["folder"])
    os.environ.clear()
    os.environ.update(asked["environment"])
    sys.argv = [PROGRAM, *asked["arguments"]]
    sys.stdin, sys.stdout, sys.stderr = (
        io.TextIOWrapper(os.fdopen(number, mode), "utf-8", errors) for number, mode, errors in
        ((0, "rb", "strict"), (1, "wb", "strict"), (2, "wb", "backslashreplace"))
    )  # fmt: skip
    if asked["script"] is not None:
        exec(asked["script"], {"__name__": "script"})  # noqa: S102 - a test's own
        os._exit(0)
    from tidymerge.cli.app import main

    main()


if __name__ == "__main__":
    _serve(sys.argv[1])
