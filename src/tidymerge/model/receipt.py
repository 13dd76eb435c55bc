"""What a run did, for people and for programs."""

from collections.abc import Mapping
from datetime import datetime
from enum import StrEnum
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.model.changes import Tally


class State(StrEnum):
    """How a run ended."""

    PREVIEWED = "previewed"
    LOADED = "loaded"
    STOPPED = "stopped"
    FAILED = "failed"
    UNDONE = "undone"
    CHANGED = "changed"
    REMOVED = "removed"
    EXTRACTED = "extracted"
    PARTLY = "partly"

    @property
    def done(self) -> bool:
        """Whether a run that came to this state did what it was asked for."""
        return self in (State.LOADED, State.UNDONE, State.CHANGED, State.REMOVED)

    @property
    def wrote(self) -> bool:
        """Whether a run that came to this state may have changed something: all that it was to, or a part."""
        return self.done or self is State.PARTLY


class Action(StrEnum):
    """What a run was asked to do."""

    LOAD = "load"
    UNDO = "undo"
    CHANGE = "change"
    REMOVE = "remove"
    EXTRACT = "extract"
    COMPARE = "compare"


class Request(Struct, frozen=True):
    """What was asked of records that are there: by column what it is set to, and the condition; None for all.

    `keys` is the address of rows that name the records, in place of a condition. `drops` are columns to take away.
    With `with_referring` all goes along that refers to the records. `archive` are the tables that they are copied to
    first, by the tables that they come from; an empty name stands for the one that was asked for.
    """

    action: Action
    sets: Mapping[str, str] = field(default_factory=dict)
    where: str | None = None
    keys: str | None = None
    drops: tuple[str, ...] = ()
    with_referring: bool = False
    archive: Mapping[str, str] = field(default_factory=dict)


class Example(Struct, frozen=True):
    """One changed field: the row it came from, the record's key, the value before and after."""

    row: int
    key: tuple[str, ...]
    before: str | None
    after: str | None


class SampleRow(Struct, frozen=True):
    """A touched record in full: (column, value before, value after, changed) for each loaded column."""

    row: int
    outcome: str
    fields: tuple[tuple[str, str | None, str | None, bool], ...]


class RejectedCell(Struct, frozen=True):
    """One thing that is wrong with a rejected row, for people. `record` is the key, where no row asked for it."""

    row: int
    column: str | None
    value: str | None
    reason: str
    expected: str
    origin: str | None = None
    record: str | None = None


class MappedColumn(Struct, frozen=True):
    """How one target column is fed: from what, by which rule in words, and three values before and after."""

    target: str
    source: str
    rule: str
    samples: tuple[tuple[str | None, str | None], ...]


class TableReceipt(Struct, frozen=True):
    """What a run did to one target table. Columns that it added, or took away again, come with their types.

    With `table_made` or `table_gone` that holds of the whole table. `records_updated` counts records: several of them
    may be updated by one row, or one by several rows. In a load of several tables each has an address of its
    `incoming` rows, and `parents`, the tables of the run to which it refers.
    """

    target: str
    key: tuple[str, ...]
    rows_before: int
    rows_after: int
    rows: Tally
    fields_updated: int
    columns: Mapping[str, int]
    mapping: Mapping[str, str]
    not_loaded: tuple[str, ...]
    left_alone: tuple[str, ...]
    examples: Mapping[str, Example]
    samples: tuple[SampleRow, ...]
    view: tuple[MappedColumn, ...]
    read_back: int = 0
    columns_added: Mapping[str, str] = field(default_factory=dict)
    columns_dropped: Mapping[str, str] = field(default_factory=dict)
    records_updated: int = 0
    table_made: bool = False
    table_gone: bool = False
    incoming: str = ""
    parents: tuple[str, ...] = ()
    name: str = ""

    @property
    def called(self) -> str:
        """The table's name; in a receipt of an older log it is told by the address."""
        return self.name or self.target.rpartition("#")[2]


class Rejects(Struct, frozen=True):
    """The rejected rows: how many by (first) reason, the first few in full, and the file they went to."""

    reasons: Mapping[str, int]
    first: tuple[RejectedCell, ...]
    file: str | None = None


class Conflict(Struct, frozen=True):
    """A record that an undo can't put back: what the run wrote, what is there now or stands in the way, and by whom.

    `row` is the incoming row of the run; `by` names a later run that wrote what is there now.
    """

    row: int
    key: tuple[str, ...]
    reason: str
    expected: str
    column: str | None
    wrote: str | None
    now: str | None
    by: str | None = None


class Touch(Struct, frozen=True):
    """What one run did to one record: the outcome, the incoming row, and each field before and after.

    `file` says where the row is from, if the run had rows from several places; `table` whose record it is, if the run
    touched several tables.
    """

    outcome: str
    row: int
    key: tuple[str, ...]
    fields: tuple[tuple[str, str | None, str | None], ...]
    file: str | None = None
    table: str | None = None


class Receipt(Struct, frozen=True):
    """What a run did, or in a preview would do. `to_dict` gives the published JSON form.

    `limits` are those that a run goes over; `undoes` is the run that an undo takes back, `conflicts` the first of
    the records that it can't; `request` is what was asked of records that are there, in place of incoming rows.
    """

    state: State
    incoming: str
    sheet: str | None
    header_row: int
    rows: Tally
    fingerprint: str
    tables: tuple[TableReceipt, ...]
    rejects: Rejects
    warnings: tuple[str, ...]
    notes: tuple[str, ...]
    started: datetime
    seconds: float
    verified: bool | None = None
    run: str | None = None
    limits: tuple[str, ...] = ()
    go_ahead: Mapping[str, int | bool] = field(default_factory=dict)
    undoes: str | None = None
    conflicts: tuple[Conflict, ...] = ()
    request: Request | None = None

    @property
    def action(self) -> Action:
        """What the run was asked to do."""
        if self.undoes:
            return Action.UNDO
        return self.request.action if self.request else Action.LOAD

    @property
    def is_family(self) -> bool:
        """Whether rows were loaded into several tables."""
        return self.action is Action.LOAD and len(self.tables) > 1

    @property
    def place(self) -> str:
        """What the run was about: its table, or the database of several."""
        first = self.tables[0]
        if self.action is Action.COMPARE:
            return self.incoming
        return first.target.removesuffix(f"#{first.called}") if self.is_family else first.target

    @property
    def tree(self) -> list[tuple[int, int]]:
        """The tables as a tree: the place and the depth of each, under the last of its parents."""
        names = [table.called for table in self.tables]
        under: dict[int, list[int]] = {}
        for at, table in enumerate(self.tables):
            parents = [names.index(name) for name in table.parents if name in names[:at]]
            under.setdefault(max(parents, default=-1), []).append(at)
        found: list[tuple[int, int]] = []

        def add(at: int, depth: int) -> None:
            for child in under.get(at, ()):
                found.append((child, depth))
                add(child, depth + 1)

        add(-1, 0)
        return found

    @property
    def without_partner(self) -> int:
        """Of a comparison the rows of the first side whose key is on rows that are not compared."""
        rows = self.rows
        return self.tables[0].rows_before - rows.unchanged - rows.updated - rows.removed

    @property
    def changed(self) -> int:
        """How many rows made a difference to the target."""
        return self.rows.inserted + self.rows.updated + self.rows.removed

    def of_table(self, at: int) -> "Receipt":
        """What it did to one of its tables."""
        table = self.tables[at]
        return replace(self, tables=(table,), rows=table.rows)

    @property
    def lasts(self) -> bool:
        """Whether it made a difference to the target, be it that a column without values went or came back."""
        came = self.undoes is not None
        return self.changed > 0 or any(table.columns_dropped or (came and table.columns_added) for table in self.tables)

    @property
    def fields_updated(self) -> int:
        """How many fields of existing records changed."""
        return sum(table.fields_updated for table in self.tables)

    def _repr_html_(self) -> str:
        """The receipt in a notebook."""
        from tidymerge.model.receipt_html import receipt_html

        return receipt_html(self)

    def to_dict(self) -> dict[str, Any]:
        """The receipt as plain data, in the published form `tidymerge-receipt/1`, or that of a comparison."""
        if self.action is Action.COMPARE:
            from tidymerge.model.comparison_form import comparison_to_dict

            return dict(comparison_to_dict(self))
        from tidymerge.model.receipt_form import receipt_to_dict

        return dict(receipt_to_dict(self))
