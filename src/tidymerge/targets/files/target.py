"""A text file as a target: decided in memory, written beside the file, read again, and swapped in at the commit."""

import errno
import os
import shutil
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import Self

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.address import Address
from tidymerge.changes import ChangeSet, Violation
from tidymerge.core.cells import as_array, valid
from tidymerge.core.match import code_keys, match
from tidymerge.errors import (
    NoSuchColumn,
    NoSuchTable,
    ProofFailed,
    TargetChanged,
    TargetError,
    TargetFull,
    TargetLocked,
    TargetReadOnly,
)
from tidymerge.model import Existing, Indices, Pairing, TableShape, TargetColumn
from tidymerge.ports import Refusal, Source, Written
from tidymerge.sources import ReadOptions
from tidymerge.targets.files.csv import CsvFile, Edits
from tidymerge.targets.files.types import declared, spelled_like, typed
from tidymerge.targets.sql.transaction import LOCK_WAIT_SECONDS, LOCKED

_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)


class FileTarget:
    """A CSV or TSV file. Entering reads it; with `write`, no other load works in its folder meanwhile.

    `types` are those that the job declares of columns; the others are told by the cells.
    """

    marks_text = False

    def __init__(self, address: Address, *, write: bool, types: Mapping[str, str]) -> None:
        self._address = address
        self._path = address.path.resolve()
        self._write = write
        self._types = {name: declared(text) for name, text in types.items()}
        self._lock: int | None = None
        self._temporary = self._path.with_name(f".{self._path.name}.tidymerge-{os.getpid()}")
        self._changes: list[ChangeSet] = []
        self._edits: Edits | None = None
        self._after: CsvFile | None = None

    def __enter__(self) -> Self:
        if self._write:
            self._take_lock()
        try:
            self._seen = _signature(self._path)
            self._file = CsvFile(self._address)
        except BaseException:
            self._release()
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._temporary.unlink(missing_ok=True)
        self._release()

    def _take_lock(self) -> None:
        """A lock on the folder, where the system has such locks; and clear away what a load that was killed left."""
        if sys.platform == "win32":
            return
        import fcntl

        with _translated(self.address):
            self._lock = os.open(self._path.parent, os.O_RDONLY)
        until = time.monotonic() + LOCK_WAIT_SECONDS
        while True:
            try:
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError:
                if time.monotonic() > until:
                    self._release()
                    raise TargetLocked(LOCKED.format(place=self._address)) from None
                time.sleep(0.05)
        for left in self._path.parent.glob(f".{self._path.name}.tidymerge-*"):
            left.unlink(missing_ok=True)

    def _release(self) -> None:
        if self._lock is not None:
            os.close(self._lock)  # which drops the lock
            self._lock = None

    @property
    def address(self) -> str:
        """Where the file is, for people."""
        return str(self._address.path)

    def parts(self) -> tuple[tuple[str, int, int], ...]:
        """None: a text file is one table."""
        return ()

    def describe(self) -> TableShape:
        """The columns, with the types that their cells tell; a file enforces nothing."""
        unknown = set(self._types) - set(self._file.texts.column_names)
        if unknown:
            raise NoSuchColumn(
                f"The job declares a type for {min(unknown)}, a column that {self.address} does not have."
            )
        return TableShape(self._path.name, self._columns)

    @property
    def _columns(self) -> tuple[TargetColumn, ...]:
        return tuple(replace(column, type=self._types.get(column.name, column.type)) for column in self._file.columns)

    def count(self) -> int:
        """How many rows the file holds; once written, the new one, read again."""
        return int((self._rewritten() if self._changes else self._file).texts.num_rows)

    @property
    def about_how_many(self) -> int:
        """How many rows the file holds."""
        return int(self._file.texts.num_rows)

    def worth_reading(self, incoming: int) -> bool:
        """It is read anyway."""
        return True

    def source(self, text: str, options: ReadOptions) -> Source | None:
        """None: rows come from elsewhere."""
        return None

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of all rows."""
        values, unreadable = {}, {}
        for column in columns:
            texts = as_array(self._file.texts[column.name])
            values[column.name] = typed(texts, column)
            lost = valid(texts) & ~valid(values[column.name])
            if lost.any():
                unreadable[column.name] = lost
        places = pa.table({"row": pa.array(np.arange(self._file.texts.num_rows))})
        return Existing(pa.table(values), places, complete=True, unreadable=unreadable)

    def read_in_batches(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn]) -> Iterator[Existing]:
        """All rows at once: the file is in memory."""
        yield self.fetch(columns, key, pa.table({}))

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The given columns of every row."""
        return self.fetch(columns, (), pa.table({})).values

    def distinct(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The combinations of values that the given columns have."""
        return self.read(columns).group_by([column.name for column in columns]).aggregate([])

    def sibling(self, table: str) -> tuple[TableShape, pa.Table]:
        """There are none."""
        raise NoSuchTable(f"{self.address} is a file by itself, so there is no {table!r} in it to look up in.")

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """Never asked: texts of a file are equal if they are the same."""
        raise AssertionError(column.name)

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Nothing is left to do but to see whether the file's encoding has all signs."""
        refused = {}
        for column in pairing.columns:
            texts = spelled_like(as_array(changes.after[column.name]), column, self._file.texts[column.name])
            for index in self._file.unwritable(texts).tolist():
                refused[int(changes.positions[index])] = f"the file can't hold {texts[index].as_py()!r}"
        return [Refusal(position, message) for position, message in refused.items()]

    def unstage(self, positions: Sequence[int]) -> None:
        """Nothing is left to do."""

    def violations(self, pairing: Pairing) -> list[Violation]:
        """None: a file enforces nothing."""
        return []

    def as_stored(self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool = False) -> pa.Table:
        """The rows of staged updates as they stand, as text; once `written`, as they will, also those inserted."""
        names = [column.name for column in columns]
        if written:
            return self._new_texts(changes).select(names)
        return self._file.texts.select(names).take(pa.array(changes.existing))

    def _new_texts(self, changes: ChangeSet) -> pa.Table:
        """All cells of the updated and then of the new rows, as they are to be."""
        found = {}
        for column in self._columns:
            old = as_array(self._file.texts[column.name].take(pa.array(changes.existing)))
            fresh = pa.nulls(changes.inserts, pa.string())
            if column.name in changes.after.column_names:
                after = as_array(changes.after[column.name])
                texts = (
                    after
                    if pa.types.is_string(after.type)
                    else spelled_like(after, column, self._file.texts[column.name])
                )
                fresh = texts[changes.updates :]
                if column.name in changes.changed:
                    old = pc.if_else(pa.array(changes.changed[column.name]), texts[: changes.updates], old)
            found[column.name] = pa.concat_arrays([old, fresh])
        return pa.table(found)

    def write(self, changes: ChangeSet) -> Written:
        """Take the changes over; they are written together when they are first read back."""
        self._changes.append(changes)
        return Written(changes.updates, changes.inserts, changes.deletes)

    def _all_edits(self) -> Edits:
        rows = np.concatenate([changes.existing for changes in self._changes])
        texts = [self._new_texts(changes) for changes in self._changes]
        cells = pa.concat_tables(
            [table.slice(0, changes.updates) for table, changes in zip(texts, self._changes, strict=True)]
        )
        added = pa.concat_tables([table.slice(c.updates) for table, c in zip(texts, self._changes, strict=True)])
        order = np.argsort(rows, kind="stable")
        leaving = np.zeros(self._file.texts.num_rows, bool)
        for changes in self._changes:
            leaving[changes.leaving] = True
        return Edits(rows[order], cells.take(pa.array(order)), leaving, added)

    def _rewritten(self) -> CsvFile:
        """The new file, beside the old one, read again. Raises TargetFull and TargetReadOnly."""
        if not self._changes:
            return self._file
        if self._after is None:
            self._edits = self._all_edits()
            data = self._file.edited(self._edits)
            with _translated(self.address):
                mode = self._path.stat().st_mode
                descriptor = os.open(self._temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
                with os.fdopen(descriptor, "wb") as file:
                    file.write(data)
                    file.flush()
                    os.fsync(file.fileno())
                self._temporary.chmod(mode & 0o7777)
                self._keep_owner()
            self._after = CsvFile(Address(self._temporary), self._file)
        return self._after

    def _keep_owner(self) -> None:
        """The owner and group of the file that is replaced, as far as we may give them."""
        if sys.platform != "win32":
            was = self._path.stat()
            try:
                shutil.chown(self._temporary, was.st_uid, was.st_gid)
            except PermissionError:
                return

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        """The written rows as the new file has them, in the order of the change set."""
        after = self._rewritten()
        at = pa.array(self._places(changes) if len(changes.positions) else changes.positions)
        columns = {}
        for column in pairing.columns:
            texts = as_array(after.texts[column.name].take(at))
            columns[column.name] = typed(texts, column)
        found = pa.table(columns)
        wanted = self._new_texts(changes)
        for name in wanted.column_names:
            if not as_array(after.texts[name].take(at)).equals(as_array(wanted[name])):
                raise ProofFailed(f"The column {name} of the new file does not read as it was written.")
        return found

    def _places(self, changes: ChangeSet) -> Indices:
        """Where the updated and the new rows of a change set stand in the new file."""
        assert self._edits is not None  # noqa: S101 - written before it is read back
        edits = self._edits
        place = np.cumsum(~edits.leaving) - 1
        before = 0
        for other in self._changes:
            if other is changes or np.array_equal(other.positions, changes.positions):
                break
            before += other.inserts
        new = int((~edits.leaving).sum()) + before + np.arange(changes.inserts)
        both: Indices = np.r_[place[changes.existing], new]
        return both

    def remaining(self, changes: ChangeSet) -> int:
        """How many rows of the deleted keys are still there."""
        if not changes.deletes:
            return 0
        key = [column for column in self._file.columns if column.name in changes.key]
        exact = [column.as_stored() for column in key]
        codes = code_keys(changes.removed.select(changes.key), self._rewritten().texts.select(changes.key), exact)
        return int((match(codes).times > 0).sum())

    def suspects(self) -> list[str]:
        """Nothing changes a file on its own."""
        return []

    def commit(self) -> None:
        """Put the new file in the place of the old one, unless somebody changed that since it was read."""
        if self._after is None:
            return
        if _signature(self._path) != self._seen:
            raise TargetChanged(f"Another program changed {self.address} while it was compared.")
        with _translated(self.address):
            self._temporary.replace(self._path)
            if os.name == "posix":
                folder = os.open(self._path.parent, os.O_RDONLY)
                try:
                    os.fsync(folder)
                finally:
                    os.close(folder)


@contextmanager
def _translated(address: str) -> Iterator[None]:
    """Turns what the system says about writing into our errors."""
    try:
        yield
    except OSError as error:
        words = f"{address} can't be written: {error.strerror or error}. Nothing was changed"
        if error.errno in _FULL:
            raise TargetFull(f"{words}; make room and run it again.") from None
        raise TargetReadOnly(f"{words}; see who may write the file and its folder, then run it again.") from None


def _signature(path: Path) -> tuple[int, int, int]:
    """What tells whether a file is still the same: which one it is, its size, and when it was last changed."""
    try:
        found = path.stat()
    except OSError as error:
        raise TargetError(f"{path} can't be read: {error.strerror or error}.") from None
    return found.st_ino, found.st_size, found.st_mtime_ns
