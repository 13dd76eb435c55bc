"""The installed program, run as often as the tests need it.

Most of a short run is the start of Python and the import of libraries. `run` calls the entry point of the installed
command in this process, with its own arguments, folder, environment and standard streams. A test that needs a process
of its own says why, and gets a child of a process that has all imports behind it and starts no threads: it goes through
the same entry point, or through a script that puts something in its way before. `PROGRAM` is the command itself, for
what is about the start.

Started as a script, this file is the process that is forked.
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
import sys
import sysconfig
import tempfile
import time
import warnings
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.metadata import entry_points
from pathlib import Path
from typing import Any, NoReturn

import tidymerge
from servers import kept
from tidymerge.cli.screen.closing import _DONE

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "tidymerge")
LATE = (  # what libraries the commands import when they need them
    "adbc_driver_sqlite", "jinja2", "matplotlib.figure", "matplotlib.backends.backend_agg", "odfdo", "openpyxl", "pandas",
    "psycopg", "pyarrow.compute", "pyarrow.csv", "pyarrow.parquet", "pydantic", "pymysql", "python_calamine", "rich.progress",
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
    """The process that is forked, which all workers share. `start` and `run` are like those of `subprocess`."""

    def __init__(self, folder: Path) -> None:
        self._at = folder / "programs.at"

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
        connection.connect(kept(self._at, sys.executable, __file__, str(self._at.with_suffix(".socket"))))
        asked = {
            "arguments": list(arguments),
            "folder": str(folder),
            "script": script,
            "environment": _environment(environment),
        }
        socket.send_fds(connection, [b"go"], [file if isinstance(file, int) else file.fileno() for file in files])
        connection.sendall(json.dumps(asked).encode() + b"\n")
        return Running(connection)

    def run(
        self,
        arguments: Sequence[str],
        folder: Path,
        stdin: bytes = b"",
        script: str | None = None,
        process: str | None = None,
        **environment: str,
    ) -> Ended:
        """Run the program to its end: here, or in a process of its own for a script, or for the reason given."""
        with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            given.write(stdin)
            given.seek(0)
            if script is None and process is None:
                status = _run_here(arguments, folder, (given, out, err), environment)
            else:
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


def _environment(more: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, value in os.environ.items() if name not in _OF_TERMINALS} | dict(more)


class _Exit(BaseException):
    """The program ended, with this status."""


def _exit(status: int) -> NoReturn:
    raise _Exit(status)


def _run_here(arguments: Sequence[str], folder: Path, files: Sequence[Any], environment: Mapping[str, str]) -> int:
    """The exit status of a run in this process, which has afterwards all that it had before."""
    ours = [os.dup(number) for number in range(3)]
    before = os.environ.copy(), Path.cwd(), sys.argv, (sys.stdin, sys.stdout, sys.stderr)
    handlers = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM)}
    leave, os._exit = os._exit, _exit
    try:
        _take_place(arguments, folder, [file.fileno() for file in files], _environment(environment))
        tempfile.tempdir = None  # which remembers TMPDIR
        with warnings.catch_warnings():  # whoever runs the program does not see what libraries find old in each other
            warnings.filterwarnings("ignore", category=DeprecationWarning, module=r"(?!tidymerge)")
            _entry_point()()
    except _Exit as ended:
        return ended.args[0]
    finally:
        os._exit = leave
        for number, file in enumerate(ours):
            os.dup2(file, number)
            os.close(file)
        for number, handler in handlers.items():
            signal.signal(number, handler)
        variables, place, sys.argv, (sys.stdin, sys.stdout, sys.stderr) = before
        os.environ.clear()
        os.environ.update(variables)
        os.chdir(place)
        tempfile.tempdir = None
        _DONE.clear()
    raise AssertionError("the program returned without a status")


def _take_place(
    arguments: Sequence[str], folder: Path | str, files: Sequence[int], variables: Mapping[str, str]
) -> None:
    """Give this process what a run has: standard streams, a folder, an environment and arguments."""
    for number, file in enumerate(files):
        os.dup2(file, number)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(variables)
    sys.argv = [PROGRAM, *arguments]
    sys.stdin, sys.stdout, sys.stderr = (
        io.TextIOWrapper(os.fdopen(number, mode, closefd=False), "utf-8", errors) for number, mode, errors in
        ((0, "rb", "strict"), (1, "wb", "strict"), (2, "wb", "backslashreplace"))
    )  # fmt: skip


@cache
def _entry_point() -> Callable[[], NoReturn]:
    (found,) = entry_points(group="console_scripts", name="tidymerge")
    return found.load()


def _serve(at: str, owner: int) -> None:
    """Fork a run for each connection, until the process that runs the tests is gone."""
    own = (module.name for module in pkgutil.walk_packages(tidymerge.__path__, "tidymerge."))
    for name in (*LATE, *(name for name in own if not name.endswith("__main__"))):
        __import__(name)
    sys.modules["tidymerge.cli.app"].command()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(at)
    listening.listen()
    print(at, flush=True)
    watched = os.pidfd_open(owner)
    while watched not in select.select([watched, listening], [], [])[0]:
        connection, _ = listening.accept()
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
    _take_place(asked["arguments"], asked["folder"], files, asked["environment"])
    for file in files:
        os.close(file)
    if asked["script"] is not None:
        exec(asked["script"], {"__name__": "script"})  # noqa: S102 - a test's own
        os._exit(0)
    _entry_point()()


if __name__ == "__main__":
    _serve(sys.argv[1], int(sys.argv[2]))
