"""Between a service's JSON and typed columns, both ways.

Long integers and decimals travel as texts (`IEEE754Compatible=true`, OData JSON 4.01, 4.1), other numbers as the very
literal: none goes through a float that could change it. Exact text is one spelling of each value, so that what is
written and what is read back can be compared.
"""

import base64
import binascii
import re
from collections.abc import Sequence
from typing import Any

import msgspec
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.model import Kind, Mask, TargetColumn

_AS_TEXT = ("Edm.Int64", "Edm.Decimal")
_ZONED = re.compile(r"(?:[zZ]|[+-]00:?00)$")
_DOUBLES = {"INF": "inf", "-INF": "-inf", "NaN": "nan"}


class Literal(str):
    """A number as it was written."""

    __slots__ = ()


_DECODER = msgspec.json.Decoder(float_hook=Literal)


def decoded(text: bytes) -> Any:
    """JSON, in which numbers with a point or an exponent stay as they are written. Raises msgspec.DecodeError."""
    return _DECODER.decode(text)


def table_of(rows: Sequence[dict[str, Any]], columns: Sequence[TargetColumn]) -> tuple[pa.Table, dict[str, Mask]]:
    """Records as columns, and by column those whose value is not of its type. A property left out is null."""
    found, unreadable = {}, {}
    for column in columns:
        cells = _cells([row.get(column.name) for row in rows])
        plain = _plainly(column)
        typed = _typed(cells, plain)
        if column.type.as_stored:
            found[column.name] = _exact(cells, typed, plain)
            continue
        found[column.name] = typed
        lost = valid(cells) & ~valid(typed)
        if lost.any():
            unreadable[column.name] = lost
    return pa.table(found) if found else pa.table({"": pa.nulls(len(rows))}).select([]), unreadable


def _plainly(column: TargetColumn) -> TargetColumn:
    """The column with its values typed."""
    return msgspec.structs.replace(column, type=msgspec.structs.replace(column.type, as_stored=False))


def _cells(values: list[Any]) -> pa.Array:
    """JSON values as an array of what they are; where they are mixed, or not as their type has them, as texts."""
    kinds = set(map(type, values)) - {type(None)}
    if kinds <= {str} or kinds == {Literal}:
        return pa.array(values, pa.string())
    if kinds == {bool}:
        return pa.array(values, pa.bool_())
    if kinds == {int}:
        try:
            return pa.array(values, pa.int64())
        except (OverflowError, pa.ArrowInvalid):
            pass
    return pa.array([None if value is None else _text(value) for value in values], pa.string())


def _text(value: Any) -> str:
    return value if isinstance(value, str) else msgspec.json.encode(value).decode()


def _typed(cells: pa.Array, column: TargetColumn) -> pa.Array:
    """Cells as their column means them; null where they are not of its type."""
    if cells.null_count == len(cells):
        return pa.nulls(len(cells), column.type.arrow)
    if column.foreign or column.type.kind is Kind.TEXT:
        if column.foreign or pa.types.is_string(cells.type):
            return pc.cast(cells, pa.string())
        return pa.nulls(len(cells), pa.string())  # a number where text belongs
    if column.type.kind is Kind.BINARY:
        return pa.array([_bytes(cell) for cell in cells.to_pylist()], pa.binary())
    if column.type.kind is Kind.FLOAT and pa.types.is_string(cells.type):
        cells = pa.array([_DOUBLES.get(cell, cell) for cell in cells.to_pylist()], pa.string())
    if pa.types.is_boolean(cells.type) and column.type.kind is not Kind.BOOLEAN:
        return pa.nulls(len(cells), column.type.arrow)
    return as_array(cast_cells([cells], column.type, len(cells)).values)


def _bytes(cell: Any) -> bytes | None:
    if not isinstance(cell, str):
        return None
    try:
        plain = cell.replace("+", "-").replace("/", "_").rstrip("=")
        return base64.urlsafe_b64decode(plain + "=" * (-len(plain) % 4))
    except (binascii.Error, ValueError):
        return None


def _exact(cells: pa.Array, typed: pa.Array, column: TargetColumn) -> pa.Array:
    """The one spelling of each value; what is not of its type, or of a time zone of its own, stays as it is written."""
    texts = exact(typed, column)
    raw = pc.cast(cells, pa.string())
    own = pc.is_null(texts)
    if column.type.kind is Kind.TIMESTAMP:
        own = pc.or_(own, pc.invert(pc.match_substring_regex(raw, _ZONED.pattern)))
    return pc.if_else(own, raw, texts)


def exact(values: pa.Array, column: TargetColumn) -> pa.Array:
    """Typed values as exact text."""
    if column.type.as_stored or column.foreign:
        return values
    match column.type.kind:
        case Kind.TEXT | Kind.UUID | Kind.JSON:
            return values
        case Kind.BINARY:
            return pa.array([None if cell is None else _base64(cell) for cell in values.to_pylist()], pa.string())
        case Kind.FLOAT:
            return pa.array([None if cell is None else _float(cell) for cell in values.to_pylist()], pa.string())
        case Kind.TIMESTAMP:
            texts = pc.cast(pc.cast(values, pa.timestamp("us")), pa.string())
            texts = pc.replace_substring_regex(pc.replace_substring(texts, " ", "T"), r"(\.\d*?)0+$", r"\1")
            return pc.binary_join_element_wise(pc.replace_substring_regex(texts, r"\.$", ""), "Z", "")
        case Kind.TIME:
            texts = pc.replace_substring_regex(pc.cast(values, pa.string()), r"(\.\d*?)0+$", r"\1")
            return pc.replace_substring_regex(texts, r"\.$", "")
    return pc.cast(values, pa.string())


def _base64(value: bytes) -> str:
    return base64.urlsafe_b64encode(value).decode().rstrip("=")


def _float(value: float) -> str:
    if value in (float("inf"), float("-inf")):
        return "INF" if value > 0 else "-INF"
    return "NaN" if value != value else repr(value)  # noqa: PLR0124 - so a NaN is known


def to_json(text: str | None, kind: str) -> Any:
    """Exact text as a value of its type in JSON."""
    if text is None or kind in _AS_TEXT:
        return text
    if kind == "Edm.Boolean":
        return {"true": True, "false": False}.get(text, text)
    if kind in ("Edm.Byte", "Edm.SByte", "Edm.Int16", "Edm.Int32"):
        return int(text) if re.fullmatch(r"-?[0-9]+", text) else text
    if kind in ("Edm.Double", "Edm.Single"):
        return text if text in _DOUBLES else msgspec.Raw(text.encode())
    if kind == "Edm.Binary":
        return text + "=" * (-len(text) % 4)
    return text
