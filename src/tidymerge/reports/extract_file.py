"""Rows that are taken out, as a file: a workbook, CSV, or Parquet."""

from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
from msgspec import Struct
from pyarrow import csv

from tidymerge.core.tidy.cells import as_array, shown
from tidymerge.core.tidy.tidying import guard
from tidymerge.errors import BadOption
from tidymerge.formats.extracted import CARRIED, METADATA, packed
from tidymerge.model.base import ROW_MARK

ENDINGS = (".xlsx", ".ods", ".csv", ".tsv", ".parquet")
TEXTS = (".csv", ".tsv")


class Taken(Struct, frozen=True):
    """Rows that are taken out by the run of that name; `rows` are typed, or exact text. `marked`: they are numbered."""

    run: str
    rows: pa.Table
    marked: bool
    carried: bytes | None = None


def write_text(path: Path, taken: Taken) -> None:
    """Write CSV, or text parted by tabs, in UTF-8 with a byte-order mark. Raises OSError."""
    held = {name: as_array(taken.rows[name]) for name in taken.rows.column_names}
    columns = {name: _written(one) for name, one in held.items()}
    names = guard(pa.array(list(columns), pa.string())).to_pylist()
    texts = list(columns.values())
    if taken.marked:
        names.append(ROW_MARK)
        texts.append(pa.array([f"{taken.run}:{number}" for number in range(1, taken.rows.num_rows + 1)], pa.string()))
    comma = "\t" if path.name.lower().endswith(".tsv") else ","
    with path.open("wb") as file:
        file.write(b"\xef\xbb\xbf")
        csv.write_csv(pa.table(texts, names=names), file, csv.WriteOptions(delimiter=comma, quoting_style="needed"))


def _written(values: pa.Array) -> pa.Array:
    """Values as they are written: numbers and dates as they are, without quotes; of what is no text, none could run."""
    if pa.types.is_string(values.type):
        return guard(values)
    plain = pa.types.is_integer(values.type) or pa.types.is_decimal(values.type) or pa.types.is_date(values.type)
    return values if plain else shown(values)


def write_parquet(path: Path, taken: Taken) -> None:
    """Write a Parquet file, which says in its metadata which extract it is of. Raises OSError."""
    about = {METADATA: taken.run.encode()}
    if taken.carried is not None:
        about[CARRIED] = "".join(packed(taken.carried)).encode()
    rows = taken.rows
    if taken.marked:
        marks = pa.array([f"{taken.run}:{number}" for number in range(1, rows.num_rows + 1)], pa.string())
        rows = rows.append_column(ROW_MARK, marks)
    pq.write_table(rows.replace_schema_metadata(about), path, compression="zstd")


def check(path: Path, *, carried: bool) -> None:
    """Raise BadOption for a file that can't be written, or is there already."""
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise BadOption(f"Rows are taken out to {', '.join(ENDINGS)}; {path} has another ending.")
    if path.exists():
        raise BadOption(f"{path} is there already, and may hold somebody's work. Name another file.")
    if not path.absolute().parent.is_dir():
        raise BadOption(f"There is no folder {path.parent} to put {path.name} in.")
    if carried and ending in TEXTS:
        raise BadOption(f"A text file can't carry what the rows were; a workbook or a Parquet file can: {path}.")
