"""New files beside old ones, which take their places together: one load at a time, all of them or none."""

import errno
import json
import os
import re
import secrets
import shutil
import stat
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path

from filelock import BaseFileLock, FileLock, Timeout

from tidymerge.errors import LOCKED, TargetChanged, TargetError, TargetFull, TargetLocked, TargetReadOnly
from tidymerge.formats.content import NewFile
from tidymerge.on_disk import sync_folder
from tidymerge.settings import lock_wait

_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
_MARK = ".tidymerge-"
_RECORD = f"{_MARK}swap.json"
_LONGEST_RECORD = 64 << 20  # signs
_AT_A_TIME = 2  # files written
_NO_LINK, _NO_WAIT = getattr(os, "O_NOFOLLOW", 0), getattr(os, "O_NONBLOCK", 0)
BY_FILE = sys.platform == "win32"
_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | _NO_LINK


class Swap:
    """The new files of one load in a folder. `place` is what the load is into, for people.

    Several files can't take their places in one step, so they are first noted in a record: once that is on disk, the
    change counts, and whoever opens the folder next completes what was cut off.
    """

    def __init__(self, folder: Path, place: str) -> None:
        self._folder = folder
        self._place = place
        self._lock: int | None = None
        self._file_lock: BaseFileLock | None = None
        self._new: dict[Path, Path] = {}
        self._signatures: Callable[[], dict[Path, tuple[int, int, int]]] = dict
        self._seen: dict[Path, tuple[int, int, int]] = {}
        self._recorded = False
        self._goes: Path | None = None

    def lock(self, path: Path) -> None:
        """Keep other loads out of the folder; complete, or clear away, what one that was killed left.

        A spreadsheet program that has the file at `path` open would later save its own state over ours: refused.
        """
        for name in (f"~${path.name}", f".~lock.{path.name}#"):
            if path.with_name(name).exists():
                raise TargetLocked(
                    f"{self._place} is open in a spreadsheet program, as the file {name} beside it says. Close it, "
                    "or remove that file if it was only left behind, then run this again."
                )
        if BY_FILE:
            self._take_file()
        else:
            self._take_folder()
        self._complete()
        for left in self._folder.glob(f".*{_MARK}*"):
            left.unlink(missing_ok=True)

    def _take_file(self) -> None:
        """Lock by a file in the folder, where folders themselves can't be locked."""
        seconds = lock_wait()
        lock = FileLock(self._folder / f"{_MARK}lock", mode=0o600)
        with translated(self._place):
            try:
                lock.acquire(timeout=seconds, poll_interval=0.05)
            except Timeout:
                raise TargetLocked(LOCKED.format(place=self._place, seconds=seconds)) from None
        self._file_lock = lock

    def _take_folder(self) -> None:
        """Lock the folder itself, which leaves no file behind."""
        import fcntl

        with translated(self._place):
            self._lock = os.open(self._folder, os.O_RDONLY)
        seconds = lock_wait()
        until = time.monotonic() + seconds
        while True:
            try:
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError:
                if time.monotonic() > until:
                    self.close()
                    raise TargetLocked(LOCKED.format(place=self._place, seconds=seconds)) from None
                time.sleep(0.05)

    def close(self) -> None:
        """Throw away new files that did not take their places, and let others in."""
        if not self._recorded:
            for new in self._new.values():
                new.unlink(missing_ok=True)
        if self._lock is not None:
            os.close(self._lock)  # which drops the lock
            self._lock = None
        if self._file_lock is not None:
            self._file_lock.release()
            self._file_lock = None

    def watch(self, files: Callable[[], Sequence[Path]]) -> None:
        """Remember which files there are, and how, before they are read."""
        self._signatures = lambda: {path: signature(path) for path in files()}
        self._seen = self._signatures()

    def put(self, path: Path, write: NewFile) -> Path:
        """Write what is to take the place of `path`, on disk, with its owner and permissions.

        What was put there before may be read meanwhile.
        """
        draft = _beside(path)
        new = self._new.setdefault(path, draft)
        with translated(self._place):
            was = path.stat() if path.exists() else None
            try:
                with os.fdopen(os.open(draft, _NEW, 0o600), "wb+") as file:
                    write(file)
                    file.flush()
                    os.fsync(file.fileno())
                if was is None:
                    draft.chmod(_usual_mode())
                else:
                    draft.chmod(was.st_mode & 0o7777)
                    _keep_owner(draft, was)
            except BaseException:
                draft.unlink(missing_ok=True)
                raise
            draft.replace(new)
        return new

    def put_all(self, files: Iterable[tuple[Path, NewFile]]) -> dict[Path, Path]:
        """The same for several files, two at a time: one is encoded while the other is on its way to the disk."""
        waiting = list(files)
        if len(waiting) == 1:
            return {path: self.put(path, write) for path, write in waiting}
        with ThreadPoolExecutor(_AT_A_TIME) as pool:
            futures = [(path, pool.submit(self.put, path, write)) for path, write in waiting]
            try:
                return {path: future.result() for path, future in futures}
            except BaseException:
                pool.shutdown(cancel_futures=True)
                raise

    def take_away(self, path: Path) -> None:
        """Let a file go with the commit, in place of what was put for it."""
        self._goes = path

    def commit(self) -> None:
        """Put all new files in their places, unless somebody changed an old one. Raises TargetChanged."""
        if not self._new:
            return
        if self._signatures() != self._seen:
            raise TargetChanged(f"Another program changed {self._place} while it was compared.")
        with translated(self._place):
            if self._goes is not None:
                self._goes.unlink()
                sync_folder(self._folder)
                return
            if len(self._new) > 1:
                self._note()
                self._recorded = True
            self._move(self._new)

    def _note(self) -> None:
        """Write the record: from here on the change counts."""
        draft = _beside(self._folder / _RECORD)
        names = {path.name: new.name for path, new in self._new.items()}
        with os.fdopen(os.open(draft, _NEW, 0o600), "w", encoding="utf-8") as file:
            json.dump(names, file)
            file.flush()
            os.fsync(file.fileno())
        draft.replace(self._folder / _RECORD)
        sync_folder(self._folder)

    def _move(self, files: dict[Path, Path]) -> None:
        for path, new in files.items():
            if new.exists():  # else it has taken its place already
                new.replace(path)
        sync_folder(self._folder)
        (self._folder / _RECORD).unlink(missing_ok=True)

    def _complete(self) -> None:
        """Finish a change that counts, but was cut off."""
        with translated(self._place):
            self._move(unfinished(self._folder))


def _usual_mode() -> int:
    """The permissions of a new file, as the system has them for this process."""
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


def unfinished(folder: Path) -> dict[Path, Path]:
    """The new files in a folder that are to take the places of others, where that was cut off.

    Only a record is believed that this user's own load can have left: plain names in the same folder, new files of our
    pattern, all of them regular files of this user, none of them a link. Raises TargetError for any other.
    """
    record = folder / _RECORD
    try:
        names = _read_record(record)
        waiting = {folder / name: folder / new for name, new in names.items() if os.path.lexists(folder / new)}
        for path, new in waiting.items():
            _check_own(new.lstat())
            if os.path.lexists(path):
                _check_regular(path.lstat())
    except FileNotFoundError:
        return {}
    except (OSError, ValueError) as error:
        raise TargetError(
            f"{record} says that a load was cut off halfway, but can't be believed ({error}); nothing was touched. If "
            "no load of yours left it, remove it, then run this again."
        ) from None
    return waiting


def _read_record(record: Path) -> dict[str, str]:
    """The names in a record. Raises OSError and ValueError."""
    with os.fdopen(os.open(record, os.O_RDONLY | _NO_LINK | _NO_WAIT), encoding="utf-8") as file:
        _check_own(os.fstat(file.fileno()))
        names = json.loads(file.read(_LONGEST_RECORD))
    if not isinstance(names, dict) or not all(_is_pair(name, new) for name, new in names.items()):
        raise ValueError("it names files that no load of ours would")
    return names


def _is_pair(name: object, new: object) -> bool:
    """Whether two names can be those of a file in the folder and of a new one beside it."""
    if not isinstance(name, str) or not isinstance(new, str) or Path(name).name != name or name in (".", "..", _RECORD):
        return False
    return re.fullmatch(rf"\.{re.escape(name)}{re.escape(_MARK)}[0-9a-f]+", new) is not None


def _check_own(found: os.stat_result) -> None:
    _check_regular(found)
    if sys.platform != "win32" and found.st_uid != os.geteuid():
        raise ValueError("it belongs to somebody else")


def _check_regular(found: os.stat_result) -> None:
    if not stat.S_ISREG(found.st_mode):
        raise ValueError("there is something that is no regular file")


def _beside(path: Path) -> Path:
    """A name for a new file, which nobody can have foreseen."""
    return path.with_name(f".{path.name}{_MARK}{secrets.token_hex(8)}")


def _keep_owner(path: Path, was: os.stat_result) -> None:
    """The owner and group of the file that is replaced, as far as we may give them."""
    if sys.platform != "win32":
        with suppress(PermissionError):
            shutil.chown(path, was.st_uid, was.st_gid)


@contextmanager
def translated(place: str) -> Iterator[None]:
    """Turns what the system says about writing into our errors."""
    try:
        yield
    except OSError as error:
        words = f"{place} can't be written: {error.strerror or error}. Nothing was changed"
        if error.errno in _FULL:
            raise TargetFull(f"{words}; make room and run it again.") from None
        raise TargetReadOnly(f"{words}; see who may write the file and its folder, then run it again.") from None


def signature(path: Path) -> tuple[int, int, int]:
    """What tells whether a file is still the same: which one it is, its size, and when it was last changed."""
    try:
        found = path.stat()
    except OSError as error:
        raise TargetError(f"{path} can't be read: {error.strerror or error}.") from None
    return found.st_ino, found.st_size, found.st_mtime_ns
