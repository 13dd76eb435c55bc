"""Making two parts of an expression meet: cells are read as what they meet, text literals as dates."""

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from tidymerge.core.expressions.types import Checked, Frame, Type
from tidymerge.core.tidy.cells import valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import ColumnType, Kind

_KINDS = {
    Type.NUMBER: Kind.DECIMAL,
    Type.BOOLEAN: Kind.BOOLEAN,
    Type.DATE: Kind.DATE,
    Type.TIME: Kind.TIME,
    Type.TIMESTAMP: Kind.TIMESTAMP,
    Type.TEXT: Kind.TEXT,
}
ARROW = {
    Type.NUMBER: pa.decimal128(38, 0),
    Type.TEXT: pa.string(),
    Type.CELL: pa.string(),
    Type.BOOLEAN: pa.bool_(),
    Type.DATE: pa.date32(),
    Type.TIME: pa.time64("us"),
    Type.TIMESTAMP: pa.timestamp("us"),
    Type.NULL: pa.null(),
}

CASTS = {
    exp.DataType.Type.INT: (Type.NUMBER, Kind.INTEGER),
    exp.DataType.Type.BIGINT: (Type.NUMBER, Kind.INTEGER),
    exp.DataType.Type.SMALLINT: (Type.NUMBER, Kind.INTEGER),
    exp.DataType.Type.DECIMAL: (Type.NUMBER, Kind.DECIMAL),
    exp.DataType.Type.FLOAT: (Type.NUMBER, Kind.FLOAT),
    exp.DataType.Type.DOUBLE: (Type.NUMBER, Kind.FLOAT),
    exp.DataType.Type.VARCHAR: (Type.TEXT, Kind.TEXT),
    exp.DataType.Type.CHAR: (Type.TEXT, Kind.TEXT),
    exp.DataType.Type.TEXT: (Type.TEXT, Kind.TEXT),
    exp.DataType.Type.DATE: (Type.DATE, Kind.DATE),
    exp.DataType.Type.TIME: (Type.TIME, Kind.TIME),
    exp.DataType.Type.TIMESTAMP: (Type.TIMESTAMP, Kind.TIMESTAMP),
    exp.DataType.Type.BOOLEAN: (Type.BOOLEAN, Kind.BOOLEAN),
}


def common_type(parts: Sequence[Checked]) -> Type | None:
    """The type in which all parts can meet, or None if there is none.

    Cells alone meet in the type that all of them have; where they have none, it is not known what they mean.
    """
    kinds = {part.type for part in parts if part.type not in (Type.NULL, Type.CELL) and part.literal is None}
    texts = [part for part in parts if part.literal is not None]
    if not kinds:
        cells = [part for part in parts if part.type is Type.CELL]
        return Type.TEXT if texts else _common_nature(cells) if cells else Type.NULL
    if kinds == {Type.DATE, Type.TIMESTAMP}:
        kinds = {Type.TIMESTAMP}
    if len(kinds) > 1:
        return None
    kind = kinds.pop()
    temporal = kind in (Type.DATE, Type.TIME, Type.TIMESTAMP)
    return None if texts and not temporal and kind is not Type.TEXT else kind


def _common_nature(cells: Sequence[Checked]) -> Type | None:
    natures = {cell.nature for cell in cells} - {Type.NULL}
    if natures == {Type.DATE, Type.TIMESTAMP}:
        return Type.TIMESTAMP
    return natures.pop() if len(natures) == 1 else None if natures else Type.TEXT


def as_type(part: Checked, wanted: Type) -> Checked | None:
    """The part as `wanted`, or None where SQL would not allow it."""
    if part.type in (wanted, Type.NULL) and not (part.type is Type.NULL and wanted is not Type.NULL):
        return part
    if part.type is Type.NULL:
        return Checked(wanted, lambda frame: pa.nulls(frame.length, ARROW[wanted]))
    if part.type is Type.CELL and wanted is Type.TEXT:
        return Checked(wanted, lambda frame: tidy(part.run(frame)))
    if part.type is Type.CELL or part.literal is not None:
        return _read_as(part, wanted)
    if part.type is Type.DATE and wanted is Type.TIMESTAMP:
        return Checked(wanted, lambda frame: pc.cast(part.run(frame), pa.timestamp("us")))
    return None


def _read_as(part: Checked, wanted: Type) -> Checked:
    """Text read as another type; a text that is none has no value there, which is a failure of its row."""
    return Checked(wanted, lambda frame: read_texts(frame, part.run(frame), ColumnType(_KINDS[wanted], str(wanted))))


def read_texts(frame: Frame, texts: pa.Array, to: ColumnType) -> pa.Array:
    """Cast texts to a column type; rows where that can't be done fail."""
    texts = tidy(texts) if pa.types.is_string(texts.type) else texts
    values = cast_cells([texts] if texts.null_count < len(texts) else [], to, frame.length).values
    frame.fail(valid(texts) & ~valid(values), f"can't be read as {to.declared}")
    return values
