"""Cells of a sheet that look blank and are not: formula errors, and formulas whose result nobody has stored.

Source: ECMA-376, part 1, 18.3.1.4 (cells), 18.18.11 (their types).
"""

import re
from pathlib import Path

from msgspec import Struct, field

from tidymerge.core.naming.letters import column_index
from tidymerge.errors import BrokenFile, TargetUnreadable
from tidymerge.formats.sheet.package import Package

_CELL = re.compile(
    rb"<(?:\w+:)?c\b(?P<about>[^>]*?)(?:/>|>(?P<inside>(?:(?!</(?:\w+:)?c>).)*)</(?:\w+:)?c>)", re.DOTALL
)
_IS = rb"""\s*=\s*["']"""  # between an attribute's name and its value, as XML has it
_PLACE = re.compile(rb"\br" + _IS + rb"([A-Z]{1,3})([0-9]+)[\"']")
_KIND = re.compile(rb"\bt" + _IS + rb"(\w+)[\"']")
_ERROR = re.compile(rb"\bt" + _IS + rb"e[\"']")
_VALUE = re.compile(rb"<(?:\w+:)?v(?:\s[^>]*)?>([^<]+)</")
_FORMULA = re.compile(rb"<(?:\w+:)?f\b")


_ROW_NUMBER = re.compile(rb"<(?:\w+:)?row\b[^>]*?\br" + _IS + rb"(\d+)[\"']")
_FAR = re.compile(rb"r" + _IS + rb"(?:[A-Z]{2,}\d|[A-Z]*\d{7,})")  # beyond column Z, or row 999,999
_LETTERS = re.compile(rb"r" + _IS + rb"([A-Z]+)\d+[\"']")
_FILLED = re.compile(rb"<(?:\w+:)?c\b[^>]*?\br" + _IS + rb"([A-Z]+)(\d+)[\"'][^>/]*>")
_ROWS, _COLUMNS = 1_048_576, 16_384  # of a sheet: ECMA-376
_MOST_CELLS = 50_000_000  # from the first to the last, blank ones too: what is read is a rectangle


def _check_extent(data: bytes, path: Path, sheet: str) -> None:
    """Refuse a sheet whose last value stands so far out that the cells up to it can't be held. Raises BrokenFile."""
    if not _FAR.search(data):
        return
    rows = max(map(int, _ROW_NUMBER.findall(data)), default=0)
    named = {cell[1] for cell in _LETTERS.finditer(data)}
    columns = max((column_index(letters.decode()) for letters in named), default=0) + 1
    if rows <= _ROWS and columns <= _COLUMNS and rows * columns <= _MOST_CELLS:
        return
    last_row = last_column = 0
    for cell in _FILLED.finditer(data):
        last_row = max(last_row, int(cell[2]))
        last_column = max(last_column, column_index(cell[1].decode()) + 1)
    last_row = max(last_row, rows if rows > _ROWS else 0)
    if last_row > _ROWS or last_column > _COLUMNS or last_row * last_column > _MOST_CELLS:
        raise BrokenFile(
            f"The sheet {sheet!r} of {path} has its last value in row {last_row:,} and column {last_column:,}: too far "
            f"out to be read. Delete what stands below and beside the rows, and save it again."
        )


class Faults(Struct, frozen=True):
    """By row and column, counted from 0: the errors by their names, and the formulas without a result."""

    errors: dict[tuple[int, int], str] = field(default_factory=dict)
    uncalculated: frozenset[tuple[int, int]] = frozenset()


NONE = Faults()


def checked_part(path: Path, sheet: str) -> bytes:
    """The XML of a sheet, found to be of a size that can be held; of other formats than ECMA-376's nothing.

    Raises BrokenFile.
    """
    if path.suffix.lower() not in (".xlsx", ".xlsm"):
        return b""
    try:
        package = Package(path)
        part = package.sheets().get(sheet)
        data = b"" if part is None else package.read(part)
    except TargetUnreadable:
        return b""  # what reads the cells is less particular
    _check_extent(data, path, sheet)
    return data


def faults(data: bytes) -> Faults:
    """What looks blank in the XML of a sheet and is not."""
    may_have = (b"<f" in data or b":f" in data) and _FORMULA.search(data)
    if not may_have and not _ERROR.search(data):
        return NONE
    errors, uncalculated = {}, set()
    for cell in _CELL.finditer(data):
        place, kind = _PLACE.search(cell["about"]), _KIND.search(cell["about"])
        inside = cell["inside"] or b""
        if place is None:
            continue
        at = int(place[2]) - 1, column_index(place[1].decode())
        value = _VALUE.search(inside)
        if kind is not None and kind[1] == b"e":
            errors[at] = value[1].decode() if value else "#ERROR"
        elif value is None and (kind is None or kind[1] != b"str") and _FORMULA.search(inside):
            uncalculated.add(at)
    return Faults(errors, frozenset(uncalculated))
