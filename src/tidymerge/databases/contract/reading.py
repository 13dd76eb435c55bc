"""Records that arrive in several pieces, with the columns that locate them read only once."""

from collections.abc import Callable, Sequence
from concurrent.futures import Future

import numpy as np
import pyarrow as pa

from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.database import NUMBER, Query, Read, place_name
from tidymerge.model import Indices, TargetColumn


def joined(pieces: list[Future[Read]], otherwise: Read) -> Read:
    """The records of all pieces, one after another, or `otherwise` if there are none.

    The list is emptied, and a column's pieces go once it is whole: nothing large is held twice.
    """
    parts = []
    while pieces:
        parts.append(pieces.pop(0).result())
    if len(parts) <= 1:
        return parts[0] if parts else otherwise
    names = {name for part in parts for name in part.unreadable}
    unreadable = {
        name: np.concatenate([part.unreadable.get(name, np.zeros(part.values.num_rows, bool)) for part in parts])
        for name in names
    }
    tables = [part.values for part in parts]
    columns = {
        name: [chunk for table in tables for chunk in table[name].chunks] for name in otherwise.values.column_names
    }
    del parts, tables
    return Read(
        pa.table({name: pa.concat_arrays(columns.pop(name)) for name in list(columns)}), pa.table({}), unreadable
    )


def numbers(read: Callable[[Sequence[TargetColumn], Query], Read], query: str) -> Indices:
    """The result of a query of one column of whole numbers, by a database's `read`."""
    found = read([NUMBER], lambda _: query)
    positions: Indices = np.asarray(as_array(found.values[NUMBER.name]).to_numpy(), np.int64)
    return positions


def nothing(columns: Sequence[TargetColumn]) -> Read:
    """No records."""
    return Read(pa.table({column.name: pa.nulls(0, column.type.arrow) for column in columns}), pa.table({}))


def with_places(columns: Sequence[TargetColumn], places: Sequence[TargetColumn]) -> list[TargetColumn]:
    """The columns to read: those asked for, and those that locate a record if they are not among them."""
    names = {column.name for column in columns}
    return [*columns, *(place for place in places if place.name not in names)]


def separated(found: Read, columns: Sequence[TargetColumn], places: Sequence[TargetColumn]) -> Read:
    """What was read by `with_places`, as the columns asked for and the places."""
    names = [column.name for column in columns]
    unreadable = {name: mask for name, mask in found.unreadable.items() if name in names}
    located = found.values.select([place.name for place in places]).rename_columns(
        [place_name(index) for index in range(len(places))]
    )
    return Read(found.values.select(names), located, unreadable)
