"""The run log as a folder: for each run an entry, its changes, and while it runs a lock.

`RUN.parquet` (and one more for each further table, as in `RUN.1.parquet`), `RUN.rows` and then `RUN.json` are safe on
disk before the target commits; only then is the entry settled. The system drops the lock when the process ends, however
it ends: so an entry that is not settled and not locked is of a run that was cut off around its commit.
"""

import os
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pyarrow as pa
from filelock import FileLock, Timeout
from msgspec.structs import replace

from tidymerge.errors import LogDamaged, LogUnwritable, NoSuchRun, TargetLocked
from tidymerge.history.changes import ChangesWriter, read_changes, read_rows, write_rows
from tidymerge.history.entries import is_settled, read_entry, to_json
from tidymerge.model import Mask
from tidymerge.model.changes import Logged
from tidymerge.model.receipt import State
from tidymerge.model.run import Run
from tidymerge.on_disk import sync_folder
from tidymerge.settings import home, kept_days, lock_wait

_ENTRY, _CHANGES, _ROWS, _LOCK, _NEW, _ALONE = ".json", ".parquet", ".rows", ".lock", ".new", ".alone"
_BASE = ".base"
LATEST = "last"
_JUST_BEGUN = timedelta(minutes=10)


class FolderLog:
    """The log in the folder that `TIDYMERGE_HOME` or the system names."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = (folder or home()) / "runs"

    def begin(self, name: str) -> "FolderRecording":
        """Start to record a run. Raises LogUnwritable, and BadSetting where it is not clear how long runs are kept."""
        kept_days()
        with _writing(self.folder):
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            lock = FileLock(self._path(name, _LOCK), mode=0o600)
            lock.acquire(timeout=0)
        return FolderRecording(self, name, lock)

    def _path(self, name: str, ending: str) -> Path:
        return self.folder / f"{name}{ending}"

    def names(self) -> list[str]:
        """The names of all runs, the latest first."""
        return sorted((path.stem for path in self.folder.glob(f"*{_ENTRY}")), reverse=True)

    def read(self, name: str) -> Run:
        """The run of that exact name. Raises LogDamaged."""
        return read_entry(self._path(name, _ENTRY))

    def find(self, text: str, *, wrote: bool = False) -> Run:
        """The run whose name is, or begins with, `text`; `last` is the latest. Raises NoSuchRun and LogDamaged.

        With `wrote` it is the latest that changed its target, if there is one.
        """
        known = self.names()
        if wrote and text == LATEST:
            for name in known:
                run = self.read(name)
                if run.wrote:
                    return run
        fitting = known[:1] if text == LATEST else [name for name in known if name.startswith(text)]
        if text in known:
            fitting = [text]
        if len(fitting) != 1:
            found = f"{len(fitting)} runs begin with {text!r}" if fitting else f"The log has no run {text!r}"
            raise NoSuchRun(f"{found}; tidymerge runs lists what there is in {self.folder}.", run=text)
        return self.read(fitting[0])

    def changes(self, run: Run, wanted: Callable[[pa.Table], Mask] | None = None) -> Iterator[Logged]:
        """What a run did to records, some at a time; only those whose keys `wanted` picks. Raises LogDamaged."""
        holds = None if run.holds is None else run.holds.get(run.table, ())
        return read_changes(self._path(run.name, _changes(run.table)), wanted, holds)

    def rows_of(self, run: Run) -> pa.Array:
        """The codes of the rows that a run loaded which may count only once. Raises LogDamaged."""
        return read_rows(self._path(run.name, _ROWS))

    def base_of(self, run: Run) -> bytes:
        """What the rows of an extract were. Raises LogDamaged."""
        path = self._path(run.name, _BASE)
        try:
            return path.read_bytes()
        except OSError as error:
            raise LogDamaged(
                f"What the extract {run.name} took out can't be read ({path}: {error.strerror})."
            ) from None

    @contextmanager
    def alone(self, name: str) -> Iterator[None]:
        """Keep out others that ask for the same name. Raises TargetLocked where they take too long."""
        with _writing(self.folder):
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            lock = FileLock(self._path(name, _ALONE), mode=0o600)
            try:
                lock.acquire(timeout=lock_wait())
            except Timeout:
                raise TargetLocked(
                    "Another load of rows that may count only once is at work there; nothing was written. Run this "
                    "again when it has ended."
                ) from None
        try:
            yield
        finally:
            lock.release()

    def unsettled(self) -> list[str]:
        """The runs of which it is not known whether their commit lasted, or that are at it now."""
        locked = sorted(path.stem for path in self.folder.glob(f"*{_LOCK}"))
        entries = [(name, self._path(name, _ENTRY)) for name in locked]
        return [name for name, path in entries if path.exists() and not is_settled(path)]

    @contextmanager
    def ended(self, name: str) -> Iterator[bool]:
        """Whether the process of a run is gone; while inside, nobody else takes its place."""
        lock = FileLock(self._path(name, _LOCK), mode=0o600)
        try:
            lock.acquire(timeout=0)
        except OSError:  # it is held, or the log can only be read: then nobody can tell
            yield False
            return
        try:
            yield True
        finally:
            lock.release()

    def write(self, run: Run) -> None:
        """Write a run's entry, whole or not at all, and make sure that it is on disk. Raises LogUnwritable."""
        new = self._path(run.name, _NEW)
        with _writing(self.folder):
            descriptor = os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
            with os.fdopen(descriptor, "w", encoding="utf-8") as file:
                file.write(to_json(run))
                file.flush()
                os.fsync(file.fileno())
            new.replace(self._path(run.name, _ENTRY))
            sync_folder(self.folder)

    def tidy(self) -> None:
        """Remove runs that are older than they are to be kept, and what runs left that never came to writing."""
        with suppress(OSError):  # whoever calls this has done its work: another time will do too
            self._tidy()

    def _tidy(self) -> None:
        days = kept_days()
        if days is not None:
            oldest = f"{datetime.now(UTC) - timedelta(days=days):%Y%m%d-%H%M%S}"
            for name in self.names():
                if name < oldest and is_settled(self._path(name, _ENTRY)):
                    self._remove(name)
        for path in self.folder.glob(f"*{_LOCK}"):
            name = path.stem
            if name > f"{datetime.now(UTC) - _JUST_BEGUN:%Y%m%d-%H%M%S}":
                continue  # it may not have its lock yet
            with self.ended(name) as gone:
                if gone and not self._path(name, _ENTRY).exists():
                    self._remove(name)
                elif gone and is_settled(self._path(name, _ENTRY)):
                    path.unlink(missing_ok=True)

    def _remove(self, name: str) -> None:
        for ending in (_ENTRY, _NEW, _ROWS, _BASE, _LOCK):
            self._path(name, ending).unlink(missing_ok=True)
        _remove_changes(self.folder, name)


class FolderRecording:
    """The recording of one run, from its start until it is settled.

    Changes are written in a thread, while what was written to the target is proved: one part at a time. What goes wrong
    there comes out with the next part, or when the run is sealed, always before the target commits.
    """

    def __init__(self, log: FolderLog, name: str, lock: FileLock) -> None:
        self._log = log
        self._name = name
        self._lock = lock
        self._lock_path = Path(lock.lock_file)
        self._rows, self._entry = (log.folder / f"{name}{ending}" for ending in (_ROWS, _ENTRY))
        self._writers: dict[int, ChangesWriter] = {}
        self._writing: Future[None] | None = None

    def restart(self) -> None:
        """Forget what was added: the run starts again."""
        self._give_up()
        _remove_changes(self._log.folder, self._name)
        self._rows.unlink(missing_ok=True)
        self._entry.unlink(missing_ok=True)

    def add(self, log: Logged, table: int = 0) -> None:
        """Keep the changes of one part. Raises LogUnwritable, also for the part before."""
        with _writing(self._log.folder):
            self._wait()
            if table not in self._writers:
                path = self._path_of(table)
                os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600))
                self._writers[table] = ChangesWriter(path)
        pool = ThreadPoolExecutor(1)
        self._writing = pool.submit(self._writers[table].add, log)
        pool.shutdown(wait=False)

    def keep_rows(self, codes: pa.Array) -> None:
        """Keep which rows were loaded, by their codes. Raises LogUnwritable."""
        with _writing(self._log.folder):
            os.close(os.open(self._rows, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600))
            write_rows(self._rows, codes)
            _synced(self._rows)

    def keep_base(self, base: bytes) -> None:
        """Keep what rows are that are taken out. Raises LogUnwritable."""
        path = self._log.folder / f"{self._name}{_BASE}"
        with _writing(self._log.folder):
            with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
                file.write(base)
            _synced(path)

    def seal(self, run: Run) -> None:
        """Make sure that all is on disk, before the target commits. Raises LogUnwritable."""
        with _writing(self._log.folder):
            self._wait()
            for table, writer in self._writers.items():
                writer.close()
                _synced(self._path_of(table))
        self._log.write(replace(run, settled=False))

    def settle(self, run: Run) -> None:
        """Say how the run ended, as well as that can be done: what it did is done."""
        with suppress(LogUnwritable, OSError):
            if run.state in (State.STOPPED, State.FAILED):
                self.restart()
            self._log.write(replace(run, settled=True))
        self.leave()
        with suppress(OSError):  # only a run that is not settled needs it: so those are found at once
            self._lock_path.unlink(missing_ok=True)

    def leave(self) -> None:
        """Let go of the run as it is."""
        self._give_up()
        with suppress(OSError):
            self._lock.release()

    def _wait(self) -> None:
        """Until the part that was added last is in the file. Raises what went wrong there."""
        writing = self._writing
        if writing is not None:
            wait([writing])  # where this is interrupted, the file must not be closed before
            self._writing = None
            writing.result()

    def _give_up(self) -> None:
        """Close the file, whatever state it is in."""
        with suppress(Exception):
            self._wait()
        with suppress(Exception):
            for writer in self._writers.values():
                writer.close()
        self._writers = {}

    def _path_of(self, table: int) -> Path:
        return self._log.folder / f"{self._name}{_changes(table)}"


def _changes(table: int) -> str:
    """The ending of the changes of one of a run's tables."""
    return f".{table}{_CHANGES}" if table else _CHANGES


def _remove_changes(folder: Path, name: str) -> None:
    for path in folder.glob(f"{name}*{_CHANGES}"):
        path.unlink(missing_ok=True)


def _synced(path: Path) -> None:
    """Make sure that a file is on disk."""
    with path.open("rb") as file:
        os.fsync(file.fileno())


@contextmanager
def _writing(folder: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise LogUnwritable(
            f"The run log in {folder} can't be written: {error.strerror or error}. Undo needs it, so nothing was "
            "loaded. Make room there, or let TIDYMERGE_HOME name a folder that can be written."
        ) from None
