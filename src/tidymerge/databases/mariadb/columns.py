"""Between MariaDB's text forms and typed columns, both ways."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.databases.contract.database import Read, quoted
from tidymerge.databases.mariadb.packets import columns_of
from tidymerge.model import Indices, Kind, Mask, TargetColumn

_SINGLE = 24


def expression(column: TargetColumn) -> str:
    """The SQL that reads a column of `t`.

    A FLOAT is shown with six digits only, so it is read as the double it is. What is neither text nor of a
    type that we know is read as hexadecimal digits.
    """
    name = f"t.{quoted(column.name)}"
    if column.type.as_stored:
        text = f"hex({name})" if is_bytes(column) else f"{name} + 0e0" if column.type.kind is Kind.FLOAT else name
        return f"{text} AS {quoted(column.name)}"
    if column.type.kind is Kind.FLOAT and column.type.precision == _SINGLE:
        return f"{name} + 0e0 AS {quoted(column.name)}"
    if column.foreign and is_bytes(column):
        return f"hex({name}) AS {quoted(column.name)}"
    return name


def is_bytes(column: TargetColumn) -> bool:
    """Whether a column's values are shown and written as hexadecimal digits: bytes, and types unknown to us."""
    return column.type.kind is Kind.BINARY or (
        column.foreign and not column.type.declared.startswith(("set(", "inet", "interval"))
    )


def parsed(data: np.ndarray, starts: Indices, columns: Sequence[TargetColumn]) -> Read:
    """Rows from the wire as typed columns; and which values are not of their type."""
    typed, unreadable = {}, {}
    for array, column in zip(columns_of(data, starts, len(columns)), columns, strict=True):
        typed[column.name] = _typed(array, column)
        lost: Mask = valid(array) & ~valid(typed[column.name])
        if lost.any():
            unreadable[column.name] = lost
    return Read(pa.table(typed), pa.table({}), unreadable)


def _text(array: pa.Array) -> pa.Array:
    return pa.Array.from_buffers(pa.string(), len(array), array.buffers(), array.null_count)


def _typed(array: pa.Array, column: TargetColumn) -> pa.Array:
    if column.type.kind is Kind.BINARY and not column.type.as_stored:
        return array
    text = _text(array)
    if column.type.kind is Kind.TEXT or column.type.as_stored:
        return text
    if column.type.kind is Kind.TIMESTAMP and column.type.zone:
        text = pc.binary_join_element_wise(text, "Z", "")
    return cast_cells([text] if text.null_count < len(text) else [], column.type, len(text)).values


def to_stored(values: pa.Array, column: TargetColumn) -> pa.Array:
    """Typed values as the text that LOAD DATA reads; bytes as hexadecimal digits."""
    if pa.types.is_string(values.type):  # also a place that was read as exact text
        return values
    match column.type.kind:
        case Kind.BINARY:
            return pa.array([None if value is None else value.hex() for value in values.to_pylist()], pa.string())
        case Kind.BOOLEAN:
            return pc.cast(pc.cast(values, pa.int8()), pa.string())
        case Kind.TIMESTAMP:
            return pc.cast(pc.cast(values, pa.timestamp("us")), pa.string())
        case _:
            return pc.cast(values, pa.string())
