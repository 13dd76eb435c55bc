"""A file as a target: decided in memory, written beside the file, read again, and swapped in at the commit."""

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import Self

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from tidymerge.address import Address
from tidymerge.core.infer.told import in_words
from tidymerge.core.match.match import code_keys, match
from tidymerge.core.tidy.cells import as_array
from tidymerge.errors import ProofFailed
from tidymerge.formats.content import Content, Edits, Found
from tidymerge.formats.records import parquet_files
from tidymerge.formats.swap import Swap
from tidymerge.model import Existing, Indices, NewColumn, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet, Refusal, Written
from tidymerge.model.terms import Term
from tidymerge.on_disk import PrivateFolder, other_names

_ROW = "row"
_NOTHING = ChangeSet(np.zeros(0, np.uint8), (), ())


class FileTarget:
    """The rows of a file, or of a folder of files. Entering reads it; with `write`, other loads in its folder wait.

    A file to `create` is not there yet: it has content once it is told its columns.
    """

    def __init__(
        self, address: Address, read: Callable[[Address], Content], *, write: bool, create: bool = False
    ) -> None:
        self._address = address
        self._read = read
        self._fragment = address.fragment
        self._path = path = address.path.resolve()
        self._swap = Swap(path if path.is_dir() else path.parent, self.address)
        self._write = write
        self._create = self._is_new = create
        self._private: PrivateFolder | None = None
        self._row_at = np.zeros(0, np.int64)
        self._pairing: Mapping[str, TargetColumn] = {}
        self._changes: list[ChangeSet] = []
        self._known_edits: Edits | None = None
        self._read_again: Content | None = None

    def __enter__(self) -> Self:
        try:
            if self._write:
                self._swap.lock(self._path)
            self._swap.watch(self._own_files)
            if not self._create:
                self._file = self._read(self._address)
                self._fragment = self._file.fragment
        except BaseException:
            self._swap.close()
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._swap.close()
        if self._private is not None:
            self._private.remove()

    @property
    def address(self) -> str:
        """Where the file is, for people."""
        return str(replace(self._address, fragment=self._fragment))

    def describe(self) -> TableShape:
        """The columns; a file enforces nothing."""
        if self._create:
            return TableShape(self._path.name, (), types_told=True)
        return self._described()

    def _described(self) -> TableShape:
        """The columns of the content."""
        said = [words for path in self._own_files() if (words := other_names(path))]
        kept = [f"{words}: the others keep the old rows, as a load puts a new file in its place." for words in said]
        notes = (*self._file.notes, *kept)
        return TableShape(self._file.name, self._file.columns, notes=notes, types_told=self._file.types_told)

    def _own_files(self) -> list[Path]:
        if self._path.is_dir():
            return parquet_files(self._path)
        return [self._path] if self._path.exists() or not self._is_new else []

    def create(self, columns: Sequence[NewColumn], key: Sequence[str]) -> TableShape:
        """Begin with no rows; nothing sees to it that keys are unique."""
        from tidymerge.targets.new_files import new_content

        self._private = PrivateFolder()
        self._file = new_content(self._address, columns, self._private.path)
        self._fragment = self._file.fragment
        self._create = False
        return self._described()

    def abolish(self) -> None:
        """Take the file away with the commit, or the sheet, where others are in the file."""
        rest = list(self._after.taken_away())
        if rest:
            self._swap.put_all(rest)
        else:
            self._swap.take_away(self._path)

    def add(self, columns: Sequence[NewColumn]) -> TableShape:
        """Give the file more columns, blank in all rows."""
        self._file.add(columns)
        return self.describe()

    def complete(self, columns: Sequence[NewColumn]) -> tuple[str, ...]:
        """A file's columns have no more to them; where no row changes, they are written now."""
        if self._after.rows != self.count():
            raise ProofFailed("The new file does not have the same rows with the columns that came back.")
        return ()

    def depending(self, names: Sequence[str]) -> list[str]:
        """What needs the columns, such as formulas."""
        return self._file.depending(names)

    def definitions(self, names: Sequence[str]) -> list[NewColumn]:
        """The columns as they are."""
        types = {column.name: in_words(column.type) for column in self._file.columns}
        return [NewColumn(name, types[name], definition=self._file.definition(name)) for name in names]

    def drop(self, names: Sequence[str], *, alone: bool) -> None:
        """Take columns away from what is written already, but has not taken its place yet."""
        file = self._file if alone else self._after
        rows = file.rows
        self._read_again = file.written(self._swap.put_all(file.without(names)))
        if self._read_again.rows != rows:
            raise ProofFailed("The new file does not have the same rows without the columns that go.")

    def count(self) -> int:
        """How many rows the file holds; once written, the new one, read again."""
        return (self._after if self._changes else self._file).rows

    @property
    def about_how_many(self) -> int:
        """How many rows the file holds."""
        return self._file.rows

    def worth_reading(self, incoming: int) -> bool:
        """The whole file is most often read anyway."""
        return True

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of all rows, or of those that may match."""
        return _existing(self._file.find(columns, key, keys))

    keeps_places = True

    def nothing(self, columns: Sequence[TargetColumn]) -> Existing:
        """No rows."""
        return _existing(self._file.values(columns, np.zeros(0, np.int64)))

    def break_off(self) -> None:
        """Nothing is left to do: a file is read to its end."""

    def read_in_batches(
        self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], terms: Sequence[Term] = ()
    ) -> Iterator[Existing]:
        """All rows, some at a time, whatever the terms say: the file is read anyway."""
        for found in self._file.batches(columns):
            yield replace(_existing(found), complete=True)

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The given columns of every row."""
        return self._file.values(columns).values

    def distinct(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The combinations of values that the given columns have."""
        return self.read(columns).group_by([column.name for column in columns]).aggregate([])

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Remember which rows are meant, and see whether the file can hold the new values."""
        rows = as_array(existing.places[_ROW]).to_numpy()
        self._pairing = {column.name: column for column in pairing.columns}
        updates, inserts, removals = changes.updates, changes.inserts, changes.removals
        self._note_rows(updates.positions, rows[updates.records])
        self._note_rows(removals.positions, rows[removals.records])
        refused: dict[int, str] = {}
        for column in pairing.columns:
            touched = np.flatnonzero(updates.changing(column.name))
            texts = self._file.spelled(as_array(updates.after[column.name]).take(pa.array(touched)), column)
            old = self._file.unwritable(texts, rows[updates.records[touched]], column)
            refused |= {int(updates.positions[touched[index]]): why for index, why in old.items()}
            new = self._file.unwritable(self._file.spelled(as_array(inserts.after[column.name]), column), None, column)
            refused |= {int(inserts.positions[index]): why for index, why in new.items()}
        return [Refusal(position, why) for position, why in refused.items()]

    def _note_rows(self, positions: Indices, rows: Indices) -> None:
        if len(positions):
            more = int(positions.max()) + 1 - len(self._row_at)
            self._row_at = np.r_[self._row_at, np.full(max(more, 0), -1)]
            self._row_at[positions] = rows

    def unstage(self, positions: Sequence[int]) -> None:
        """Nothing is left to do."""

    @property
    def marks_text(self) -> bool:
        """Whether exact text starts with a letter that is not part of the value."""
        return self._file.marks_text

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts in a form that people can read."""
        return self._file.readable(texts)

    def exact(self, texts: pa.Table) -> pa.Table:
        """The exact texts that `readable` was given."""
        return self._file.exact(texts)

    def as_stored(self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool = False) -> pa.Table:
        """The rows of staged updates as they stand, as text; once `written`, as they will, also those inserted."""
        names = [column.name for column in columns]
        if written:
            return self._new_texts(changes, names)
        return self._file.texts(names, self._updated(changes))

    def leaving(self, changes: ChangeSet, columns: Sequence[TargetColumn]) -> pa.Table:
        """The rows that are to be removed, as exact text."""
        return self._file.texts([column.name for column in columns], self._row_at[changes.removals.positions])

    def _updated(self, changes: ChangeSet) -> Indices:
        """The rows that are updated."""
        rows: Indices = self._row_at[changes.updates.positions]
        return rows

    def _new_texts(self, changes: ChangeSet, names: Collection[str]) -> pa.Table:
        """Columns of the updated and then of the new rows, as they are to be."""
        names = [column.name for column in self._file.columns if column.name in names]
        return pa.concat_tables([self._updated_texts(changes, names), self._added_texts(changes, names)])

    def _updated_texts(self, changes: ChangeSet, names: Sequence[str]) -> pa.Table:
        """Columns of the updated rows, as they are to be."""
        updates, stored, found = changes.updates, self._file.texts(names, self._updated(changes)), {}
        for name in names:
            found[name] = as_array(stored[name])
            if name in updates.changed:
                texts = self._file.spelled(as_array(updates.after[name]), self._pairing[name])
                found[name] = pc.if_else(pa.array(updates.changed[name]), texts, found[name])
        return pa.table(found)

    def _added_texts(self, changes: ChangeSet, names: Sequence[str]) -> pa.Table:
        """Columns of the new rows."""
        fresh = changes.inserts.after
        return pa.table(
            {
                name: self._file.spelled(as_array(fresh[name]), self._pairing[name])
                if name in fresh.column_names
                else pa.nulls(fresh.num_rows, pa.string())
                for name in names
            }
        )

    def write(self, changes: ChangeSet) -> Written:
        """Take the changes over; they are written together when they are first read back."""
        self._changes.append(changes)
        self.forget()
        return Written(len(changes.updates), len(changes.inserts), len(changes.removals))

    def forget(self) -> None:
        """What was read of the new file is no longer true."""
        self._known_edits = self._read_again = None

    @property
    def _edits(self) -> Edits:
        if self._known_edits is None:
            self._known_edits = self._made_edits()
        return self._known_edits

    def _made_edits(self) -> Edits:
        everything = [column.name for column in self._file.columns]
        made = self._changes or [_NOTHING]  # a column may come back that holds nothing
        touched = {name for changes in made for name in changes.updates.columns}
        names = [name for name in everything if name in touched]
        rows = np.concatenate([self._updated(changes) for changes in made])
        cells = pa.concat_tables([self._updated_texts(changes, names) for changes in made])
        added = pa.concat_tables([self._added_texts(changes, everything) for changes in made])
        order = np.argsort(rows, kind="stable")
        leaving = np.sort(np.concatenate([self._row_at[changes.removals.positions] for changes in made]))
        joint = self._file.joint(np.union1d(rows, leaving))
        return Edits(rows[order], cells.take(pa.array(order)), leaving, added, joint)

    @property
    def _after(self) -> Content:
        """The new rows, beside the old ones, read again. Raises TargetFull and TargetReadOnly."""
        if self._read_again is None:
            self._read_again = self._file.written(self._new_files())
        return self._read_again

    def _new_files(self) -> Mapping[Path, Path]:
        """The files that are put beside old ones, by those."""
        return self._swap.put_all(self._file.edited(self._edits))

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        """The written rows as the new file has them, in the order of the change set."""
        if not self._changes:
            return self._file.values(pairing.columns, np.zeros(0, np.int64)).values
        at = self._places(changes)
        written = {*self._file.anew(self._edits), *(column.name for column in pairing.columns)}
        kept = [column.name for column in self._file.columns if not column.generated and column.name in written]
        wanted = self._new_texts(changes, kept)
        found = self._after.texts(wanted.column_names, at)
        for name in wanted.column_names:
            if not as_array(found[name]).equals(as_array(wanted[name])):
                raise ProofFailed(f"The column {name} of the new file does not read as it was written.")
        return self._after.values(pairing.columns, at).values

    def _places(self, changes: ChangeSet) -> Indices:
        """Where the updated and the new rows of a change set stand in the new file."""
        before = 0
        for other in self._changes:
            if other is changes or np.array_equal(other.positions, changes.positions):
                break
            before += len(other.inserts)
        new = self._edits.new_places[before : before + len(changes.inserts)]
        both: Indices = np.r_[self._edits.new_place(self._updated(changes)), new]
        return both

    def remaining(self, changes: ChangeSet) -> int:
        """How many rows of the removed keys are still there."""
        if changes.by_place or not len(changes.removals):
            return 0  # without a key equal rows may be there still: how many rows there are is proved
        exact = [column.as_stored() for column in self._file.columns if column.name in changes.key]
        keys = changes.removals.before.select([column.name for column in exact])
        codes = code_keys(keys, self._after.find(exact, exact, keys).values, exact)
        return int((match(codes).times > 0).sum())

    def unseen(self) -> list[str]:
        """The formulas that would not see new rows."""
        return self._file.unseen()

    def commit(self) -> tuple[str, ...]:
        """Put the new file in the place of the old one, unless somebody changed that since it was read."""
        self._swap.commit()
        return ()


def _existing(found: Found) -> Existing:
    length = found.values.num_rows
    rows = np.arange(length) if found.rows is None else found.rows
    return Existing(found.values, pa.table({_ROW: rows}), complete=found.rows is None, unreadable=found.unreadable)
