"""Sources whose columns have names and types of their own: Parquet, JSON and JSON Lines."""

import json
import re
import sys
from collections.abc import Iterable, Sequence
from functools import cache
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.address import STANDARD_INPUT, Address
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.tidy.documents import Number, as_it_is
from tidymerge.core.tidy.floats import SPREADSHEET_DIGITS
from tidymerge.errors import BrokenFile, NoRows
from tidymerge.formats.collecting import uncollected
from tidymerge.formats.table import arrays_of, as_incoming
from tidymerge.formats.unpacking import all_of
from tidymerge.model import Incoming, IncomingColumn, ReadOptions

_ARROW_MAGIC = b"ARROW1"  # of a file, not of a stream: https://arrow.apache.org/docs/format/Columnar.html
_WHOLE_DIGITS = 18  # which 64 bits are sure to hold


class Records:
    """Named columns that are already in memory. Records are numbered from 1; there is no header row.

    `reads` are the tables of a query.
    """

    def __init__(self, address: str, columns: Sequence[IncomingColumn], rows: int, reads: tuple[str, ...] = ()) -> None:
        self.address = address
        self.sheet: str | None = None
        self.above = 0
        self.notes: tuple[str, ...] = ()
        self._columns = columns
        self._rows = rows
        self._about: dict[str, Any] = {"address": address, "header_row": 0, "sheet": None, "reads": reads}

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """None: the file is one table."""
        return ()

    def head(self, rows: int) -> list[list[str]]:
        """The column names, where a sheet would have its header."""
        return [[column.name for column in self._columns]]

    def read(self, header_row: int) -> Incoming:
        """All records that are not wholly blank."""
        numbers = np.arange(1, self._rows + 1, dtype=np.int64)
        return as_incoming(self._columns, numbers, **self._about, notes=self.notes)


def parquet_files(folder: Path) -> list[Path]:
    """The Parquet files in a folder, in the order of their names; hidden ones are none of its rows."""
    return sorted(path for path in folder.glob("*.parquet") if path.name[0] not in "._" and path.is_file())


class ParquetSource(Records):
    """A Parquet file, or a folder of them."""

    def __init__(self, address: Address, options: ReadOptions) -> None:
        from pyarrow import parquet

        try:
            paths = parquet_files(address.path) if address.path.is_dir() else [address.path]
            # Each by itself: a folder's name is not taken for a column.
            table = pa.concat_tables([parquet.ParquetFile(path).read() for path in paths])
        except (pa.ArrowException, OSError) as error:
            reason = str(error).partition("\n")[0]
            raise BrokenFile(f"{address.path} can't be read as a Parquet file ({reason}).") from None
        super().__init__(str(address), table_to_columns(table), table.num_rows)


class ArrowSource(Records):
    """A file of Arrow's own format (IPC, also called Feather), or a stream of it."""

    def __init__(self, address: Address, options: ReadOptions) -> None:
        try:
            with pa.OSFile(str(address.path)) as file:  # a map of a file that others cut short would end the process
                table = self._table(file)
            table.validate(full=True)
        except (pa.ArrowException, OSError) as error:
            reason = str(error).partition("\n")[0]
            raise BrokenFile(f"{address.path} can't be read as an Arrow file ({reason}).") from None
        super().__init__(str(address), table_to_columns(table), table.num_rows)

    @staticmethod
    def _table(file: pa.NativeFile) -> pa.Table:
        is_file = file.read(len(_ARROW_MAGIC)) == _ARROW_MAGIC
        file.seek(0)
        with (pa.ipc.open_file if is_file else pa.ipc.open_stream)(file) as reader:
            return reader.read_all()


def table_to_columns(table: pa.Table) -> list[IncomingColumn]:
    """An Arrow table's columns in the few types that cells have."""
    return [
        IncomingColumn(name, _parts(as_array(column)))
        for name, column in zip(table.column_names, table.columns, strict=True)
    ]


def _parts(values: pa.Array) -> tuple[pa.Array, ...]:
    """A column's cells; moments that are finer than we keep are texts, which no column takes for less than they are."""
    plain = simplified(values)
    if not (pa.types.is_timestamp(values.type) or pa.types.is_time(values.type)) or values.type.unit != "ns":
        return (plain,)
    fine = pc.not_equal(pc.cast(plain, values.type), values).fill_null(False)
    if not pc.any(fine).as_py():
        return (plain,)
    nothing = pa.scalar(None, plain.type)
    return pc.if_else(fine, nothing, plain), pc.if_else(
        fine, pc.cast(values, pa.string()), pa.scalar(None, pa.string())
    )


def simplified(values: pa.Array) -> pa.Array:
    """Values in one of the types that cells have: nested ones become JSON text."""
    kind = values.type
    if pa.types.is_dictionary(kind):
        return simplified(values.dictionary_decode())
    if pa.types.is_nested(kind):
        return pa.array([None if value is None else _json(value) for value in values.to_pylist()], pa.string())
    for test, plain in (
        (pa.types.is_null, pa.string()),
        (pa.types.is_large_string, pa.string()),
        (pa.types.is_string_view, pa.string()),
        (pa.types.is_uint64, pa.decimal128(20, 0)),  # does not fit 64 signed bits
        (pa.types.is_integer, pa.int64()),
        (pa.types.is_floating, pa.float64()),
        (pa.types.is_time64, pa.time64("us")),
        (pa.types.is_timestamp, pa.timestamp("us", "UTC" if getattr(kind, "tz", None) else None)),
    ):
        if test(kind):
            return pc.cast(values, plain, safe=False)
    return values


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, default=str)


_DECODER = json.JSONDecoder(parse_int=Number, parse_float=Number, parse_constant=str)


def _parsed(text: str) -> Any:
    """A JSON text, its numbers as they stand there; what is no number, such as NaN, is a text."""
    try:
        return _DECODER.decode(text)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None


class JsonSource(Records):
    """A JSON file that holds an array of objects."""

    def __init__(self, address: Address, options: ReadOptions) -> None:
        text = _text(address, options)
        try:
            objects = _parsed(text)
        except ValueError as error:
            raise BrokenFile(f"{_called(address)} is not JSON: {error}.") from None
        if not isinstance(objects, list):
            raise BrokenFile(f"{_called(address)} holds {type(objects).__name__}, but an array of objects is needed.")
        super().__init__(str(address), *_columns(address, enumerate(objects, start=1)))


class JsonLinesSource(Records):
    """JSON Lines: one object a line."""

    def __init__(self, address: Address, options: ReadOptions) -> None:
        super().__init__(str(address), *_columns(address, _lines(address, _text(address, options))))


def _lines(address: Address, text: str) -> Iterable[tuple[int, Any]]:
    for number, line in enumerate(text.split("\n"), start=1):  # other line ends may stand in a JSON text
        if line.strip():
            try:
                yield number, _parsed(line)
            except ValueError as error:
                said = f"{_called(address)} is not JSON Lines: line {number} can't be read ({error})."
                raise BrokenFile(said) from None


def _text(address: Address, options: ReadOptions) -> str:
    piped = str(address.path) == STANDARD_INPUT
    try:
        held = all_of(sys.stdin.buffer, "standard input") if piped else address.path.read_bytes()
        text = held.decode(options.encoding or "utf-8-sig")
    except (UnicodeDecodeError, LookupError) as error:
        raise BrokenFile(f"{_called(address)} is not text that can be read: {error}.") from None
    if not text.strip():
        raise NoRows(f"{_called(address)} is empty.")
    return text


def _called(address: Address) -> str:
    """What to call a file in a message."""
    return "Standard input" if str(address.path) == STANDARD_INPUT else str(address.path)


def _columns(address: Address, objects: Iterable[tuple[int, Any]]) -> tuple[list[IncomingColumn], int]:
    """The columns of a run of objects: every name that occurs in any, blank where an object lacks it."""
    rows: list[dict[str, Any]] = []
    with uncollected():
        for number, found in objects:
            if not isinstance(found, dict):
                raise BrokenFile(f"{_called(address)}: record {number} is no object with names and values.")
            rows.append(found)
        names = dict.fromkeys(chain.from_iterable(rows))
        columns = [IncomingColumn(name, arrays_of(_cells([row.get(name) for row in rows]))) for name in names]
    return columns, len(rows)


def _cells(values: list[Any]) -> list[Any]:
    """JSON values as cells: nested ones as JSON text, numbers that 64 bits can't hold to the last digit as text."""
    kinds = set(map(type, values))
    if Number in kinds:
        number = cache(_number)  # of a value that stands in many rows, once
        values = [number(value) if type(value) is Number else value for value in values]
    if kinds & {dict, list}:
        values = [as_it_is(value) if isinstance(value, (dict, list)) else value for value in values]
    return values


def _number(value: Number) -> int | float | str:
    if value.lstrip("-").isdigit():
        return int(value) if len(value) <= _WHOLE_DIGITS else str(value)
    mantissa, _, exponent = value.lower().partition("e")
    figures = re.sub(r"[-.]", "", mantissa).strip("0")
    is_usual = len(figures) <= SPREADSHEET_DIGITS and len(exponent) <= 3  # noqa: PLR2004 - as in e-99
    return float(value) if is_usual and abs(float(value)) < 10.0**SPREADSHEET_DIGITS else str(value)
