"""Between SQLite's storage and typed columns, both ways.

SQLite stores any type in any row; what a column means is its declared type. Reading asks the driver
for the plain column first, and only where that turns out mixed is it read again in an exact form.
"""

from collections.abc import Callable, Sequence

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.databases.contract.database import quoted
from tidymerge.databases.sqlite.describe import affinity
from tidymerge.databases.sqlite.session import Session
from tidymerge.model import Kind, Mask, TargetColumn

_TEXT_KINDS = (Kind.TEXT, Kind.UUID, Kind.JSON, Kind.DATE, Kind.TIME, Kind.TIMESTAMP)
_EXACT_DOUBLE_DIGITS = 15


def read_columns(
    session: Session, columns: Sequence[TargetColumn], query: Callable[[Sequence[str]], str], about: int = 0
) -> tuple[pa.Table, list[str]]:
    """Run `query` (from a list of column expressions to SQL) and return its result in exact form.

    Columns as stored come as marked text: most are read as they are, which is faster, and marked here. The second
    value names the columns that were read as text because their storage is mixed.
    """
    plain = [
        _marked(column.name) if column.type.as_stored and not _is_plain(column) else _plainly(column.name)
        for column in columns
    ]
    table = session.table(query(plain), width=len(columns) + 2, about=about)
    mixed = [column.name for column in columns if not _as_expected(table[column.name], column)]
    if mixed:
        exact = [
            (_marked(column.name) if column.type.as_stored else _exact(column)) if column.name in mixed else expression
            for column, expression in zip(columns, plain, strict=True)
        ]
        table = session.table(query(exact), width=len(columns) + 2, about=table.num_rows)
    bare = {c.name for c in columns if c.type.as_stored and _is_plain(c)}.difference(mixed)
    if bare:  # made anew at once: a table of many columns takes long to change one by one
        names = table.column_names
        marked = [_with_mark(table[at]) if name in bare else table[at] for at, name in enumerate(names)]
        table = pa.table(marked, names)
    return table, mixed


def _plainly(name: str) -> str:
    return f"t.{quoted(name)} AS {quoted(name)}"


def _is_plain(column: TargetColumn) -> bool:
    """Whether a column that the driver gives as all texts, or all integers, holds nothing else."""
    return affinity(column.type.declared) in ("TEXT", "INTEGER")


def _with_mark(values: pa.ChunkedArray | pa.Array) -> pa.Array:
    mark = "i" if pa.types.is_integer(values.type) else "t"
    return pc.binary_join_element_wise(mark, pc.cast(as_array(values), pa.string()), "")


def marked_text(column: TargetColumn, values: pa.Array) -> pa.Array | None:
    """The marked text of values that were read plainly; None where their storage class is not sure to be known."""
    if column.type.as_stored:
        return values
    sure = column.type.kind in (Kind.TEXT, Kind.INTEGER) and _is_plain(column)
    return _with_mark(values) if sure and affinity(column.type.declared) == column.type.kind.name else None


def _as_expected(stored: pa.ChunkedArray, column: TargetColumn) -> bool:
    """Whether the driver's own choice of type lost nothing of what this column can mean."""
    kind, found = column.type.kind, stored.type
    if stored.null_count == len(stored):
        return True
    if column.type.as_stored and _is_plain(column):
        is_text = affinity(column.type.declared) == "TEXT"
        return bool(pa.types.is_string(found) if is_text else pa.types.is_int64(found))
    if column.type.as_stored:
        return True
    if kind is Kind.TEXT and pa.types.is_string(found):  # the driver cuts off digits where numbers are among texts
        return affinity(column.type.declared) == "TEXT"
    if kind in _TEXT_KINDS:
        return bool(pa.types.is_string(found)) or (kind is Kind.TEXT and pa.types.is_int64(found))
    if kind is Kind.BINARY:
        return bool(pa.types.is_binary(found))
    if kind is Kind.FLOAT or (kind is Kind.DECIMAL and (column.type.precision or 0) <= _EXACT_DOUBLE_DIGITS):
        return bool(pa.types.is_float64(found) or pa.types.is_int64(found))
    return bool(pa.types.is_int64(found))


def _exact(column: TargetColumn) -> str:
    name = f"t.{quoted(column.name)}"
    real = f"WHEN 'real' THEN quote({name}) " if column.type.kind is Kind.TEXT else ""  # all of its digits
    return (
        f"CASE typeof({name}) WHEN 'blob' THEN '0x' || hex({name}) {real}"
        f"ELSE CAST({name} AS TEXT) END AS {quoted(column.name)}"
    )


def _marked(name: str) -> str:
    """The SQL that reads a value as text that is exact: a letter for its storage class, then the value.

    The text of a REAL is SQLite's own literal, of which it reads the same number again.
    """
    column = f"t.{quoted(name)}"
    return (
        f"CASE typeof({column}) WHEN 'text' THEN 't' || {column} WHEN 'integer' THEN 'i' || {column} "
        f"WHEN 'real' THEN 'r' || quote({column}) WHEN 'blob' THEN 'b' || hex({column}) END AS {quoted(name)}"
    )


def unmarked(name: str) -> str:
    """The SQL that makes the value again, in its storage class, from such a text in the column `name`."""
    column = quoted(name)
    value = f"substr({column}, 2)"
    text = f"CAST(substr(CAST({column} AS BLOB), 2) AS TEXT)"  # as bytes: a text's own functions stop at a NUL
    return (
        f"CASE substr({column}, 1, 1) WHEN 't' THEN {text} WHEN 'i' THEN CAST({value} AS INTEGER) "
        f"WHEN 'r' THEN CAST({value} AS REAL) WHEN 'b' THEN unhex({value}) END"
    )


def to_typed(stored: pa.Table, columns: Sequence[TargetColumn]) -> tuple[pa.Table, dict[str, Mask]]:
    """Stored values as the declared types mean them, and by column which are not of their type."""
    typed, unreadable = {}, {}
    for column in columns:
        raw = as_array(stored[column.name])
        if column.type.kind is Kind.TEXT or column.type.as_stored:
            typed[column.name] = pc.cast(raw, pa.string())
            continue
        parts = [] if raw.null_count == len(raw) else [raw]
        typed[column.name] = cast_cells(parts, column.type, len(raw)).values
        lost = valid(raw) & ~valid(typed[column.name])
        if lost.any():
            unreadable[column.name] = lost
    return pa.table(typed), unreadable


def to_stored(values: pa.Array, column: TargetColumn, stamp: "str | None" = None) -> pa.Array:
    """Typed values as SQLite stores them; `stamp` is a stored timestamp whose spelling is followed."""
    if column.type.as_stored:
        return values
    match column.type.kind:
        case Kind.DECIMAL | Kind.DATE | Kind.TIME:
            return pc.cast(values, pa.string())
        case Kind.BOOLEAN:
            return pc.cast(values, pa.int64())
        case Kind.TIMESTAMP:
            return _stamps(values, stamp or "2026-05-04 09:30:00" + ("+00:00" if column.type.zone else ""))
        case _:
            return values


def _stamps(values: pa.Array, like: str) -> pa.Array:
    """Timestamps (UTC if zoned) spelled like `like`: its separator, its fraction and its zone mark."""
    separator = "T" if "T" in like else " "
    texts = pc.strftime(pc.cast(values, pa.timestamp("us")), f"%Y-%m-%d{separator}%H:%M:%S")
    if "." not in like:
        texts = pc.replace_substring_regex(texts, r"\.0+$", "")
    zone = "Z" if like.endswith("Z") else "+00:00" if like.endswith("+00:00") else ""
    return pc.binary_join_element_wise(texts, zone, "") if zone else texts
