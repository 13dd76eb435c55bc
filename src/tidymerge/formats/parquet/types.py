"""What the columns of a Parquet file mean, and their values as exact text."""

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.formats.records import simplified
from tidymerge.model import ColumnType, Kind, TargetColumn

_DIGITS = {"s": 0, "ms": 3, "us": 6, "ns": 6}  # after the seconds; of nanoseconds the last three are out of our reach
_SINGLE, _DOUBLE = 24, 53  # bits of a float's fraction (IEEE 754)


def column_of(field: pa.Field) -> TargetColumn:
    """The column; rows can't bring values for one of a nested type, or of one that few programs know."""
    plain = field.type.value_type if pa.types.is_dictionary(field.type) else field.type
    found = _type_of(plain, str(field.type))
    if found is None:
        unknown = ColumnType(Kind.TEXT, str(field.type))
        return TargetColumn(field.name, unknown, nullable=field.nullable, foreign=True)
    return TargetColumn(field.name, found, nullable=field.nullable)


def _type_of(found: pa.DataType, declared: str) -> ColumnType | None:
    kinds = pa.types
    if kinds.is_uint64(found):
        return ColumnType(Kind.DECIMAL, declared, precision=20, scale=0, minimum=0, maximum=2**64 - 1, bounded=True)
    if kinds.is_integer(found):
        low = 0 if kinds.is_unsigned_integer(found) else -(2 ** (found.bit_width - 1))
        return ColumnType(Kind.INTEGER, declared, minimum=low, maximum=low + 2**found.bit_width - 1)
    if kinds.is_float32(found) or kinds.is_float64(found):
        return ColumnType(Kind.FLOAT, declared, precision=_SINGLE if kinds.is_float32(found) else _DOUBLE)
    if kinds.is_decimal128(found):
        return ColumnType(Kind.DECIMAL, declared, precision=found.precision, scale=found.scale)
    if kinds.is_timestamp(found):
        return ColumnType(Kind.TIMESTAMP, declared, scale=_DIGITS[found.unit], zone=found.tz is not None)
    if kinds.is_time(found):
        return ColumnType(Kind.TIME, declared, scale=_DIGITS[found.unit])
    if kinds.is_fixed_size_binary(found):
        return None
    for test, kind in (
        (kinds.is_string, Kind.TEXT),
        (kinds.is_large_string, Kind.TEXT),
        (kinds.is_string_view, Kind.TEXT),
        (kinds.is_boolean, Kind.BOOLEAN),
        (kinds.is_date, Kind.DATE),
        (kinds.is_binary, Kind.BINARY),
        (kinds.is_large_binary, Kind.BINARY),
    ):
        if test(found):
            return ColumnType(kind, declared)
    return None


def typed(values: pa.Array, column: TargetColumn) -> pa.Array:
    """Stored values in the type that the core holds them in, or as exact text."""
    if column.type.as_stored or column.foreign:
        return exact(values)
    if pa.types.is_dictionary(values.type):
        values = values.dictionary_decode()
    return pc.cast(values, column.type.arrow, safe=False)


def exact(values: pa.Array) -> pa.Array:
    """Stored values as text, of which `stored` makes the very same values again."""
    kind = values.type
    if pa.types.is_dictionary(kind):
        return exact(values.dictionary_decode())
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return pa.array([None if value is None else value.hex() for value in values.to_pylist()], pa.string())
    if pa.types.is_timestamp(kind):
        values = pc.cast(values, pa.timestamp(kind.unit))  # the same instant, in UTC
    if pa.types.is_nested(kind) or pa.types.is_null(kind):
        values = simplified(values)
    return pc.cast(values, pa.string())


def stored(texts: pa.Array, kind: pa.DataType) -> pa.Array:
    """The values that exact texts stand for, in the file's own type."""
    if pa.types.is_dictionary(kind):
        return pc.cast(stored(texts, kind.value_type).dictionary_encode(), kind)
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return pa.array([None if text is None else bytes.fromhex(text) for text in texts.to_pylist()], kind)
    if pa.types.is_timestamp(kind):
        return pc.cast(pc.cast(texts, pa.timestamp(kind.unit)), kind)
    if texts.null_count == len(texts):
        return pa.nulls(len(texts), kind)
    if pa.types.is_time(kind):  # a time of day can't be read from text, but from that of a moment
        unit = "us" if pa.types.is_time32(kind) else kind.unit
        return pc.cast(pc.cast(pc.binary_join_element_wise("1970-01-01", texts, " "), pa.timestamp(unit)), kind)
    if pa.types.is_date64(kind):
        return pc.cast(pc.cast(texts, pa.date32()), kind)
    return pc.cast(texts, kind)


def in_file(values: pa.Array, kind: pa.DataType) -> pa.Array:
    """Typed values, in bounds, in the file's own type."""
    plain = kind.value_type if pa.types.is_dictionary(kind) else kind
    return pc.cast(values, plain, safe=False)
