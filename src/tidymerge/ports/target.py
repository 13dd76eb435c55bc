"""Where rows go: a table, and what it can do, as small capabilities.

Every target is `Opened`, `Readable`, `LookedUpByKey`, `Writable`, `Alterable` and `Restorable`; together that is a
`Target`. The others a target has or lacks: ask with `isinstance`.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from types import MappingProxyType, TracebackType
from typing import Protocol, Self, runtime_checkable

import pyarrow as pa

from tidymerge.model import Existing, ForeignKey, NewColumn, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet, Refusal, Violation, Written
from tidymerge.model.terms import Term

NO_TYPES: Mapping[str, str] = MappingProxyType({})


class Opened(Protocol):
    """A table in one transaction.

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

    def describe(self) -> TableShape:
        """The table's columns and constraints."""


class Readable(Protocol):
    """A table whose records can be read."""

    @property
    def about_how_many(self) -> int:
        """How many rows the table holds, as far as the database's statistics know."""

    def count(self) -> int:
        """How many rows the table holds now."""

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The given columns of every record, typed."""

    def distinct(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The combinations of values that the given columns have, typed, each once."""

    def read_in_batches(
        self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], terms: Sequence[Term] = ()
    ) -> Iterator[Existing]:
        """All records, a bounded number at a time; those of which a term is not true may be left out."""


class LookedUpByKey(Protocol):
    """A table whose records can be found by their keys."""

    def worth_reading(self, incoming: int) -> bool:
        """Whether so many incoming rows make it worth reading the whole table, rather than looking keys up."""

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of the records that may match `keys` (the typed `key` columns), or of all records."""

    @property
    def keeps_places(self) -> bool:
        """Whether a record is found again by where it is, also after it was updated."""

    def nothing(self, columns: Sequence[TargetColumn]) -> Existing:
        """What `fetch` gives where no record is found."""

    def break_off(self) -> None:
        """Let a fetch that goes on in another thread end soon, if need be with the connection. It never fails."""


class Writable(Protocol):
    """A table that can be written."""

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Put decided changes where set-based statements reach them, beside those staged before.

        Returns those whose values the target can't even hold. When opened for writing, the records to
        update are locked from here on, and are sure to be as they were compared. Raises TargetChanged.
        """

    def unstage(self, positions: Sequence[int]) -> None:
        """Take staged changes away again."""

    def write(self, changes: ChangeSet) -> Written:
        """Write changes that are staged: only changed rows, only changed columns."""

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        """The records that were updated, and then those that were inserted, as they now stand."""

    def remaining(self, changes: ChangeSet) -> int:
        """How many of the removed records are still there."""

    def commit(self) -> tuple[str, ...]:
        """Make the writes last. What could not be put in order after that, in words."""


class Restorable(Protocol):
    """A table whose values can be kept as exact text, of which the very same values can be made again."""

    @property
    def marks_text(self) -> bool:
        """Whether exact text starts with a letter that is not part of the value."""

    def as_stored(self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool = False) -> pa.Table:
        """The records of staged updates as they now stand, as exact text; once `written`, also those inserted."""

    def leaving(self, changes: ChangeSet, columns: Sequence[TargetColumn]) -> pa.Table:
        """The records of staged removals as they now stand, as exact text, in their order."""

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts, by column, in a form that people can read, for the log."""

    def exact(self, texts: pa.Table) -> pa.Table:
        """The exact texts that `readable` was given, whatever the columns hold by now."""


class Alterable(Protocol):
    """A table that can be made, given columns, and taken away."""

    def create(self, columns: Sequence[NewColumn], key: Sequence[str]) -> TableShape:
        """Make the table, which was opened as one that is not there yet. A preview only sees it so."""

    def abolish(self) -> None:
        """Take the table away, with the commit."""

    def add(self, columns: Sequence[NewColumn]) -> TableShape:
        """Give the table more columns, blank in all records; the new shape. A preview only sees them so."""

    def complete(self, columns: Sequence[NewColumn]) -> tuple[str, ...]:
        """Give columns that came back all of their definition, once their values are there. What can't be, in words."""

    def depending(self, names: Sequence[str]) -> list[str]:
        """What needs some columns, in words: keys, indexes, checks, views, formulas."""

    def definitions(self, names: Sequence[str]) -> list[NewColumn]:
        """Columns as they are, so that they can be added again."""

    def drop(self, names: Sequence[str], *, alone: bool) -> None:
        """Take columns away, once all is written and read back; they go with the commit.

        `alone`: nothing else is written, so that they must still hold what was read.
        """


class Target(Opened, Readable, LookedUpByKey, Writable, Restorable, Alterable, Protocol):
    """What every target can do."""


@runtime_checkable
class Constrained(Protocol):
    """A table that keeps rules of its own: unique columns, foreign keys, checks."""

    def violations(self, pairing: Pairing) -> list[Violation]:
        """The staged changes that would break a constraint of the table."""


@runtime_checkable
class Collated(Protocol):
    """A table that has its own notion of equal texts."""

    def equal_codes(self, column: TargetColumn, texts: pa.Array) -> pa.Array:
        """A number for each of the distinct texts, equal for those that the target takes for equal."""


@runtime_checkable
class AmongOthers(Protocol):
    """A table that lives beside others, as in a database."""

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The tables that live where the target does: name, rows and columns of each."""

    def sibling(self, table: str) -> tuple[TableShape, pa.Table]:
        """Another table of the same place, to look up in: its shape and all of its records, typed."""

    def beside(self, table: str, *, create: bool = False, types: Mapping[str, str] = NO_TYPES) -> "Target":
        """Another table of the same place, entered, in the same transaction; what is staged in one, others know of.

        One to `create` is not there yet. `types` of columns are used where the place has none of its own.
        """


@runtime_checkable
class Related(AmongOthers, Protocol):
    """A table that others refer to by foreign keys, and whose records the database may number."""

    def loosen(self, columns: Sequence[str]) -> None:
        """Leave columns empty that refer to tables which are written later, until they are filled."""

    def await_ids(self, column: str, low: int, high: int) -> None:
        """Take the values of a column from `low` to `high` for ids of records that are not written yet."""

    def give_ids(self, column: TargetColumn, first: int, ids: pa.Array) -> None:
        """Replace staged values of a column, which stood for these ids: `first` for the first one."""

    def fill(self, changes: ChangeSet) -> int:
        """Fill the loose columns of written records; how many were updated in no other. Raises TargetChanged."""

    def savepoint(self) -> AbstractContextManager[None]:
        """What is written inside is taken back if an error ends it, and nothing else."""

    def let_go(self, changes: ChangeSet) -> None:
        """Empty the loose columns of records that are to go. Raises TargetChanged."""

    def referring(self) -> list[ForeignKey]:
        """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""


@runtime_checkable
class Reacting(Protocol):
    """A table that may change on its own when it is written."""

    def suspects(self) -> list[str]:
        """What may change the table's rows on its own: triggers, rules and policies, by kind and name."""


@runtime_checkable
class NamedByPlace(Protocol):
    """A table whose rows are named by their place elsewhere, as by a formula in a sheet."""

    def unseen(self) -> list[str]:
        """What would not see new records, by place and text."""


@runtime_checkable
class Piecewise(Protocol):
    """A table that is written in pieces, as its place has no transaction: what was cut off may be there in part."""

    @property
    def changes_at_once(self) -> int:
        """How many changes are one piece."""

    def end_when(self, interrupted: Callable[[], bool]) -> None:
        """Ask this between two pieces of the commit: if so, take back what was written, and raise Interrupted."""


@runtime_checkable
class Spelling(Protocol):
    """A table in which the exact text of some columns follows from their typed values."""

    def exact_text(self, column: TargetColumn, values: pa.Array) -> pa.Array | None:
        """The exact text of a column's typed values; None where only the target can tell it."""
