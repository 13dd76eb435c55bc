"""Files on disk: written beside and put in place whole, never through a link, and made to outlive a power cut."""

import os
import secrets
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from filelock import FileLock, Timeout

from tidymerge.errors import NoRoom

_PRIVATE, _LOCK = "tidymerge-", "lock"
_JUST_MADE = 60  # seconds in which a folder may not have its lock yet
DRAFT = ".tidymerge-new-"  # how the names of our files begin that have not taken their places yet


def sync_folder(folder: Path) -> None:
    """Make sure that the folder itself, and so the names in it, are on disk (POSIX)."""
    if os.name == "posix":
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


class Placed:
    """A file that was put in place. `keep` it, or take it `back`: then what was there before is there again."""

    def __init__(self, path: Path, before: Path | None) -> None:
        self.path = path
        self._before = before

    def keep(self) -> None:
        """Forget what was there before."""
        if self._before is not None:
            self._before.unlink(missing_ok=True)

    def back(self) -> None:
        """Put back what was there before, if anything."""
        if self._before is not None:
            self._before.replace(self.path)
        else:
            self.path.unlink(missing_ok=True)


def put(path: Path, write: Callable[[Path], object], *, fresh: bool = False) -> Placed:
    """Let `write` make a file beside `path`, and put it there whole; with `fresh` only if nothing is there.

    The name that is written to can't be guessed and is new, so nobody's link is followed; a link at `path` itself is
    replaced, not what it leads to. Raises OSError, and FileExistsError with `fresh`.
    """
    draft, before = _beside(path), None
    try:
        write(draft)
        if fresh:
            _new(path)
        elif path.exists() and not path.is_symlink():
            draft.chmod(path.stat().st_mode & 0o7777)
            before = name_beside(path)
            _link(path, before)
        draft.replace(path)
    except BaseException:
        for file in (draft, before):
            if file is not None:
                file.unlink(missing_ok=True)
        raise
    return Placed(path, before)


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A new file beside `path` that takes its place if all goes well. Raises OSError."""
    draft = _beside(path)
    try:
        yield draft
        draft.replace(path)
    except BaseException:
        draft.unlink(missing_ok=True)
        raise


def _beside(path: Path) -> Path:
    """A new empty file, with the permissions that any new file gets here."""
    draft = name_beside(path)
    _new(draft)
    return draft


def _new(path: Path) -> None:
    os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0), 0o666))


def place_new(draft: Path, path: Path) -> None:
    """Let a file that is written take its place, where nothing may be yet. Raises FileExistsError and OSError."""
    try:
        os.link(draft, path)  # a plain move would replace what somebody put there meanwhile
    except FileExistsError:
        raise
    except OSError:  # the file system knows no second names
        _new(path)
        draft.replace(path)
    draft.unlink(missing_ok=True)
    sync_folder(path.parent)


def _link(path: Path, name: Path) -> None:
    """Give a file a second name, or that one only where the file system knows no second names."""
    try:
        os.link(path, name)
    except OSError:
        path.replace(name)


def name_beside(path: Path) -> Path:
    """A name for a new file, which nobody can have foreseen."""
    return path.with_name(f"{DRAFT}{secrets.token_hex(8)}{path.suffix}")


def other_names(path: Path) -> str | None:
    """What to say of a file that has several names (hard links), if it has."""
    count = path.stat().st_nlink if path.is_file() else 1
    return f"{path} has {count:,} names (hard links)" if count > 1 else None


class PrivateFolder:
    """A folder for what a run needs meanwhile, in the temporary folder; the next run sweeps what the killed left.

    A lock in it, which the system drops with the process, tells whether anybody still needs it. Raises NoRoom.
    """

    def __init__(self) -> None:
        with no_room():
            _sweep(Path(tempfile.gettempdir()))
            self.path = Path(tempfile.mkdtemp(prefix=_PRIVATE))
            self._lock = FileLock(self.path / _LOCK)
            self._lock.acquire(timeout=0)

    def remove(self) -> None:
        """Remove it with all that is in it."""
        self._lock.release()
        shutil.rmtree(self.path, ignore_errors=True)


@contextmanager
def no_room() -> Iterator[None]:
    """Turn what the system says about the temporary folder into our error."""
    try:
        yield
    except OSError as error:
        raise NoRoom(
            f"The temporary folder can't be used ({error.strerror or error}); nothing was written. Make room there, or "
            "let TMPDIR name another folder."
        ) from None


def _sweep(temporary: Path) -> None:
    """Remove our folders of processes that are gone."""
    for folder in temporary.glob(f"{_PRIVATE}*"):
        with suppress(OSError, Timeout):
            if time.time() - folder.stat().st_mtime < _JUST_MADE or folder.is_symlink():
                continue
            with FileLock(folder / _LOCK, timeout=0):
                shutil.rmtree(folder, ignore_errors=True)
