"""Tables that refer to each other: which comes first, and what has to wait where they do so in a circle."""

from collections.abc import Collection, Mapping, Sequence
from types import MappingProxyType

from msgspec import Struct

from tidymerge.errors import BadOption
from tidymerge.model import ForeignKey, TableShape

_Wanted = Mapping[str, Mapping[str, ForeignKey | None]]
_NOTHING: Mapping[str, Collection[str]] = MappingProxyType({})


class Family(Struct, frozen=True):
    """Tables by name, parents before their children; `loose` columns refer to tables that come later.

    A loose column is empty until those are written, and is emptied before records of theirs go.
    """

    order: tuple[str, ...]
    loose: Mapping[str, tuple[str, ...]]


def family(
    shapes: Sequence[TableShape], keys: Mapping[str, Sequence[str]], after: Mapping[str, Collection[str]] = _NOTHING
) -> Family:
    """The order of tables: as given, but for what their foreign keys say. `keys` are the columns that find a record.

    A table comes `after` others that it looks up in, too.

    Raises BadOption where tables refer to each other in a circle by columns of which none can be empty.
    """
    left = {shape.name: shape for shape in shapes}
    order: list[str] = []
    loose: dict[str, tuple[str, ...]] = {}
    while left:
        wanted = {name: _parents(shape, left, loose.get(name, ()), after.get(name, ())) for name, shape in left.items()}
        free = next((name for name in left if not wanted[name]), None)
        if free is None:
            name, column = _loosened(left, wanted, keys)
            loose[name] = (*loose.get(name, ()), column)
        else:
            order.append(free)
            left.pop(free)
    return Family(tuple(order), loose)


def can_be_empty(shape: TableShape, key: ForeignKey, found_by: Sequence[str] = ()) -> str | None:
    """A column of a foreign key that may be empty for a while: then the record refers to nothing."""
    fixed = {*shape.primary_key, *found_by, *(name for check in shape.checks for name in check.columns)}
    fixed |= {name for one in shape.foreign_keys if one.table == shape.name for name in one.referred}
    return next((name for name in key.columns if shape.column(name).nullable and name not in fixed), None)


def _parents(
    shape: TableShape, left: Mapping[str, TableShape], loose: Sequence[str], after: Collection[str]
) -> dict[str, ForeignKey | None]:
    """The tables not in order yet to which this one refers by a foreign key that is not loose, or in which it looks."""
    keys = {key.table: key for key in shape.foreign_keys if not set(key.columns) & set(loose)}
    both: dict[str, ForeignKey | None] = {**dict.fromkeys(after), **keys}
    return {name: key for name, key in both.items() if name in left and name != shape.name}


def _loosened(left: Mapping[str, TableShape], wanted: _Wanted, keys: Mapping[str, Sequence[str]]) -> tuple[str, str]:
    """A table and its column which break a circle. Raises BadOption."""
    for name, parents in wanted.items():
        for parent, key in parents.items():
            if key is not None and name in _ancestors(parent, wanted):
                column = can_be_empty(left[name], key, keys.get(name, ()))
                if column is not None:
                    return name, column
    circle = sorted(name for name in left if name in _ancestors(name, wanted))
    listed = f"{', '.join(circle[:-1])} and {circle[-1]}"
    raise BadOption(
        f"{listed} refer to each other in a circle, by columns that may never be empty or by look-ups, so none of "
        "them can come or go first."
    )


def _ancestors(name: str, wanted: _Wanted) -> set[str]:
    """The tables to which one refers, and those to which they do."""
    found: set[str] = set()
    waiting = [name]
    while waiting:
        fresh = set(wanted[waiting.pop()]) - found
        found |= fresh
        waiting += fresh
    return found
