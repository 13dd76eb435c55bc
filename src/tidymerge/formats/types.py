"""What the columns of a text file mean, told by their cells, and how new values are spelled like the others."""

from collections.abc import Iterable, Mapping
from types import MappingProxyType

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.infer.told import type_of_texts
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.core.tidy.tidying import guard, unguard
from tidymerge.model import ColumnType, Kind, TargetColumn

NONE_DECLARED: Mapping[str, ColumnType] = MappingProxyType({})


def with_declared(columns: Iterable[TargetColumn], types: Mapping[str, ColumnType]) -> tuple[TargetColumn, ...]:
    """The columns with the types that the job declares."""
    return tuple(replace(column, type=types.get(column.name, column.type)) for column in columns)


def column_of(name: str, texts: pa.Array) -> TargetColumn:
    """The column of some cells: integer, decimal, date or timestamp where all of them are, else text."""
    present = texts.drop_null().unique()
    return TargetColumn(name, type_of_texts(present))


def typed(texts: pa.Array, column: TargetColumn, *, guarded: bool) -> pa.Array:
    """The cells as their column means them; null also where they don't fit. Where texts are `guarded`, without that."""
    if column.type.as_stored:
        return texts
    if column.type.kind is Kind.TEXT:
        return unguard(texts) if guarded else texts
    return cast_cells([texts] if texts.null_count < len(texts) else [], column.type, len(texts)).values


class Manner(Struct, frozen=True):
    """How a file spells a column: whether all numbers have as many decimals as the type, and times a T before them."""

    fixed: bool
    with_t: bool


def manner_of(cells: pa.Array, column: TargetColumn) -> Manner:
    """How the cells of a column are spelled."""
    kind = column.type.kind
    if kind not in (Kind.DECIMAL, Kind.TIMESTAMP):
        return Manner(fixed=False, with_t=False)
    present = as_array(cells).drop_null()
    fixed = kind is Kind.DECIMAL and len(present) > 0 and _fixed(present, column.type.decimals)
    return Manner(fixed, kind is Kind.TIMESTAMP and len(present) > 0 and "T" in present[0].as_py())


def spelled_like(values: pa.Array, column: TargetColumn, manner: Manner, *, guarded: bool) -> pa.Array:
    """Typed values as the file spells others of the same column; `guarded` against spreadsheets or not."""
    kind = column.type.kind
    if column.type.as_stored:
        return values
    if kind is Kind.TEXT:
        return guard(values) if guarded else values
    texts = pc.cast(pc.cast(values, pa.timestamp("us")) if kind is Kind.TIMESTAMP else values, pa.string())
    if kind is Kind.DECIMAL and not manner.fixed:
        return pc.replace_substring_regex(pc.replace_substring_regex(texts, r"(\.[0-9]*?)0+$", r"\1"), r"\.$", "")
    if kind is Kind.TIMESTAMP:
        texts = pc.replace_substring_regex(texts, r"\.0+$", "")
        if manner.with_t:
            texts = pc.replace_substring(texts, " ", "T")
    return texts


def _fixed(texts: pa.Array, decimals: int) -> bool:
    """Whether all numbers are written with that many decimals."""
    pattern = rf"\.[0-9]{{{decimals}}}$" if decimals else r"^[^.]*$"
    return bool(pc.all(pc.match_substring_regex(texts, pattern)).as_py())
