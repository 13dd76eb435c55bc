"""Two sides that are compared: which columns they share, and of which type each is, so that both can be read alike."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import chain

import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.infer.told import TEXT, types_of_arrays, widest
from tidymerge.core.naming.mapping import pair_columns
from tidymerge.errors import NoSuchColumn
from tidymerge.model import ColumnType, Incoming, Kind, Pair, Pairing, TableShape, TargetColumn
from tidymerge.model.rules import ColumnRule

_NUMBERS = {Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT}
_SHEET_DIGITS = 15  # what a spreadsheet keeps of a number


class Side(Struct, frozen=True):
    """The rows of one side, and its columns as it declares them; None where only the data tell."""

    incoming: Incoming
    declared: TableShape | None = None

    @property
    def names(self) -> list[str]:
        """The names of the columns."""
        return [column.name for column in self.incoming.columns]

    def column(self, name: str) -> TargetColumn | None:
        """A column as it is declared, if it is."""
        known = () if self.declared is None else self.declared.columns
        return next((column for column in known if column.name == name), None)


class Both(Struct, frozen=True):
    """What both sides are read as: `shape` is named as the first is, and `first` and `second` say what feeds it.

    `judges` are the declared columns, by name, of which the database of the first side that has one says which texts
    are equal.
    """

    shape: TableShape
    first: Pairing
    second: Pairing
    judges: Mapping[str, TargetColumn]


def of_both(first: Side, second: Side, *, renames: Mapping[str, str], only: Sequence[str], key: Sequence[str]) -> Both:
    """The columns that two sides share, of types that hold the values of both.

    `renames` maps columns of the first to columns of the second; `only` limits those compared. Without a `key` it is
    the primary key of a side that declares one. Raises NoKey, NoSuchColumn and AmbiguousColumn.
    """
    name = first.incoming.address
    plain = TableShape(name, tuple(TargetColumn(one, TEXT) for one in first.names))
    alike = second.incoming.called
    pairing = pair_columns(second.names, plain, renames=renames, called=alike, append=True)
    if not pairing.pairs:
        raise NoSuchColumn(
            f"{name} and {second.incoming.address} have no column of the same name. Say which belong together.",
            column=None,
            give=((("columns", "FIRST=SECOND"),),),
        )
    shared = {pair.target.name: pair.rule.sources[0] for pair in pairing.pairs}
    plain = replace(plain, primary_key=_key(first, second, shared))
    pairing = pair_columns(second.names, plain, renames=renames, only=only, key=key, called=alike)
    judges = {column: judge for column, source in shared.items() if (judge := _judge(first, second, column, source))}
    columns = {column: _column(first, second, column, source, judges) for column, source in shared.items()}
    shape = replace(plain, columns=tuple(columns.get(one.name, one) for one in plain.columns))
    of_second = replace(pairing, pairs=tuple(replace(pair, target=columns[pair.target.name]) for pair in pairing.pairs))
    own = tuple(
        Pair(pair.target, pair.target.name, ColumnRule(sources=(pair.target.name,))) for pair in of_second.pairs
    )
    return Both(shape, replace(of_second, pairs=own), of_second, judges)


def _key(first: Side, second: Side, shared: Mapping[str, str]) -> tuple[str, ...]:
    """The primary key that one of the sides declares, in the names of the first."""
    if first.declared is not None and set(first.declared.primary_key) <= shared.keys():
        return first.declared.primary_key
    theirs = () if second.declared is None else second.declared.primary_key
    own = {source: column for column, source in shared.items()}
    return tuple(own[name] for name in theirs) if set(theirs) <= own.keys() else ()


def _judge(first: Side, second: Side, column: str, source: str) -> TargetColumn | None:
    """The declared column whose database says which texts are equal: of the first side, if it has one."""
    return second.column(source) if first.declared is None else first.column(column)


def _column(first: Side, second: Side, column: str, source: str, judges: Mapping[str, TargetColumn]) -> TargetColumn:
    """A column that holds what both sides have, with no rule of either but how texts are compared."""
    sides = ((first, column), (second, source))
    declared = [one.type for side, name in sides if (one := side.column(name)) is not None and not one.foreign]
    others = [side.incoming.column(name).arrays for side, name in sides if side.column(name) is None]
    floats = any(pa.types.is_floating(array.type) for array in chain.from_iterable(others))
    found = _type(declared, list(_told(others)), digits=_SHEET_DIGITS if floats else None)
    judge = judges.get(column)
    if judge is None or found.kind is not Kind.TEXT:
        return TargetColumn(column, found)
    return TargetColumn(column, found, fold=judge.fold, collation=judge.collation)


def _told(others: Sequence[Sequence[pa.Array]]) -> Iterator[ColumnType]:
    for arrays in others:
        yield from types_of_arrays(arrays)


def _type(declared: Sequence[ColumnType], told: Sequence[ColumnType], *, digits: int | None) -> ColumnType:
    """The type that holds the values of both sides; where a side declares one, what does not fit that is a flaw."""
    kinds = {found.kind for found in declared}
    if not declared:
        kinds = {found.kind for found in told}
        if not told:
            return TEXT
    if kinds <= _NUMBERS:
        kinds |= {found.kind for found in told} & _NUMBERS
        if Kind.FLOAT in kinds:
            return ColumnType(Kind.FLOAT, Kind.FLOAT.value)
        number = ColumnType(Kind.DECIMAL, "number", digits=digits)
        return ColumnType(Kind.INTEGER, Kind.INTEGER.value) if kinds == {Kind.INTEGER} else number
    if kinds == {Kind.DATE, Kind.TIMESTAMP}:
        kinds = {Kind.TIMESTAMP}
    if len(kinds) > 1:
        return TEXT
    zone, beyond = any(found.zone for found in declared), any(found.beyond_day for found in declared)
    (kind,) = kinds if declared else {widest(told).kind}
    return TEXT if kind is Kind.TEXT else ColumnType(kind, kind.value, zone=zone, beyond_day=beyond)
