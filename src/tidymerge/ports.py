"""The contracts between the flow and the outside: where rows come from and where they go."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from types import TracebackType
from typing import TYPE_CHECKING, Protocol, Self, runtime_checkable

import pyarrow as pa

from tidymerge.changes import ChangeSet, Logged, Violation
from tidymerge.model import Existing, Incoming, Mask, Pairing, TableShape, TargetColumn
from tidymerge.run import Run

if TYPE_CHECKING:
    from tidymerge.sources import ReadOptions


class Source(Protocol):
    """Incoming rows in a file or a sheet. Opening one raises a SourceError if it can't be read.

    `above` counts the rows of the sheet over the first that `head` gives, where only a range is read.
    """

    address: str
    sheet: str | None
    above: int
    notes: tuple[str, ...]

    def parts(self) -> tuple[tuple[str, int, int], ...]:
        """The sheets of a workbook: name, rows and columns of each; none for a file without parts."""

    def head(self, rows: int) -> list[list[str]]:
        """The cells of the first `rows` rows as text, blanks as ''."""

    def read(self, header_row: int) -> Incoming:
        """All rows below `header_row` (0 for the first row of `head`) that are not wholly blank."""


@runtime_checkable
class BatchedSource(Source, Protocol):
    """A source that can also give its rows some at a time. `rows_expected` is about how many there are."""

    rows_expected: int

    def sample(self, header_row: int) -> Incoming:
        """The first rows. Raises Irregular if only `read` can give any."""

    def batches(self, header_row: int) -> Iterator[Incoming]:
        """What `read` gives, in pieces. Raises Irregular if only `read` can."""


class Irregular(Exception):
    """Rows that can't be read in pieces."""


@dataclass(frozen=True, slots=True)
class Refusal:
    """A change that only the target could find fault with: its position in the change set, and its words."""

    position: int
    message: str


@dataclass(frozen=True, slots=True)
class Written:
    """What the target says that it did, and what it refused."""

    updated: int
    inserted: int
    deleted: int = 0
    refused: tuple[Refusal, ...] = ()


@dataclass(frozen=True, slots=True)
class NewColumn:
    """A column to add: its name, and its type as a job declares one, as in decimal(8, 2)."""

    name: str
    type: str


class Target(Protocol):
    """A table that can be described, read and written in one transaction.

    Entering begins the transaction (with the write lock, if opened for writing); leaving without
    `commit` rolls back. All methods raise a TargetError in place of the driver's own errors.
    """

    @property
    def address(self) -> str:
        """Where the table is, for people; never with a password."""

    def __enter__(self) -> Self: ...

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...

    def parts(self) -> tuple[tuple[str, int, int], ...]:
        """The tables that live where the target does: name, rows and columns of each."""

    def describe(self) -> TableShape:
        """The table's columns and constraints."""

    def add(self, columns: Sequence[NewColumn]) -> TableShape:
        """Give the table more columns, blank in all records; the new shape. A preview only sees them so."""

    def drop(self, names: Sequence[str]) -> None:
        """Take columns away, once all is written and read back; they go with the commit."""

    def count(self) -> int:
        """How many rows the table holds now."""

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of the records that may match `keys` (the typed `key` columns), or of all records."""

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The given columns of every record, typed."""

    def distinct(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The combinations of values that the given columns have, typed, each once."""

    def sibling(self, table: str) -> "tuple[TableShape, pa.Table]":
        """Another table of the same place, to look up in: its shape and all of its records, typed."""

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """A number for each of the distinct texts, equal for those that the target takes for equal."""

    @property
    def about_how_many(self) -> int:
        """How many rows the table holds, as far as the database's statistics know."""

    def source(self, text: str, options: "ReadOptions") -> Source | None:
        """The rows at an address, if they live where the target does: they are read in its own transaction."""

    def worth_reading(self, incoming: int) -> bool:
        """Whether so many incoming rows make it worth reading the whole table, rather than looking keys up."""

    def read_in_batches(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn]) -> Iterator[Existing]:
        """All records, a bounded number at a time."""

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Put decided changes where set-based statements reach them, beside those staged before.

        Returns those whose values the target can't even hold. When opened for writing, the records to
        update are locked from here on, and are sure to be as they were compared. Raises TargetChanged.
        """

    def unstage(self, positions: Sequence[int]) -> None:
        """Take staged changes away again."""

    def violations(self, pairing: Pairing) -> list[Violation]:
        """The staged changes that would break a constraint of the table."""

    def as_stored(self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool = False) -> pa.Table:
        """The records of staged updates as they now stand, as exact text; once `written`, also those inserted."""

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts, by column, in a form that people can read, for the log."""

    def exact(self, texts: pa.Table) -> pa.Table:
        """The exact texts that `readable` was given, whatever the columns hold by now."""

    def write(self, changes: ChangeSet) -> Written:
        """Write changes that are staged: only changed rows, only changed columns."""

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        """The written records as they now stand, in the order of the change set."""

    def remaining(self, changes: ChangeSet) -> int:
        """How many of the deleted records are still there."""

    @property
    def marks_text(self) -> bool:
        """Whether exact text starts with a letter that is not part of the value."""

    def suspects(self) -> list[str]:
        """What may change the table's rows on its own: triggers, rules and policies, by kind and name."""

    def unseen(self) -> list[str]:
        """What would not see new records, such as formulas that name rows by place, by place and text."""

    def commit(self) -> None:
        """Make the writes last."""


class Recording(Protocol):
    """The log of one run, from its start until it is settled. `restart`, `add` and `seal` may raise LogUnwritable."""

    def restart(self) -> None:
        """Forget what was added: the run starts again."""

    def add(self, log: Logged) -> None:
        """Keep the changes of one part."""

    def seal(self, run: Run) -> None:
        """Make sure that all is on disk, before the target commits."""

    def settle(self, run: Run) -> None:
        """Say how the run ended, as well as that can be done: what it did is done."""

    def leave(self) -> None:
        """Let go of the run as it is."""


class RunLog(Protocol):
    """The runs of the past, by name; names sort by time."""

    def begin(self, name: str) -> Recording:
        """Start to record a run. Raises LogUnwritable."""

    def names(self) -> list[str]:
        """The names of all runs, the latest first."""

    def read(self, name: str) -> Run:
        """The run of that exact name. Raises LogDamaged."""

    def find(self, text: str) -> Run:
        """The run whose name is, or begins with, `text`; `last` is the latest. Raises NoSuchRun and LogDamaged."""

    def changes(self, run: Run, wanted: Callable[[pa.Table], Mask] | None = None) -> Iterator[Logged]:
        """What a run did to records, some at a time; only those whose keys `wanted` picks. Raises LogDamaged."""

    def unsettled(self) -> list[str]:
        """The runs of which it is not known whether their commit lasted, or that are at it now."""

    def ended(self, name: str) -> AbstractContextManager[bool]:
        """Whether the process of a run is gone; while inside, nobody else takes its place."""

    def write(self, run: Run) -> None:
        """Write a run's entry, whole or not at all, and make sure that it is on disk. Raises LogUnwritable."""

    def tidy(self) -> None:
        """Remove runs that are older than they are to be kept, and what runs left that never came to writing."""


class Progress(Protocol):
    """Told when a stage of a run begins, and how far it has come."""

    def stage(self, words: str, rows: int | None = None) -> None:
        """A stage begins, said in a few words for people, over so many rows if that is known."""

    def rows(self, count: int) -> None:
        """So many more rows have gone through the stage."""
