"""What the kinds of files have in common: rows that are read, compared, and written anew with edits."""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import BinaryIO, Protocol

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from tidymerge.model import Definition, Indices, Mask, NewColumn, TargetColumn


class Edits(Struct, frozen=True):
    """What is to be different, every value as exact text.

    `rows` (ascending) get new `cells` in the columns given; rows that are `leaving` (ascending) go; those `added`,
    with all columns, come before the row that now is number `added_at`, or to the end.
    """

    rows: Indices
    cells: pa.Table
    leaving: Indices
    added: pa.Table
    added_at: int

    def new_place(self, rows: Indices) -> Indices:
        """Where rows stand once the edits are made."""
        moved: Indices = rows - np.searchsorted(self.leaving, rows)
        return moved + np.where(rows >= self.added_at, self.added.num_rows, 0)

    @property
    def new_places(self) -> Indices:
        """Where the added rows stand once the edits are made."""
        first = self.added_at - int(np.searchsorted(self.leaving, self.added_at))
        return first + np.arange(self.added.num_rows)


class Found(Struct, frozen=True):
    """Values of rows, typed; `rows` are their numbers, or None for all; `unreadable` as in `Existing`."""

    values: pa.Table
    rows: Indices | None = None
    unreadable: Mapping[str, Mask] = field(default_factory=dict)


NewFile = Callable[[BinaryIO], None]  # writes one file anew


class Content(Protocol):
    """The rows of a file, or of a folder of files, as they were when it was opened. Rows are numbered from 0.

    Every value also has an exact text, of which the very same value can be made again. `types_told` says that the
    types are told by the data. Opening raises TargetUnreadable.
    """

    marks_text: bool
    types_told: bool

    @property
    def name(self) -> str:
        """What to call the table."""

    @property
    def fragment(self) -> str | None:
        """The sheet of the file that is meant, if it has sheets."""

    @property
    def columns(self) -> tuple[TargetColumn, ...]:
        """The columns in their order, with the types that the job declares or the data tell."""

    @property
    def rows(self) -> int:
        """How many rows there are."""

    @property
    def notes(self) -> tuple[str, ...]:
        """What is worth knowing about what a load does to the file."""

    def unseen(self) -> list[str]:
        """What would not see new rows, by place and text."""

    def find(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Found:
        """The columns of the rows that may match `keys`, or of all rows."""

    def values(self, columns: Sequence[TargetColumn], rows: Indices | None = None) -> Found:
        """The columns of some rows, or of all."""

    def batches(self, columns: Sequence[TargetColumn]) -> Iterator[Found]:
        """The columns of all rows, some at a time."""

    def texts(self, names: Sequence[str], rows: Indices) -> pa.Table:
        """The exact text of some rows."""

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts in a form that people can read."""

    def exact(self, texts: pa.Table) -> pa.Table:
        """The exact texts that `readable` was given."""

    def spelled(self, values: pa.Array, column: TargetColumn) -> pa.Array:
        """The exact text that new values will have."""

    def unwritable(self, texts: pa.Array, rows: Indices | None, column: TargetColumn) -> Mapping[int, str]:
        """The exact texts, by index, that can't be written, in `rows` or in new ones, and why."""

    def add(self, columns: Sequence[NewColumn]) -> None:
        """Have more columns at the end, blank in all rows; they are written with the edits."""

    def depending(self, names: Sequence[str]) -> list[str]:
        """What needs some columns, in words with its place."""

    def definition(self, name: str) -> Definition | None:
        """How the file itself declares a column, if it does."""

    def without(self, names: Sequence[str]) -> Iterable[tuple[Path, NewFile]]:
        """The files, to be written anew without some columns."""

    def taken_away(self) -> Iterable[tuple[Path, NewFile]]:
        """The file, to be written anew without these rows and their columns; nothing if all of it goes."""

    def joint(self, touched: Indices) -> int:
        """Before which row new ones are added, if these are `touched`."""

    def edited(self, edits: Edits) -> Iterable[tuple[Path, NewFile]]:
        """The files that are to be written anew."""

    def anew(self, edits: Edits) -> Collection[str]:
        """The columns whose values are written anew; those of the others are copied as they are."""

    def written(self, files: Mapping[Path, Path]) -> "Content":
        """The same, read from files that take the place of others."""
