"""Between PostgreSQL's text forms and typed columns, both ways."""

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as arrow_csv

from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.databases.contract.database import Read, quoted
from tidymerge.model import Kind, TargetColumn

# Kinds that Arrow's CSV reader turns into the type by itself, exactly as the server means them.
_PARSED = (Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.BOOLEAN, Kind.DATE, Kind.TIME, Kind.TIMESTAMP)
_SINGLE = 24


def expression(column: TargetColumn) -> str:
    """The SQL that reads a column of `t`."""
    name = f"t.{quoted(column.name)}"
    if column.type.as_stored:  # the session's settings make this text exact
        return f"{name}::text AS {quoted(column.name)}"
    if column.type.kind is Kind.TIMESTAMP and column.type.zone:
        return f"{name} AT TIME ZONE 'UTC' AS {quoted(column.name)}"
    return name


def parse_csv(data: bytes, columns: Sequence[TargetColumn]) -> Read:
    """Rows of COPY's CSV as typed columns; and which values are not of their type."""
    names = [f"column {index}" for index in range(len(columns))]
    types = dict.fromkeys(names, pa.string())
    exact = {
        name: _naive(column)
        for name, column in zip(names, columns, strict=True)
        if column.type.kind in _PARSED and not column.type.as_stored
    }
    try:
        table = _read(data, names, types | exact)
    except pa.ArrowInvalid:  # such as infinity, which is no date to us
        table = _read(data, names, types, whole=True)
    typed, unreadable = {}, {}
    for name, column in zip(names, columns, strict=True):
        stored = as_array(table[name])
        typed[column.name] = _typed(stored, column)
        lost = valid(stored) & ~valid(typed[column.name])
        if lost.any():
            unreadable[column.name] = lost
    return Read(pa.table(typed), pa.table({}), unreadable)


def _read(data: bytes, names: Sequence[str], types: dict[str, pa.DataType], *, whole: bool = False) -> pa.Table:
    return arrow_csv.read_csv(
        pa.py_buffer(data),
        arrow_csv.ReadOptions(column_names=list(names), block_size=len(data) + 1 if whole else 4 << 20),
        arrow_csv.ParseOptions(newlines_in_values=b'"' in data, ignore_empty_lines=False),
        arrow_csv.ConvertOptions(
            column_types=types,
            null_values=[""],
            true_values=["t"],
            false_values=["f"],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
        ),
    )


def _naive(column: TargetColumn) -> pa.DataType:
    return pa.timestamp("us") if column.type.kind is Kind.TIMESTAMP else column.type.arrow


def _typed(stored: pa.Array, column: TargetColumn) -> pa.Array:
    kind = column.type.kind
    if column.type.as_stored:
        return stored
    if kind is Kind.TEXT:
        return pc.ascii_rtrim(stored, " ") if column.type.declared.startswith("character(") else stored
    if pa.types.is_timestamp(stored.type):
        return pc.cast(stored, column.type.arrow) if not column.type.zone else pc.assume_timezone(stored, "UTC")
    if kind is Kind.FLOAT and column.type.precision == _SINGLE and pa.types.is_floating(stored.type):
        return pc.cast(pc.cast(stored, pa.float32()), pa.float64())
    if not pa.types.is_string(stored.type) or kind is Kind.UUID:
        return stored
    if kind is Kind.TIMESTAMP and column.type.zone:
        stored = pc.binary_join_element_wise(stored, "Z", "")
    return cast_cells([stored] if stored.null_count < len(stored) else [], column.type, len(stored)).values


def to_stored(values: pa.Array, _column: TargetColumn) -> pa.Array:
    """Typed values as the text that COPY reads."""
    if pa.types.is_binary(values.type):  # not a place that was read as exact text
        return pa.array([None if value is None else "\\x" + value.hex() for value in values.to_pylist()], pa.string())
    return pc.cast(values, pa.string())
