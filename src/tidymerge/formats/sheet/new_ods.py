"""A new OpenDocument spreadsheet of rows that are taken out, by a library: values in their types, and no more."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from tidymerge.core.tidy.cells import as_array, shown
from tidymerge.errors import MissingPackage
from tidymerge.formats.extracted import packed
from tidymerge.formats.sheet.extracted import ABOUT_SHEET, BASE_SHEET, PROPERTY
from tidymerge.formats.sheet.new_book import NewBook, SheetColumn, spoiled
from tidymerge.model import Kind

try:
    from odfdo import Document, Row, Table
except ImportError:
    raise MissingPackage(
        "OpenDocument spreadsheets are written by the package odfdo: pip install 'tidymerge[ods]'. Or take the rows "
        "out as .xlsx.",
        package="odfdo",
    ) from None


def write_ods(path: Path, book: NewBook, rows: pa.Table) -> None:
    """Write the spreadsheet. Raises OSError."""
    document = Document("spreadsheet")
    document.body.clear()
    columns = [_values(as_array(rows[column.name]), column) for column in book.columns]
    marks = [f"{book.run}:{number}" for number in range(1, rows.num_rows + 1)]
    names = [*(column.name for column in book.columns), book.mark]
    document.body.append(_sheet(book.title, [names, *zip(*columns, marks, strict=True)]))
    document.body.append(_sheet(ABOUT_SHEET, [[line] for line in book.about]))
    if book.carried is not None:
        document.body.append(_sheet(BASE_SHEET, [[text] for text in packed(book.carried)]))
    document.meta.set_user_defined_metadata(PROPERTY, book.run)
    document.save(str(path))


def _sheet(name: str, rows: Sequence[Sequence[Any]]) -> Table:
    sheet = Table(name)
    for values in rows:
        row = Row()
        row.set_values(list(values))
        sheet.append(row)
    return sheet


def _values(values: pa.Array, column: SheetColumn) -> list[Any]:
    """The cells of a column; what a spreadsheet would spoil is text."""
    as_text = spoiled(values, column.kind) | (column.kind is Kind.TIME)  # of which the library knows nothing
    found: list[Any] = values.to_pylist() if not as_text.all() else [None] * len(values)
    texts = shown(values).to_pylist() if as_text.any() else []
    for at in np.flatnonzero(as_text).tolist():
        found[at] = texts[at]
    return [None if value == "" else value for value in found]
