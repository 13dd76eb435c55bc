"""Cells to text, truth values, UUIDs, JSON and binary."""

import re
import uuid

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import (
    BadCells,
    Cast,
    TextRule,
    Wrong,
    bad_cells,
    cast_text,
    keep,
    mask_of,
    valid,
    without,
)
from tidymerge.core.tidy.documents import one_document
from tidymerge.core.tidy.numbers import number_text, shown_number
from tidymerge.core.tidy.times import refuse
from tidymerge.model import ColumnType, Reason

_TRUE = frozenset({"true", "t", "yes", "y", "1"})
_FALSE = frozenset({"false", "f", "no", "n", "0"})
_TRUTH = "true or false (also yes/no, 1/0)"


def to_text(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast any cell to text as a person would type it, within the column's length in characters."""
    cast = _written_out(cells)
    texts, bad = cast.values, list(cast.bad)
    if to.numeric_text:
        bad += _stored_otherwise(texts, to)
    if to.length is not None:
        long = mask_of(pc.greater(pc.utf8_length(texts), to.length))
        if long.any():
            bad.append(BadCells(np.flatnonzero(long), Reason.TOO_LONG, f"at most {to.length} characters"))
    if to.octets is not None:
        bad += _too_many_bytes(texts, to)
    if to.allowed:
        strange = np.flatnonzero(valid(texts) & ~mask_of(pc.is_in(texts, pa.array(to.allowed))))
        if len(strange):
            bad.append(BadCells(strange, Reason.NOT_ALLOWED, f"one of {', '.join(to.allowed)}"))
    for cells_ in bad[len(cast.bad) :]:
        good = np.ones(len(texts), bool)
        good[cells_.rows] = False
        texts = keep(texts, good)
    return Cast(texts, tuple(bad))


def _stored_otherwise(texts: pa.Array, to: ColumnType) -> tuple[BadCells, ...]:
    """The texts that the database would store as other numbers than they are written."""
    risky = mask_of(pc.match_substring_regex(texts, r"^\s*[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?\s*$"))
    risky &= ~mask_of(pc.match_substring_regex(texts, r"^(0|-?[1-9]\d{0,14})(\.\d{0,3}[1-9])?$"))
    wanted = f"text that stays as it is: a column declared {to.declared} stores this as a number"
    return bad_cells(np.flatnonzero(risky), Reason.STORED_AS_NUMBER, wanted)


def _too_many_bytes(values: pa.Array, to: ColumnType) -> tuple[BadCells, ...]:
    long = np.flatnonzero(mask_of(pc.greater(pc.binary_length(values), to.octets)))
    return bad_cells(long, Reason.TOO_LONG, f"at most {to.octets:,} bytes, as {to.declared} holds")


def shown(cells: pa.Array) -> pa.Array:
    """Any cell as text for people."""
    return shown_number(cells) if pa.types.is_floating(cells.type) else _written_out(cells).values


def _written_out(cells: pa.Array) -> Cast:
    kind = cells.type
    if pa.types.is_string(kind):
        return Cast(cells)
    if pa.types.is_floating(kind) or pa.types.is_integer(kind) or pa.types.is_decimal(kind):
        return number_text(cells)
    if pa.types.is_binary(kind):
        return Cast(pa.array([None if value is None else value.hex() for value in cells.to_pylist()], pa.string()))
    if pa.types.is_timestamp(kind):
        text = pc.strftime(cells, "%Y-%m-%d %H:%M:%S")  # Arrow's %S carries the fraction
        return Cast(pc.replace_substring_regex(text, r"\.0+$", ""))
    return Cast(pc.replace_substring_regex(pc.cast(cells, pa.string()), r"\.0+$", ""))


def to_boolean(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast truth values, 0 and 1, or the usual English words for them."""
    if pa.types.is_boolean(cells.type):
        return Cast(cells)
    if pa.types.is_temporal(cells.type):
        return refuse(cells, to, Reason.NOT_TRUE_OR_FALSE, _TRUTH)
    return cast_text(_written_out(cells).values, TextRule(pa.bool_(), _one_boolean))


def _one_boolean(text: str) -> bool | Wrong:
    word = text.lower()
    if word in _TRUE or word in _FALSE:
        return word in _TRUE
    return Wrong(Reason.NOT_TRUE_OR_FALSE, _TRUTH)


def to_uuid(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast text to UUIDs (RFC 9562), in lower case with dashes."""
    if not pa.types.is_string(cells.type):
        return refuse(cells, to, Reason.NOT_A_UUID, "a UUID")
    plain = r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}"
    return cast_text(cells, TextRule(pa.string(), _one_uuid, plain))


def _one_uuid(text: str) -> str | Wrong:
    if re.fullmatch(r"[{]?[0-9a-fA-F]{8}(-?[0-9a-fA-F]{4}){3}-?[0-9a-fA-F]{12}[}]?", text):
        return str(uuid.UUID(text))
    return Wrong(Reason.NOT_A_UUID, "a UUID such as 550e8400-e29b-41d4-a716-446655440000")


def to_json(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast JSON text (RFC 8259) to one spelling, so that equal documents compare equal."""
    cast = cast_text(_written_out(cells).values, TextRule(pa.string(), one_document))
    for bad in _stored_otherwise(cast.values, to) if to.numeric_text else ():
        good = np.ones(len(cells), bool)
        good[bad.rows] = False
        cast = Cast(keep(cast.values, good), (*cast.bad, bad), cast.rounded)
    return cast


def to_binary(cells: pa.Array, to: ColumnType) -> Cast:
    """Cast hexadecimal text to bytes."""
    if pa.types.is_binary(cells.type):
        cast = Cast(cells)
    elif pa.types.is_string(cells.type):
        cast = cast_text(cells, TextRule(pa.binary(), _one_binary))
    else:
        return refuse(cells, to, Reason.NOT_BINARY, "bytes written as hexadecimal digits")
    if to.octets is None:
        return cast
    lengths = pc.binary_length(cast.values)
    if to.padded:
        words = f"{to.octets} bytes, as {to.declared} holds: it fills up what is shorter"
        return without(cast, pc.equal(lengths, to.octets), Reason.WRONG_LENGTH, words)
    words = f"at most {to.octets:,} bytes, as {to.declared} holds"
    return without(cast, pc.less_equal(lengths, to.octets), Reason.TOO_LONG, words)


def _one_binary(text: str) -> bytes | Wrong:
    digits = re.fullmatch(r"(?:0x|\\x)?((?:[0-9a-fA-F]{2})+)", text)
    if digits:
        return bytes.fromhex(digits[1])
    return Wrong(Reason.NOT_BINARY, "bytes written as hexadecimal digits, such as 0a1b2c")
