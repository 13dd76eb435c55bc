"""Which incoming column may feed a target column that is called otherwise: by words of the name, or by the values."""

import re
from collections.abc import Iterable, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.match.match import code_keys, match
from tidymerge.core.naming.mapping import fold
from tidymerge.core.tidy.cells import as_array, differs, valid
from tidymerge.core.tidy.convert import cast_cells, tidy_arrays
from tidymerge.model import Incoming, Indices, Kind, TableShape, TargetColumn

_LOOKED_AT = 5_000  # rows
_MOSTLY = 0.5  # the share of values that must fit
_NEARLY_ALL = 0.9  # the share of dates that tells a column of dates
_SEVERAL = 2  # different values, so that they are no accident
_DATES = (Kind.DATE, Kind.TIMESTAMP)


class Fit(Struct, frozen=True):
    """An incoming column that may feed a target column, and what speaks for it, as a question."""

    source: str
    why: str


def fits(incoming: Incoming, shape: TableShape, existing: pa.Table) -> dict[str, Fit]:
    """The target columns that no incoming column is called like, with one that may feed each.

    Only what a single column fits is proposed, and only where its values can be of the column's type. `existing` has
    the records of the target, some columns of it at least.
    """
    return _Search(incoming, shape, existing).found


class _Search:
    """The incoming and the target columns that have no partner yet."""

    def __init__(self, incoming: Incoming, shape: TableShape, existing: pa.Table) -> None:
        rows = len(incoming.row_numbers)
        self._rows = incoming if rows <= _LOOKED_AT else incoming.only(np.arange(_LOOKED_AT))
        self._shape, self._existing = shape, existing
        self._typed: dict[tuple[str, str], pa.Array] = {}
        called = {fold(one.called or one.name): one.name for one in incoming.columns}
        named = {one.name: called[fold(one.name)] for one in shape.columns if one.loadable and fold(one.name) in called}
        self._fed = dict(named)
        self.found: dict[str, Fit] = {}
        self._by_words()
        self._by_key()
        self._by_records()
        self._by_dates()

    def _columns(self) -> list[TargetColumn]:
        return [one for one in self._shape.columns if one.loadable and one.name not in self._fed]

    def _sources(self) -> list[str]:
        used = {fold(name) for name in self._fed.values()}
        own = {fold(column.name) for column in self._shape.columns}
        free = [one for one in self._rows.columns if fold(one.name) not in used]
        return [one.name for one in free if fold(one.called or one.name) not in own]

    def _take(self, column: str, source: str, why: str) -> None:
        self._fed[column] = source
        self.found[column] = Fit(source, why)

    def _values(self, source: str, column: TargetColumn) -> pa.Array:
        """The cells of an incoming column, as values of a target column."""
        if (source, column.name) not in self._typed:
            arrays = tidy_arrays(self._rows.column(source).arrays)
            self._typed[source, column.name] = cast_cells(arrays, column.type, len(self._rows.row_numbers)).values
        return self._typed[source, column.name]

    def _share(self, source: str, column: TargetColumn) -> float:
        """Which share of the cells can be of the column's type."""
        arrays = tidy_arrays(self._rows.column(source).arrays)
        filled = int(np.logical_or.reduce([valid(array) for array in arrays]).sum()) if arrays else 0
        return float(valid(self._values(source, column)).sum()) / filled if filled else 0.0

    def _only(self, pairs: Iterable[tuple[str, str, str]]) -> None:
        """Take the pairs of a target and an incoming column of which neither has another partner."""
        found = list(pairs)
        for column, source, why in found:
            if sum(other == column for other, _, _ in found) == sum(other == source for _, other, _ in found) == 1:
                self._take(column, source, why)

    def _by_words(self) -> None:
        self._only(
            (column.name, source, f"{source} is called nearly like {column.name}. Is it meant?")
            for column in self._columns()
            for source in self._sources()
            if _alike(source, column.name, self._shape.name) and self._share(source, column) >= _MOSTLY
        )

    def _by_key(self) -> None:
        """Columns whose values are those of a column by which records are told apart."""
        declared = [names for names in (self._shape.primary_key, *self._shape.unique) if names]
        single = {names[0] for names in declared if len(names) == 1} if declared else self._different()
        referring = {name for key in self._shape.foreign_keys for name in key.columns}
        self._only(
            (column.name, source, f"{source} holds values of {column.name}. Is it meant?")
            for column in self._columns()
            if column.name in single - referring and column.type.kind is Kind.TEXT  # numbers fit by accident
            if column.name in self._existing.column_names
            for source in self._sources()
            if _held(self._values(source, column), as_array(self._existing[column.name])) >= _MOSTLY
        )

    def _different(self) -> set[str]:
        """The columns of which no two records have the same value, where the target declares no key."""
        held = ((name, as_array(self._existing[name])) for name in self._existing.column_names)
        return {name for name, values in held if not values.null_count and len(values.unique()) == len(values)}

    def _by_records(self) -> None:
        """Columns that mostly say of records what these hold."""
        records = self._records()
        if records is None:
            return
        rows = np.flatnonzero(records >= 0)
        self._only(
            (column.name, source, f"{source} mostly says what {column.name} holds. Is it meant?")
            for column in self._columns()
            if column.name in self._existing.column_names
            for source in self._sources()
            if _agree(
                self._values(source, column).take(pa.array(rows)),
                as_array(self._existing[column.name]).take(pa.array(records[rows])),
            )
        )

    def _records(self) -> Indices | None:
        """For each row the record of its key, -1 for none; nothing where no key is fed."""
        known = {*self._fed} & {*self._existing.column_names}
        for names in (self._shape.primary_key, *self._shape.unique):
            if names and set(names) <= known:
                key = [self._shape.column(name) for name in names]
                values = pa.table({column.name: self._values(self._fed[column.name], column) for column in key})
                records = match(code_keys(values, self._existing.select(list(names)), key, _as_they_are)).record
                return records if (records >= 0).sum() >= _SEVERAL else None
        return None

    def _by_dates(self) -> None:
        """The only column of dates that is left on both sides, where new records need one."""
        needed = {name for names in (self._shape.primary_key, *self._shape.unique) for name in names}
        needed |= {one.name for one in self._shape.columns if not one.nullable and not one.has_default}
        columns = [one for one in self._columns() if one.type.kind in _DATES and one.name in needed]
        if len(columns) == 1:
            dated = [source for source in self._sources() if self._share(source, columns[0]) >= _NEARLY_ALL]
            self._only(
                (columns[0].name, source, f"{source} and {columns[0].name} are the only dates left. Is it meant?")
                for source in dated
            )


def _as_they_are(_: TargetColumn, texts: pa.Array) -> pa.Array:
    """Numbers for distinct texts: no two are equal, whatever the database says."""
    return pa.array(np.arange(len(texts)))


def _held(values: pa.Array, known: pa.Array) -> float:
    """Which share of the different values is known; 0 for a single one."""
    different = values.drop_null().unique()
    found = pc.sum(pc.is_in(different, value_set=known.drop_null())).as_py() or 0
    return found / len(different) if found >= _SEVERAL else 0.0


def _agree(values: pa.Array, known: pa.Array) -> bool:
    """Whether most of the values are equal to the known ones, and not all of them are the same."""
    both = valid(values) & valid(known)
    same = both & ~differs(values, known)
    return same.sum() > both.sum() * _MOSTLY and len(values.filter(pa.array(same)).unique()) >= _SEVERAL


def _alike(source: str, column: str, table: str) -> bool:
    """Whether one name begins with all words of the other; words for the table's records may be left out."""
    one, other, own = _words(source), _words(column), _words(table)
    dropped = [word for word in own[-1:] for word in (word, word.removesuffix("s"), word.removesuffix("es"))]
    pairs = [(one, other), ([word for word in one if word not in dropped], other)]
    return any(_begins(some, others) or _begins(others, some) for some, others in pairs)


def _begins(some: Sequence[str], others: Sequence[str]) -> bool:
    return bool(some) and list(others[: len(some)]) == list(some)


def _words(name: str) -> list[str]:
    """The words of a name, as in hive_no, HiveNo or 'Hive no.'."""
    parts = re.findall(r"[^\W_]+", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name))
    return [fold(part) for part in parts]
