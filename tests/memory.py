"""Tables in memory with the contract of a target: what the core decides is tested over them, without any database.

They know keys, required columns and defaults, and live beside each other; they have no other constraints and no
collations. Addresses end in `.memory`, as in `coop.memory#hives`.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path
from typing import Any, Self

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

import tidymerge.targets
from tidymerge.address import Address
from tidymerge.core.infer.told import declared
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.errors import NoSuchTable, TargetChanged
from tidymerge.model import Definition, Existing, Kind, NewColumn, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet, Refusal, Written
from tidymerge.model.terms import Term

Record = dict[str, Any]
ENDING = ".memory"
_ROW = "row"
_SQL = {"varchar": "text", "char": "text", "bool": "boolean", "datetime": "timestamp"}


@dataclass
class Table:
    """Records by their numbers, and how often they were committed."""

    shape: TableShape
    defaults: Mapping[str, Any] = field(default_factory=dict)
    records: dict[int, Record] = field(default_factory=dict)
    version: int = 0

    @property
    def rows(self) -> list[tuple[Any, ...]]:
        """All records, as plain values in the order of the columns."""
        return [tuple(record.get(column.name) for column in self.shape.columns) for record in self.records.values()]


DATABASES: dict[Path, dict[str, Table]] = {}


def column(name: str, declaration: str) -> tuple[TargetColumn, Any]:
    """A column as SQL declares it, such as `VARCHAR(9) NOT NULL DEFAULT 'new'`; and its default."""
    kind = re.match(r"(\w+)\s*(\([^)]*\))?", declaration)
    word = kind[1].lower()
    made = declared(f"{_SQL.get(word, word)}{kind[2] or ''}")
    default = re.search(r"DEFAULT\s+('((?:[^']|'')*)'|\S+)", declaration, re.IGNORECASE)
    text = None if default is None else default[1] if default[2] is None else default[2].replace("''", "'")
    value = None if text is None else typed(pa.array([text]), made)[0].as_py()
    required = bool(re.search("NOT NULL|PRIMARY KEY", declaration, re.IGNORECASE))
    return TargetColumn(name, made, nullable=not required, has_default=default is not None), value


def declaration(one: TargetColumn, default: Any, *, key: bool) -> str:
    """A column as SQL declares it."""
    text = text_of(default)
    quoted = [] if text is None else ["DEFAULT '" + text.replace("'", "''") + "'"]
    return " ".join([one.type.declared, *["NOT NULL"] * (not one.nullable), *quoted, *["PRIMARY KEY"] * key])


def make(path: Path, name: str, columns: Mapping[str, str], rows: Sequence[Sequence[Any]] = ()) -> str:
    """A new table with columns as SQL declares them, and its address."""
    made = {one: column(one, text) for one, text in columns.items()}
    key = tuple(one for one, text in columns.items() if "PRIMARY KEY" in text.upper())
    shape = TableShape(name, tuple(one for one, _ in made.values()), key)
    table = Table(shape, {one.name: value for one, value in made.values() if value is not None})
    for number, row in enumerate(rows):
        values = dict(zip(columns, row, strict=False))
        table.records[number] = {
            one.name: _value(values.get(one.name, table.defaults.get(one.name)), one) for one in shape.columns
        }
    DATABASES.setdefault(path.resolve(), {})[name] = table
    return f"{path}#{name}"


def rows(address: str) -> list[tuple[Any, ...]]:
    """What a table holds."""
    path, _, name = address.partition("#")
    return DATABASES[Path(path).resolve()][name].rows


def typed(texts: pa.Array, kind: Any) -> pa.Array:
    """Exact texts as values of a type."""
    return texts if kind.kind is Kind.TEXT else cast_cells([texts], kind, len(texts)).values


def _value(value: Any, one: TargetColumn) -> Any:
    """A plain value as the column holds it."""
    return None if value is None else typed(pa.array([text_of(value)], pa.string()), one.type)[0].as_py()


def text_of(value: Any) -> str | None:
    """The exact text of a value."""
    if isinstance(value, date | time | datetime):
        return value.isoformat(" ") if isinstance(value, datetime) else value.isoformat()
    if isinstance(value, bool):
        return str(value).lower()
    return None if value is None else f"{value:f}" if isinstance(value, Decimal) else str(value)


class MemoryTarget:
    """One table of a database in memory; entering takes a copy, which the commit puts in its place."""

    marks_text = False
    keeps_places = True

    def __init__(self, address: Address, *, write: bool, create: bool = False) -> None:
        self._path, self._name = address.path.resolve(), address.fragment
        self._address, self._write, self._create = address, write, create
        self._staged: dict[int, int] = {}
        self._gone = False

    def __enter__(self) -> Self:
        tables = DATABASES.get(self._path, {})
        if self._name is None and len(tables) == 1:
            (self._name,) = tables
        if self._create:
            self._table = Table(TableShape(self._name or "", ()))
        elif self._name not in tables:
            raise NoSuchTable(f"There is no table {self._name} in {self._path}.", table=self._name or "")
        else:
            self._table = tables[self._name]
        self._shape, self._version = self._table.shape, self._table.version
        self._records = {number: dict(record) for number, record in self._table.records.items()}
        self._defaults = dict(self._table.defaults)
        self._next = max(self._records, default=-1) + 1
        return self

    def __exit__(self, *_: object) -> None:
        """What was not committed is gone."""

    @property
    def address(self) -> str:
        return str(replace(self._address, fragment=self._name))

    def describe(self) -> TableShape:
        return self._shape

    @property
    def about_how_many(self) -> int:
        return len(self._records)

    def count(self) -> int:
        return len(self._records)

    def _values(self, columns: Sequence[TargetColumn], numbers: Sequence[int]) -> pa.Table:
        """Columns of some records, typed, or as exact text."""
        found = {}
        for one in columns:
            values = [self._records[number].get(one.name) for number in numbers]
            found[one.name] = pa.array(map(text_of, values) if one.type.as_stored else values, one.type.arrow)
        return pa.table(found)

    def _existing(self, columns: Sequence[TargetColumn], numbers: Sequence[int], *, complete: bool) -> Existing:
        places = pa.table({_ROW: pa.array(numbers, pa.int64())})
        return Existing(self._values(columns, numbers), places, complete=complete)

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        return self._values(columns, [*self._records])

    def distinct(self, columns: Sequence[TargetColumn]) -> pa.Table:
        return self.read(columns).group_by([one.name for one in columns]).aggregate([])

    def read_in_batches(
        self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], terms: Sequence[Term] = ()
    ) -> Iterator[Existing]:
        yield self._existing(columns, [*self._records], complete=True)

    def worth_reading(self, incoming: int) -> bool:
        return incoming * 2 > len(self._records)

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        wanted = {tuple(row.values()) for row in keys.to_pylist()}
        own = zip(self._records, self._values(key, [*self._records]).to_pylist(), strict=True)
        return self._existing(columns, [number for number, row in own if tuple(row.values()) in wanted], complete=False)

    def nothing(self, columns: Sequence[TargetColumn]) -> Existing:
        return self._existing(columns, [], complete=False)

    def break_off(self) -> None:
        """Nothing goes on elsewhere."""

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> list[Refusal]:
        numbers = np.array(existing.places[_ROW].to_pylist(), np.int64)
        for part in (changes.updates, changes.removals):
            self._staged.update(zip(part.positions.tolist(), numbers[part.records].tolist(), strict=True))
        return []

    def unstage(self, positions: Sequence[int]) -> None:
        """What is written is in the change set."""

    def write(self, changes: ChangeSet) -> Written:
        updates, inserts, removals = changes.updates, changes.inserts, changes.removals
        for name in updates.columns:
            after = self._typed(name, updates.after[name])
            for at in np.flatnonzero(updates.changed[name]):
                self._records[self._staged[int(updates.positions[at])]][name] = after[at]
        fresh = {name: self._typed(name, inserts.after[name]) for name in inserts.after.column_names}
        for at, position in enumerate(inserts.positions.tolist()):
            given = {
                name: values[at] for name, values in fresh.items() if inserts.given.get(name, [True] * (at + 1))[at]
            }
            names = (one.name for one in self._shape.columns)
            self._records[self._next] = {name: given.get(name, self._defaults.get(name)) for name in names}
            self._staged[position] = self._next
            self._next += 1
        for number in self._numbers(removals.positions):
            del self._records[number]
        return Written(len(updates), len(inserts), len(removals))

    def _typed(self, name: str, values: pa.ChunkedArray) -> list[Any]:
        """Plain values of a column, from typed ones or from exact text."""
        kind = self._shape.column(name).type
        held = values.combine_chunks()
        return (typed(held, kind) if held.type != kind.arrow else held).to_pylist()

    def _numbers(self, positions: np.ndarray) -> list[int]:
        return [self._staged[position] for position in positions.tolist()]

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        return self._values(pairing.columns, self._written(changes))

    def _written(self, changes: ChangeSet) -> list[int]:
        return self._numbers(np.r_[changes.updates.positions, changes.inserts.positions])

    def remaining(self, changes: ChangeSet) -> int:
        return sum(number in self._records for number in self._numbers(changes.removals.positions))

    def commit(self) -> tuple[str, ...]:
        tables = DATABASES.setdefault(self._path, {})
        if not self._create and tables[self._name].version != self._version:
            raise TargetChanged(f"Another program changed {self.address} meanwhile.")
        tables[self._name] = Table(self._shape, self._defaults, self._records, self._version + 1)
        if self._gone:
            del tables[self._name]
        return ()

    def as_stored(self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool = False) -> pa.Table:
        numbers = self._written(changes) if written else self._numbers(changes.updates.positions)
        return self._values([one.as_stored() for one in columns], numbers)

    def leaving(self, changes: ChangeSet, columns: Sequence[TargetColumn]) -> pa.Table:
        return self._values([one.as_stored() for one in columns], self._numbers(changes.removals.positions))

    def readable(self, texts: pa.Table) -> pa.Table:
        return texts

    def exact(self, texts: pa.Table) -> pa.Table:
        return texts

    def create(self, columns: Sequence[NewColumn], key: Sequence[str]) -> TableShape:
        self._shape = TableShape(self._name, (), tuple(key))
        return self.add(columns)

    def abolish(self) -> None:
        self._gone = True

    def add(self, columns: Sequence[NewColumn]) -> TableShape:
        new = [column(one.name, one.definition.full if one.definition else one.type) for one in columns]
        self._defaults |= {one.name: value for one, value in new if value is not None}
        made = tuple(
            replace(one, nullable=not (given.required or one.name in self._shape.primary_key))
            for (one, _), given in zip(new, columns, strict=True)
        )
        self._shape = replace(self._shape, columns=(*self._shape.columns, *made))
        return self._shape

    def complete(self, columns: Sequence[NewColumn]) -> tuple[str, ...]:
        return ()

    def depending(self, names: Sequence[str]) -> list[str]:
        return (
            [f"the primary key {' + '.join(self._shape.primary_key)}"]
            if set(names) & {*self._shape.primary_key}
            else []
        )

    def definitions(self, names: Sequence[str]) -> list[NewColumn]:
        columns = [self._shape.column(name) for name in names]
        made = [Definition(one.type.declared, self.declared(one), not one.nullable) for one in columns]
        return [NewColumn(one.name, one.type.declared, definition=how) for one, how in zip(columns, made, strict=True)]

    def declared(self, one: TargetColumn) -> str:
        return declaration(one, self._defaults.get(one.name), key=one.name in self._shape.primary_key)

    def drop(self, names: Sequence[str], *, alone: bool) -> None:
        self._shape = replace(self._shape, columns=tuple(c for c in self._shape.columns if c.name not in names))
        for record in self._records.values():
            for name in names:
                record.pop(name, None)

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        found = DATABASES[self._path].items()
        return tuple((name, len(table.records), len(table.shape.columns)) for name, table in found)

    def sibling(self, table: str) -> tuple[TableShape, pa.Table]:
        with MemoryTarget(replace(self._address, fragment=table), write=False) as other:
            return other.describe(), other.read(other.describe().columns)

    def beside(self, table: str, *, create: bool = False, types: Mapping[str, str] | None = None) -> "MemoryTarget":
        return MemoryTarget(replace(self._address, fragment=table), write=self._write, create=create).__enter__()


_of_file = tidymerge.targets._of_file  # noqa: SLF001 - the place where a kind of file finds its target


def _with_memory(text: str, address: Address, types: Mapping[str, str], *, write: bool, create: bool) -> Any:
    if address.path.suffix == ENDING:
        return MemoryTarget(address, write=write, create=create)
    return _of_file(text, address, types, write=write, create=create)


tidymerge.targets._of_file = _with_memory  # noqa: SLF001
