"""What is in a column: its type, blanks, commonest values, bounds, and whether it can serve as a key."""

from collections.abc import Sequence
from itertools import combinations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.match.match import code_rows
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.tidy.convert import as_text, tidy_arrays
from tidymerge.model import IncomingColumn

_KEY_COLUMNS = 12  # so many columns are tried as keys, alone and in pairs, the leftmost first
_NEARLY = 0.75  # a share of rows that still makes a candidate, in a sheet with subtotals and slips
_INTEGER = r"^[+-]?\d+$"
_NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)$"
_DATE = r"^\d{4}-\d{2}-\d{2}$"
_STAMP = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}"


class ColumnProfile(Struct, frozen=True):
    """One column: `type` as declared or else as found (`kind`); `commonest` are (value, rows) pairs."""

    name: str
    type: str
    kind: str
    rows: int
    blanks: int
    distinct: int
    commonest: tuple[tuple[str, int], ...]
    longest: int
    smallest: str | None
    largest: str | None
    unique: bool


class KeyCandidate(Struct, frozen=True):
    """Columns that could serve as key: in how many rows one is blank, how many rows repeat one, how many are fit."""

    columns: tuple[str, ...]
    blank: int
    repeated: int
    fit: int

    @property
    def exact(self) -> bool:
        """Whether no row stands in the way."""
        return not self.blank and not self.repeated


class Profile(Struct, frozen=True):
    """A sheet or table: its columns, what could serve as key, some rows."""

    columns: tuple[ColumnProfile, ...]
    keys: tuple[KeyCandidate, ...]
    sample: tuple[tuple[str | None, ...], ...]


def profile(
    columns: Sequence[IncomingColumn], declared: Sequence[str] = (), common: int = 8, sample: int = 5
) -> Profile:
    """Profile columns of equal length. `declared` are the types that a database declares, if it does."""
    texts = [pa.nulls(_length(column), pa.string()) if not _filled(column) else _tidied(column) for column in columns]
    profiles = tuple(
        _column(column, text, declared[index] if declared else None, common)
        for index, (column, text) in enumerate(zip(columns, texts, strict=True))
    )
    rows = min(sample, len(texts[0]) if texts else 0)
    shown = tuple(tuple(text[row].as_py() for text in texts) for row in range(rows))
    return Profile(profiles, _keys(profiles, texts), shown)


def _length(column: IncomingColumn) -> int:
    return len(column.arrays[0])


def _filled(column: IncomingColumn) -> bool:
    return any(array.null_count < len(array) for array in column.arrays)


def _tidied(column: IncomingColumn) -> pa.Array:
    arrays = tuple(tidy_arrays(column.arrays))
    return as_text(IncomingColumn(column.name, arrays)) if arrays else pa.nulls(_length(column), pa.string())


def _column(column: IncomingColumn, text: pa.Array, declared: str | None, common: int) -> ColumnProfile:
    counts = text.drop_null().value_counts()
    values, times = counts.field("values"), counts.field("counts")
    order = np.lexsort((np.arange(len(times)), -times.to_numpy(zero_copy_only=False)))[:common]
    commonest = tuple((values[int(at)].as_py(), times[int(at)].as_py()) for at in order)
    kind = _kind(column, values)
    smallest, largest = _bounds(values, kind)
    return ColumnProfile(
        name=column.name,
        type=declared or kind,
        kind=kind,
        rows=len(text),
        blanks=text.null_count,
        distinct=len(values),
        commonest=commonest,
        longest=pc.max(pc.utf8_length(values)).as_py() or 0,
        smallest=smallest,
        largest=largest,
        unique=len(values) == len(text) > 0,
    )


def _kind(column: IncomingColumn, values: pa.Array) -> str:
    """The column's type in words; a text column whose texts are all numbers or dates says so."""
    arrays = tidy_arrays(column.arrays)
    names = sorted({_part_kind(array) for array in arrays})
    if names == ["text"]:
        for pattern, name in ((_INTEGER, "integer"), (_NUMBER, "number"), (_DATE, "date"), (_STAMP, "timestamp")):
            if pc.all(pc.match_substring_regex(values, pattern)).as_py():
                zeros = name == "integer" and pc.any(pc.match_substring_regex(values, r"^0\d")).as_py()
                return "integer with leading zeros" if zeros else name
    return " and ".join(names) or "blank"


def _part_kind(array: pa.Array) -> str:
    kind = array.type
    if pa.types.is_string(kind):
        return "text"
    if pa.types.is_floating(kind):
        numbers = array.drop_null().to_numpy()
        return "integer" if (numbers == np.rint(numbers)).all() else "number"
    for test, name in (
        (pa.types.is_integer, "integer"),
        (pa.types.is_decimal, "number"),
        (pa.types.is_boolean, "true or false"),
        (pa.types.is_date, "date"),
        (pa.types.is_timestamp, "timestamp"),
        (pa.types.is_time, "time"),
    ):
        if test(kind):
            return name
    return "binary"


def _bounds(values: pa.Array, kind: str) -> tuple[str | None, str | None]:
    if not len(values):
        return None, None
    if kind in ("integer", "number"):
        numbers = pc.cast(values, pa.float64()).to_numpy()
        return values[int(numbers.argmin())].as_py(), values[int(numbers.argmax())].as_py()
    bounds = pc.min_max(values)
    return bounds["min"].as_py(), bounds["max"].as_py()


def _keys(profiles: Sequence[ColumnProfile], texts: Sequence[pa.Array]) -> tuple[KeyCandidate, ...]:
    """The columns that are unique and never blank, or nearly; pairs where no single column is.

    Measures (numbers with decimals) are no keys, however many different ones there are.
    """
    fit = [at for at, column in enumerate(profiles[:_KEY_COLUMNS]) if column.rows and "number" not in column.kind]
    single = [_candidate(profiles, texts, [at]) for at in fit]
    if any(candidate.exact for candidate in single):
        return tuple(candidate for candidate in single if candidate.exact)
    enough = [
        pair
        for pair in combinations(fit, 2)
        if profiles[pair[0]].distinct * profiles[pair[1]].distinct >= _NEARLY * profiles[pair[0]].rows
    ]
    found = [*single, *(_candidate(profiles, texts, list(pair)) for pair in enough)]
    near = [candidate for candidate in found if candidate.fit >= _NEARLY * profiles[fit[0]].rows]
    return tuple(candidate for candidate in near if candidate.exact) or tuple(near)


def _candidate(profiles: Sequence[ColumnProfile], texts: Sequence[pa.Array], columns: list[int]) -> KeyCandidate:
    codes, size = code_rows([pa.chunked_array([texts[at]]) for at in columns])
    filled = codes[codes >= 0]
    distinct = int((np.bincount(filled, minlength=size) > 0).sum())
    names = tuple(profiles[at].name for at in columns)
    return KeyCandidate(names, len(codes) - len(filled), len(filled) - distinct, distinct)


def table_columns(table: pa.Table) -> list[IncomingColumn]:
    """A typed table as columns to profile."""
    return [IncomingColumn(name, (as_array(table[name]),)) for name in table.column_names]
