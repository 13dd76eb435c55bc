"""A file that is not there yet, as the content that it will have: its columns, and no rows."""

import csv
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa
from openpyxl import Workbook
from pyarrow import parquet

from tidymerge.address import Address
from tidymerge.core.infer.told import declared
from tidymerge.errors import BadOption
from tidymerge.formats.content import Content
from tidymerge.formats.csv.rows import CsvFile
from tidymerge.formats.parquet.rows import ParquetRows
from tidymerge.formats.sheet.package import Package
from tidymerge.formats.sheet.rows import WorkbookRows
from tidymerge.formats.sheet.sheets import with_sheet
from tidymerge.model import ColumnType, NewColumn
from tidymerge.on_disk import no_room

_USUAL_SHEET = "Sheet1"
_TITLE_SIGNS = 31  # the most that a sheet's name has


def new_content(address: Address, columns: Sequence[NewColumn], folder: Path) -> Content:
    """The content of a new file; `folder` is a private place for a first copy of it. Raises BadOption and NoRoom."""
    path = address.path.resolve()
    seed = folder / path.name
    types = {column.name: declared(column.type) for column in columns}
    ending = path.suffix.lower()
    with no_room():
        if ending == ".parquet":
            schema = pa.schema([(name, kind.arrow) for name, kind in types.items()])
            parquet.write_table(schema.empty_table(), seed)
            return ParquetRows(Address(path), {path: seed})
        if ending in (".xlsx", ".xlsm"):
            return _workbook(path, seed, address.fragment or _USUAL_SHEET, types)
        with seed.open("w", encoding="utf-8", newline="") as file:
            tab = "," if ending == ".csv" else "\t"
            csv.writer(file, delimiter=tab, lineterminator="\n").writerow(types)
    text = CsvFile(Address(seed), types)
    text.path = path
    return text


def _workbook(path: Path, seed: Path, title: str, types: dict[str, ColumnType]) -> Content:
    """A new workbook of one sheet, or one that is there with one more sheet."""
    if len(title) > _TITLE_SIGNS or set(title) & set("[]:*?/\\") or title[0] == "'" or title[-1] == "'":
        raise BadOption(f"{title!r} can't be the name of a sheet: up to 31 signs, and none of [ ] : * ? / \\.")
    if path.exists():
        package = Package(path)
        if title.casefold() in {name.casefold() for name in package.sheets()}:
            raise BadOption(f"{path} has a sheet {title} already: it can be loaded into as it is.")
        with seed.open("wb") as file:
            with_sheet(package, title, list(types), file)
    else:
        if path.suffix.lower() != ".xlsx":
            raise BadOption(f"A new workbook has no macros: let its name end in .xlsx, not {path.suffix}.")
        book = Workbook()
        book.worksheets[0].title = title
        book.worksheets[0].append(list(types))
        book.save(seed)
    content = WorkbookRows(Address(seed, title), types)
    content.path = path
    return content
