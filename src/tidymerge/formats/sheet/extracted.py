"""What a workbook says of the extract that it is of: by a property, and by a hidden sheet with the rows as they were.

Source: ECMA-376, part 1, 22.3 (custom properties).
"""

import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree as ET

from python_calamine import CalamineError, CalamineWorkbook, SheetTypeEnum, SheetVisibleEnum

from tidymerge.errors import TargetUnreadable
from tidymerge.formats.extracted import unpacked
from tidymerge.formats.sheet.package import local, parsed

PROPERTY = "tidymerge extract"
ABOUT_SHEET, LISTS_SHEET, BASE_SHEET = "About", "Lists", "Base"
_MOST, _FIRST = 64 << 20, 4 << 20  # bytes of a part that are looked at


def named_in_book(path: Path) -> str | None:
    """The extract that a workbook is of."""
    try:
        with zipfile.ZipFile(path) as archive:
            for info in archive.infolist():
                if info.filename.lower() == "docprops/custom.xml" and info.file_size < _MOST:
                    return next(_values(archive.read(info)), None)
    except (zipfile.BadZipFile, OSError, NotImplementedError):  # which is said when it is read
        return None
    return None


def may_be_marked(path: Path, mark: str) -> bool:
    """Whether the first texts of a workbook have a name among them: much less work than to read it."""
    try:
        with zipfile.ZipFile(path) as archive:
            for info in archive.infolist():
                if info.filename.endswith(("sharedStrings.xml", "content.xml")) or "/worksheets/" in info.filename:
                    with archive.open(info) as part:
                        if mark.encode() in part.read(_FIRST):
                            return True
    except (zipfile.BadZipFile, OSError, NotImplementedError, zlib.error):
        return False
    return False


def rows_of_book(path: Path) -> str | None:
    """The sheet with the rows, wherever it was moved: the first that can be seen and does not stand beside it."""
    try:
        found = CalamineWorkbook.from_path(str(path)).sheets_metadata
    except (CalamineError, OSError):
        return None
    seen = (one.name for one in found if one.typ == SheetTypeEnum.WorkSheet and one.visible == SheetVisibleEnum.Visible)
    return next((name for name in seen if name not in (ABOUT_SHEET, LISTS_SHEET, BASE_SHEET)), None)


def carried_in_book(path: Path) -> bytes | None:
    """The rows as they were, if a workbook carries them."""
    try:
        book = CalamineWorkbook.from_path(str(path))
        if BASE_SHEET not in book.sheet_names:
            return None
        rows = book.get_sheet_by_name(BASE_SHEET).to_python()
    except (CalamineError, OSError):
        return None
    return unpacked("".join(str(row[0]) for row in rows if row))


def _values(data: bytes) -> Iterator[str]:
    """The values of our property."""
    try:
        root = parsed(data, "The properties of the workbook")
    except TargetUnreadable:
        return
    for one in root.iter():
        if local(one.tag) == "property" and one.get("name") == PROPERTY:
            yield from _texts(one)


def _texts(element: ET.Element) -> Iterator[str]:
    yield from (one.text.strip() for one in element if one.text and one.text.strip())
