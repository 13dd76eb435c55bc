"""The kinds of files that rows can be loaded into, each made from and read back as rows of plain Python values."""

import csv
import re
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
from openpyxl import Workbook, load_workbook
from pyarrow import parquet

from conftest import text_file

HEAD = ["code", "no", "kg", "seen", "note"]


class Csv:
    name = "hives.csv"

    def make(self, folder: Path, rows: list[list[Any]], head: list[str] = HEAD) -> str:
        return text_file(folder / self.name, [head, *rows])

    def rows(self, address: str) -> list[list[Any]]:
        with Path(address).open(encoding="utf-8", newline="") as file:
            return [[_plain(re.sub("^'([=+@])", r"\1", cell)) for cell in row] for row in list(csv.reader(file))[1:]]


class Sheet:
    """A workbook, with a title above the names."""

    name = "hives.xlsx"

    def make(self, folder: Path, rows: list[list[Any]], head: list[str] = HEAD) -> str:
        book = Workbook()
        book.active.append(["The hives of the co-operative"])
        book.active.append(head)
        for row in rows:
            book.active.append(row)
        for at in range(3, len(rows) + 3):
            for cell in book.active[at]:
                if isinstance(cell.value, str):
                    cell.data_type = "s"  # also what looks like a formula
            book.active.cell(at, 3).number_format = "0.00"
            book.active.cell(at, 4).number_format = "yyyy-mm-dd"
        book.save(folder / self.name)
        return str(folder / self.name)

    def rows(self, address: str) -> list[list[Any]]:
        found = load_workbook(address).active.iter_rows(min_row=3, values_only=True)
        return [[_plain(cell) for cell in row] for row in found]


class Parquet:
    name = "hives.parquet"
    files = 1

    def make(self, folder: Path, rows: list[list[Any]], head: list[str] = HEAD) -> str:
        kinds = [pa.string(), pa.int16(), pa.decimal128(8, 2), pa.date32(), pa.string()][: len(head)]
        columns = [
            pa.array(
                [
                    row[at] if kind != pa.decimal128(8, 2) else None if row[at] is None else Decimal(str(row[at]))
                    for row in rows
                ],
                kind,
            )
            for at, kind in enumerate(kinds)
        ]
        table = pa.table(dict(zip(head, columns, strict=True)))
        place = folder / self.name
        if self.files == 1:
            parquet.write_table(table, place, row_group_size=2)
            return str(place)
        place.mkdir(exist_ok=True)
        each = -(-len(rows) // self.files)
        for at in range(self.files):
            parquet.write_table(table.slice(at * each, each), place / f"part-{at}.parquet", compression="zstd")
        return str(place)

    def rows(self, address: str) -> list[list[Any]]:
        place = Path(address)
        paths = sorted(place.glob("part-*.parquet")) if place.is_dir() else [place]
        tables = [parquet.ParquetFile(path).read() for path in paths]
        return [[_plain(cell) for cell in row.values()] for row in pa.concat_tables(tables).to_pylist()]


class Folder(Parquet):
    name = "hives"
    files = 3


def _plain(cell: Any) -> str:
    """A cell as text, the same for all kinds of files."""
    if isinstance(cell, float | Decimal):
        return f"{float(cell):g}"
    if isinstance(cell, date | datetime):
        return f"{cell:%Y-%m-%d}"
    text = "" if cell is None else str(cell)
    try:
        return f"{float(text):g}" if "." in text else text
    except ValueError:
        return text


KINDS = [Csv(), Sheet(), Parquet(), Folder()]
