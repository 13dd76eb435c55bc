"""What is known once every row has its outcome and nothing is written yet."""

from collections.abc import Callable, Iterable, Mapping, Sequence

import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.address import is_server, parse
from tidymerge.core.account import account
from tidymerge.core.decide.change_set import reject
from tidymerge.core.decide.coming import Awaited
from tidymerge.core.infer.structure import structure_of
from tidymerge.core.warn.limits import Excess
from tidymerge.model import Flaw, Incoming, NewColumn, Pairing, Sample, TableShape
from tidymerge.model.changes import ChangeSet, Tally
from tidymerge.model.receipt import Conflict, MappedColumn, Request
from tidymerge.model.structure import Structure
from tidymerge.ports.target import Target


class Part(Struct, frozen=True):
    """Some of the incoming rows, with what was decided about them. `incoming` gives them, or reads them again."""

    incoming: Callable[[], Incoming]
    changes: ChangeSet
    read: int

    def rows(self) -> Incoming:
        """The incoming rows, and the absent records behind them."""
        absent = self.changes.absent
        return self.incoming() if absent is None else self.incoming().beyond(absent)

    def of_rows(self) -> tuple[Incoming, ChangeSet]:
        """The incoming rows alone, and what was decided about them."""
        return self.incoming(), self.changes.without_absent()

    def without(self, flaws: Sequence[Flaw]) -> "Part":
        """The part with the rows that have these flaws rejected."""
        return replace(self, changes=reject(self.changes, flaws))


def as_they_are(changes: ChangeSet) -> ChangeSet:
    """The changes, whose values are fit to be read."""
    return changes


def _no_conflicts(_: Sequence[Part]) -> Iterable[Conflict]:
    """A load has none."""
    return ()


class Beside(Struct, frozen=True):
    """A further table of the run, and what was decided about it.

    In a `loose` one some columns wait for other tables; one that is `holding` removes records after all else.
    """

    target: Target
    decided: "Decided"
    loose: bool = False
    holding: bool = False


class Copy(Struct, frozen=True):
    """Records that go, to be copied to a new file."""

    file: str
    records: pa.Table


class Decided(Struct, frozen=True):
    """All parts, and what is worth saying about them.

    `shown` makes the values of changes fit to be read; `conflicts` gives the records of an undo's parts that can't be
    put back; `limits` are those that the job goes over; `added` columns are in the shape already, `dropped` ones still;
    `latest` has the greatest incoming value of each column of dates, `newest` that of the one by which the next run
    goes on; `unreadable` columns hold values that are not of their type; `request` is what was asked of records, where
    no rows came in. Of rows that may count only once, `once`
    are the incoming columns that count, and `known_as` is why those are left out that were loaded before.
    The whole table is `made` by the run, or `goes` with it. Added columns may come `back`; dropped ones are
    `needed` by these things.
    `beside` is what was decided about further tables, parents before their children; `copies` go to files. Some
    columns hold numbers that stand for ids: each one `awaits` those of a table of the run. Tables are `related` that
    rows are loaded into together; where one is `alone`, nothing can go along with its records.
    """

    target: str
    sample: Sample
    shape: TableShape
    pairing: Pairing
    rows_before: int
    parts: tuple[Part, ...]
    tally: Tally
    fingerprint: str
    warnings: tuple[str, ...]
    notes: tuple[str, ...]
    view: tuple[MappedColumn, ...]
    shown: Callable[[ChangeSet], ChangeSet] = as_they_are
    conflicts: Callable[[Sequence[Part]], Iterable[Conflict]] = _no_conflicts
    limits: tuple[Excess, ...] = ()
    added: tuple[NewColumn, ...] = ()
    dropped: tuple[NewColumn, ...] = ()
    latest: Mapping[str, str] = field(default_factory=dict)
    newest: Mapping[str, str] = field(default_factory=dict)
    unreadable: frozenset[str] = frozenset()
    request: Request | None = None
    once: tuple[str, ...] | None = None
    known_as: str | None = None
    back: bool = False
    needed: tuple[str, ...] = ()
    beside: tuple["Beside", ...] = ()
    copies: tuple[Copy, ...] = ()
    made: bool = False
    goes: bool = False
    awaits: tuple[Awaited, ...] = ()
    related: bool = False
    alone: bool = False

    @property
    def all(self) -> tuple["Decided", ...]:
        """What was decided about each table."""
        return (self, *(one.decided for one in self.beside))

    @property
    def called(self) -> str:
        """The name by which the table is found in its place: a sheet's own, which may hold a table of another name."""
        fragment = None if is_server(self.target) else parse(self.target).fragment
        return fragment or self.shape.name

    @property
    def total(self) -> Tally:
        """The counts over all tables."""
        return account.total([one.tally for one in self.all])

    @property
    def mark(self) -> str:
        """The fingerprint of all tables."""
        return (
            account.joint([(one.shape.name, one.fingerprint) for one in self.all]) if self.beside else self.fingerprint
        )

    @property
    def structure(self) -> Structure | None:
        """The table's structure as the run leaves it. How the target declares a new column it tells the next run."""
        gone = {column.name for column in self.dropped}
        new = {column.name for column in self.added}
        return None if self.goes else structure_of(self.shape, without=gone, untold=new)

    @property
    def only_drops(self) -> bool:
        """Whether all that changes are columns which go, so that their values need not be taken out of them before."""
        changes = [part.changes for part in self.parts]
        gone = {column.name for column in self.dropped}
        return (
            bool(gone)
            and not self.goes
            and all(
                not len(one.inserts) and not len(one.removals) and gone.issuperset(one.updates.columns)
                for one in changes
            )
        )

    def noting(self, *notes: str, last: bool = False) -> "Decided":
        """The same with further notes, which come first or `last`."""
        return replace(self, notes=(*self.notes, *notes) if last else (*notes, *self.notes))

    def warned(self, *warnings: str) -> "Decided":
        """The same with further warnings."""
        return replace(self, warnings=(*self.warnings, *warnings))

    def with_parts(self, parts: Sequence[Part], *notes: str) -> "Decided":
        """The same with other outcomes of some rows."""
        changes = [part.changes for part in parts]
        return replace(
            self,
            parts=tuple(parts),
            tally=account.tally(changes),
            fingerprint=account.fingerprint(changes),
            notes=(*self.notes, *notes),
        )
