"""Standard streams that never end a run: what can't be written is remembered, and said once at the end.

A load that has committed must not look as if it had failed because a pipe ended, a disk was full, or the terminal's
encoding lacks a letter.
"""

import contextlib
import errno
import io
import os
import select
import sys
from typing import Any

_IN, _OUT, _ERROR = range(3)  # POSIX: standard input, output, error


class _Steady(io.RawIOBase):
    """A file descriptor whose first failure is kept in `failed`, not raised; what comes after it is dropped."""

    def __init__(self, number: int, failed: OSError | None = None) -> None:
        self._number = number
        self.failed = failed

    def writable(self) -> bool:
        return True

    def fileno(self) -> int:
        return self._number

    def isatty(self) -> bool:
        return os.isatty(self._number)

    def write(self, data: Any) -> int:
        left = memoryview(data).cast("B")
        size = len(left)
        while left and self.failed is None:
            try:
                left = left[os.write(self._number, left) :]
            except BlockingIOError:
                select.select([], [self._number], [])
            except OSError as error:
                self.failed = error
        return size


class Streams:
    """Our standard output and error, in place of Python's.

    A descriptor that was closed before we started is opened to nothing: else the next file that is opened, such as a
    database, would get its number, and what is printed would go there.
    """

    def __init__(self) -> None:
        closed = [number for number in (_IN, _OUT, _ERROR) if not _is_open(number)]
        for _ in closed:
            os.open(os.devnull, os.O_RDWR)  # gets the lowest free number
        if sys.stdin is None or _IN in closed:
            sys.stdin = open(_IN, encoding="utf-8", closefd=False)  # noqa: SIM115 - it stays open
        bad = OSError(errno.EBADF, os.strerror(errno.EBADF))
        self._out = _Steady(_OUT, bad if sys.stdout is None or _OUT in closed else None)
        self._error = _Steady(_ERROR, bad if sys.stderr is None or _ERROR in closed else None)
        self._before = (sys.stdout, sys.stderr)  # which would close their descriptors if nobody had them any more
        sys.stdout = _text(self._out, sys.stdout)
        sys.stderr = _text(self._error, sys.stderr)

    def failure(self) -> OSError | None:
        """Why not all of the output was written; None if it was, or if the reader went away, as `head` does."""
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):
                stream.flush()
        failed = self._out.failed
        return None if failed is None or failed.errno == errno.EPIPE else failed


def _is_open(number: int) -> bool:
    try:
        os.fstat(number)
    except OSError:
        return False
    return True


def _text(raw: _Steady, was: Any) -> io.TextIOWrapper:
    """Text in the encoding that Python found; a letter that it lacks is written as its number."""
    encoding = getattr(was, "encoding", None) or "utf-8"
    return io.TextIOWrapper(io.BufferedWriter(raw), encoding, "backslashreplace", line_buffering=raw.isatty())
