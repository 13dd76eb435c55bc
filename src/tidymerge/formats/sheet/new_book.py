"""A new workbook of rows that are taken out: types and formats, locked keys, lists to choose from.

openpyxl makes all but the rows; those are written as XML right away, as a cell at a time would take many times as long.
"""

import io
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from openpyxl import Workbook
from openpyxl.packaging.custom import StringProperty
from openpyxl.styles import Alignment, Font, PatternFill, Protection
from openpyxl.utils import get_column_letter, quote_sheetname
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.datavalidation import DataValidation
from openpyxl.worksheet.properties import PageSetupProperties
from openpyxl.worksheet.worksheet import Worksheet

from tidymerge.core.tidy.cells import as_array, keep, mask_of, shown, valid
from tidymerge.formats.extracted import name_beside, packed
from tidymerge.formats.sheet.extracted import ABOUT_SHEET, BASE_SHEET, LISTS_SHEET, PROPERTY
from tidymerge.formats.sheet.package import Package
from tidymerge.formats.sheet.serials import FIRST_DAY, serials
from tidymerge.formats.sheet.xml import escaped
from tidymerge.model import Kind, Mask

MOST_ROWS, MOST_SIGNS = 1_048_576, 32_767
_DIGITS = 15  # that a spreadsheet keeps of a number
_KEY, _HEAD, _BESIDE = (PatternFill("solid", fgColor=colour) for colour in ("EDE7D9", "E3D5B8", "F4F4F2"))
_FORMATS = {
    Kind.INTEGER: "0", Kind.FLOAT: "General", Kind.DATE: "yyyy-mm-dd", Kind.TIMESTAMP: "yyyy-mm-dd hh:mm:ss",
    Kind.TIME: "hh:mm:ss", Kind.BOOLEAN: "General",
}  # fmt: skip
_TEXT = "@"
_WIDEST, _LOOKED_AT = 40, 200
_PLAIN = r"^[^&<>\r\n_]*$"


class Choice(Struct, frozen=True):
    """Values that a column may have, with a readable name for each, if there is one."""

    values: pa.Array
    names: pa.Array | None = None


class SheetColumn(Struct, frozen=True):
    """A column: what it holds, whether it is part of the key, and what it may hold.

    `least` and `most` bound numbers, `length` the letters of a text. What stands `beside` the
    rows does not come back.
    """

    name: str
    kind: Kind
    scale: int = 0
    key: bool = False
    required: bool = False
    choice: Choice | None = None
    least: float | None = None
    most: float | None = None
    length: int | None = None
    beside: bool = False


class NewBook(Struct, frozen=True):
    """What the workbook is: the sheet's title, its columns, the lines of its other sheet, the extract's name.

    `mark` is the name of the hidden column that numbers the rows. The rows as they were may be `carried`.
    """

    title: str
    columns: Sequence[SheetColumn]
    about: Sequence[str]
    run: str
    mark: str
    carried: bytes | None = None


def write_book(path: Path, book: NewBook, rows: pa.Table) -> None:
    """Write the workbook. Raises OSError."""
    made = _skeleton(book, rows)
    draft = io.BytesIO()
    made.save(draft)
    seed = path.with_name(f"{path.name}.seed")
    try:
        seed.write_bytes(draft.getvalue())
        package = Package(seed)
        part = package.sheets()[book.title]
        data = package.read(part)
        with path.open("wb") as file:
            package.copy(file, {part: _with_rows(data, book, rows)})
    finally:
        seed.unlink(missing_ok=True)


def _skeleton(book: NewBook, rows: pa.Table) -> Workbook:
    """The workbook with the row of names, and one more in the styles of all others."""
    made = Workbook()
    sheet = made.worksheets[0]
    sheet.title = book.title
    lists = made.create_sheet(LISTS_SHEET)
    lists.sheet_state = "hidden"
    listed = at = 0
    for column in book.columns:
        at += 1
        letter = get_column_letter(at)
        _head(sheet, at, column.name, key=column.key)
        sheet.column_dimensions[letter].width = _width(column.name, as_array(rows[column.name]))
        _style(sheet, at, column)
        place = f"{letter}2:{letter}{MOST_ROWS}"
        source = None
        if column.choice is not None:
            listed += 1
            source = _list(lists, listed, column)
            listed += column.choice.names is not None
        for check in _validations(column, source):
            check.add(place)
            sheet.add_data_validation(check)
        if column.choice is not None and column.choice.names is not None:
            at += 1
            _head(sheet, at, name_beside(column.name), key=False)
            sheet.column_dimensions[get_column_letter(at)].width = 24
            cell = sheet.cell(2, at)
            cell.fill, cell.protection = _BESIDE, Protection(locked=True)
            cell.alignment = Alignment(horizontal="left", indent=1)
    _finish(sheet, at + 1, book, rows.num_rows + 1)
    _about(made, book)
    if not listed:
        made.remove(lists)
    made.custom_doc_props.append(StringProperty(name=PROPERTY, value=book.run))
    return made


def _finish(sheet: Worksheet, at: int, book: NewBook, last: int) -> None:
    """The column that numbers the rows, what stays in sight, how it is printed, and what is locked."""
    _head(sheet, at, book.mark, key=False)
    sheet.cell(2, at).number_format = _TEXT
    sheet.column_dimensions[get_column_letter(at)].hidden = True
    keys = sum(column.key for column in book.columns)  # which come first
    sheet.freeze_panes = sheet.cell(2, keys + 1)
    sheet.auto_filter.ref = f"A1:{get_column_letter(at)}{max(last, 2)}"
    sheet.page_setup.orientation, sheet.sheet_properties.pageSetUpPr = "landscape", PageSetupProperties(fitToPage=True)
    sheet.page_setup.fitToHeight = 0
    sheet.print_title_rows = "1:1"
    sheet.protection.sheet = True
    for allowed in ("formatCells", "formatColumns", "formatRows", "insertRows", "deleteRows", "sort", "autoFilter"):
        setattr(sheet.protection, allowed, False)  # what is not protected


def _about(made: Workbook, book: NewBook) -> None:
    sheet = made.create_sheet(ABOUT_SHEET)
    for at, line in enumerate(book.about, start=1):
        cell = sheet.cell(at, 1, line)
        cell.data_type = "s"  # never a formula
        cell.alignment = Alignment(wrap_text=True, vertical="top")
    sheet.column_dimensions["A"].width = 100
    if book.carried is not None:
        base = made.create_sheet(BASE_SHEET)
        base.sheet_state = "hidden"
        for at, text in enumerate(packed(book.carried), start=1):
            base.cell(at, 1, text).data_type = "s"


def _head(sheet: Worksheet, at: int, name: str, *, key: bool) -> None:
    cell = sheet.cell(1, at, name)
    cell.data_type = "s"
    cell.font, cell.fill = Font(bold=True), _KEY if key else _HEAD


def _style(sheet: Worksheet, at: int, column: SheetColumn) -> None:
    """The looks of a column's cells: those of its second row serve all others; new rows have those of the column."""
    form = (
        f"0.{'0' * column.scale}" if column.kind is Kind.DECIMAL and column.scale else _FORMATS.get(column.kind, _TEXT)
    )
    form = "0" if column.kind is Kind.DECIMAL and not column.scale else form
    cell, whole = sheet.cell(2, at), sheet.column_dimensions[get_column_letter(at)]
    cell.number_format = whole.number_format = form
    whole.protection = Protection(locked=False)
    side = "left" if form == _TEXT else "right"
    for one in (cell, sheet.cell(1, at)):
        one.alignment = Alignment(horizontal=side, indent=1)
    whole.alignment = Alignment(horizontal=side, indent=1)
    cell.protection = Protection(locked=column.key or column.beside)
    if column.beside:
        cell.fill = _BESIDE
    if column.key:
        cell.fill = _KEY


def _width(name: str, values: pa.Array) -> float:
    texts = shown(values.slice(0, _LOOKED_AT)).drop_null()
    longest = pc.max(pc.utf8_length(texts)).as_py() or 0
    return float(min(max(len(name) + 4, longest + 2), _WIDEST))


def _list(lists: Worksheet, at: int, column: SheetColumn) -> str:
    """Write what a column may hold into the sheet of lists; the range."""
    choice = column.choice
    assert choice is not None  # noqa: S101 - so it is called
    cells = serials(choice.values, column.kind, base_1904=False)
    for row, text in enumerate(cells.to_pylist(), start=1):
        if text is not None:
            cell = lists.cell(row, at, float(text[1:]) if text[0] == "n" else text[1:])
            if text[0] != "n":
                cell.data_type = "s"
    for row, name in enumerate(choice.names.to_pylist() if choice.names is not None else (), start=1):
        lists.cell(row, at + 1, name or "").data_type = "s"
    letter = get_column_letter(at)
    right = get_column_letter(at + 1) if choice.names is not None else letter
    count = max(len(choice.values), 1)
    name = f"list_{at}"
    area = f"{quote_sheetname(LISTS_SHEET)}!${letter}$1:${right}${count}"
    lists.parent.defined_names[name] = DefinedName(name, attr_text=area)
    return f"{quote_sheetname(LISTS_SHEET)}!${letter}$1:${letter}${count}"


def _validations(column: SheetColumn, source: str | None) -> list[DataValidation]:
    """What a program that opens the sheet is to check."""
    blank = not column.required
    if source is not None:
        found = DataValidation(type="list", formula1=f"={source}", allow_blank=blank)
        found.error = "Choose one of the list."
    elif column.least is not None or column.most is not None:
        kind = "whole" if column.kind is Kind.INTEGER else "decimal"
        low, high = column.least, column.most
        how = (
            "between"
            if low is not None and high is not None
            else "greaterThanOrEqual"
            if low is not None
            else "lessThanOrEqual"
        )
        first, second = (low, high) if how == "between" else (low if low is not None else high, None)
        found = DataValidation(
            type=kind, operator=how, formula1=_plain(first), formula2=None if second is None else _plain(second),
            allow_blank=blank,
        )  # fmt: skip
        words = {"between": f"from {_plain(low)} to {_plain(high)}", "greaterThanOrEqual": f"{_plain(low)} or more"}
        found.error = f"A number, {words.get(how, f'{_plain(high)} or less')}."
    elif column.length is not None and column.kind is Kind.TEXT:
        found = DataValidation(
            type="textLength", operator="lessThanOrEqual", formula1=str(column.length), allow_blank=blank
        )
        found.error = f"At most {column.length} letters."
    else:
        return []
    found.errorTitle = column.name[:30]
    found.showErrorMessage = True
    return [found]


def _plain(value: float | None) -> str:
    return "" if value is None else repr(value).removesuffix(".0")


def _with_rows(data: bytes, book: NewBook, rows: pa.Table) -> bytes:
    """The sheet's XML with all rows in place of the second one."""
    found = re.search(rb'<row r="2".*?</row>', data, re.DOTALL)
    assert found is not None  # noqa: S101 - the skeleton has it
    styles = {
        one[1].decode(): one[2].decode() for one in re.finditer(rb'<c r="([A-Z]+)2"(?: s="(\d+)")?', found[0]) if one[2]
    }
    numbers = range(2, rows.num_rows + 2)
    parts: list[list[str]] = [[f'<row r="{number}">' for number in numbers]]
    at = 0
    for column in book.columns:
        at += 1
        letter = get_column_letter(at)
        parts.append(_cells(letter, styles.get(letter, "0"), as_array(rows[column.name]), column, numbers))
        if column.choice is not None and column.choice.names is not None:
            at += 1
            parts.append(_names(get_column_letter(at), letter, styles, rows, column, numbers, book))
    letter = get_column_letter(at + 1)
    style = styles.get(letter, "0")
    parts.append(
        [f'<c r="{letter}{n}" s="{style}" t="inlineStr"><is><t>{book.run}:{n - 1}</t></is></c></row>' for n in numbers]
    )
    body = "".join(map("".join, zip(*parts, strict=True)))
    return data[: found.start()] + body.encode() + data[found.end() :]


def _cells(letter: str, style: str, values: pa.Array, column: SheetColumn, numbers: Sequence[int]) -> list[str]:
    """The cells of a column as XML. What a spreadsheet would spoil is text."""
    as_text = spoiled(values, column.kind)
    blank = f'" s="{style}"/>'
    if as_text.all():
        texts = shown(values)
        quick = bool(pc.all(pc.match_substring_regex(texts.drop_null(), _PLAIN)).as_py() is not False)
        return [
            f'<c r="{letter}{n}{blank}' if text is None or text == "" else
            f'<c r="{letter}{n}" s="{style}" t="inlineStr"><is><t xml:space="preserve">'
            f"{text if quick else escaped(text)}</t></is></c>"
            for n, text in zip(numbers, texts.to_pylist(), strict=True)
        ]  # fmt: skip
    exact = serials(keep(values, ~as_text), column.kind, base_1904=False).to_pylist()
    spelled: list[Any] = [None] * len(values)
    if as_text.any():
        for index in np.flatnonzero(as_text & valid(values)).tolist():
            spelled[index] = shown(values.slice(index, 1))[0].as_py()
    kind = "b" if column.kind is Kind.BOOLEAN else "n"
    return [
        f'<c r="{letter}{n}" s="{style}" t="inlineStr"><is><t>{escaped(text)}</t></is></c>' if text is not None else
        f'<c r="{letter}{n}{blank}' if cell is None else
        f'<c r="{letter}{n}" s="{style}" t="{kind}"><v>{cell[1:]}</v></c>'
        for n, cell, text in zip(numbers, exact, spelled, strict=True)
    ]  # fmt: skip


def _names(
    own: str, letter: str, styles: Mapping[str, str], rows: pa.Table, column: SheetColumn, numbers: Sequence[int],
    book: NewBook,
) -> list[str]:  # fmt: skip
    """The readable names beside a column, by a formula that follows what is chosen there."""
    choice = column.choice
    assert choice is not None  # noqa: S101 - so it is called
    assert choice.names is not None  # noqa: S101
    at = 1
    for other in book.columns:
        if other is column:
            break
        at += 0 if other.choice is None else 1 + (other.choice.names is not None)
    place = pc.index_in(as_array(rows[column.name]), value_set=choice.values)
    texts = choice.names.take(place).to_pylist()
    style = styles.get(own, "0")
    return [
        f'<c r="{own}{n}" s="{style}" t="str"><f>IFERROR(VLOOKUP({letter}{n},list_{at},2,FALSE),"")</f>'
        f"<v>{escaped(text or '')}</v></c>"
        for n, text in zip(numbers, texts, strict=True)
    ]


def spoiled(values: pa.Array, kind: Kind) -> Mask:
    """The values that a spreadsheet's number would not keep: they are written as text."""
    length = len(values)
    if pa.types.is_string(values.type) or pa.types.is_binary(values.type) or kind in (Kind.TEXT, Kind.UUID, Kind.JSON):
        return np.ones(length, bool)
    match kind:
        case Kind.INTEGER | Kind.DECIMAL:
            digits = pc.replace_substring_regex(pc.cast(values, pa.string()), r"[^0-9]|^-?0*\.?0*", "")
            return mask_of(pc.greater(pc.utf8_length(digits), _DIGITS))
        case Kind.DATE:
            days = pc.cast(pc.cast(values, pa.int32()), pa.int64())
            return mask_of(pc.less(days, FIRST_DAY - 25_569))
        case Kind.TIMESTAMP if values.type.tz is None:
            micros = pc.cast(values, pa.int64())
            whole = pc.equal(pc.multiply(pc.divide(micros, 1_000_000), 1_000_000), micros)
            return ~mask_of(whole) & valid(values) | mask_of(pc.less(micros, (FIRST_DAY - 25_569) * 86_400_000_000))
        case Kind.TIMESTAMP:
            return np.ones(length, bool)
        case Kind.TIME:
            micros = pc.cast(values, pa.int64())
            return ~mask_of(pc.equal(pc.multiply(pc.divide(micros, 1_000_000), 1_000_000), micros)) & valid(values)
        case Kind.FLOAT:
            odd: Mask = ~np.isfinite(values.fill_null(0).to_numpy(zero_copy_only=False))
            return odd
        case _:
            return np.zeros(length, bool)
