"""Sheets that come into a workbook and go again; all other parts stay as they are (ECMA-376, part 1, 18.2.19)."""

import posixpath
import re
from collections.abc import Sequence
from typing import BinaryIO

from lxml import etree

from tidymerge.core.naming.letters import column_letter
from tidymerge.errors import WriteRefused
from tidymerge.formats.sheet.package import CONTENT_TYPES, Package
from tidymerge.formats.sheet.parts import elements, named, tree, written
from tidymerge.formats.sheet.xml import spelled

_TYPE = "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"


def with_sheet(package: Package, title: str, names: Sequence[str], file: BinaryIO) -> None:
    """Write the workbook with one more sheet, at the end, that has a row of column names."""
    main, rels = package.main, _rels(package.main)
    book, relations, types = (tree(package.read(part), part) for part in (main, rels, CONTENT_TYPES))
    sheets = list(elements(book, "sheet"))
    known = set(package.names)
    part = next(name for at in range(1, len(known) + 2) if (name := _part(main, at)) not in known)
    identities = {one.get("Id") for one in elements(relations, "Relationship")}
    identity = next(name for at in range(1, len(identities) + 2) if (name := f"rId{at}") not in identities)
    id_name = next(name for name in sheets[0].attrib if str(name).endswith("}id"))
    first = sheets[0].get(id_name)
    kind = next(one.get("Type") or "" for one in elements(relations, "Relationship") if one.get("Id") == first)
    kind = f"{kind.rpartition('/')[0]}/worksheet"  # the first may be a chart
    number = max(int(one.get("sheetId") or 0) for one in sheets) + 1
    added = etree.SubElement(next(elements(book, "sheets")), named(book, "sheet"), name=title, sheetId=str(number))
    added.set(id_name, identity)
    target = posixpath.relpath(part, posixpath.dirname(main) or ".")
    etree.SubElement(relations, named(relations, "Relationship"), Id=identity, Type=kind, Target=target)
    etree.SubElement(types, named(types, "Override"), PartName=f"/{part}", ContentType=_TYPE)
    package.copy(
        file,
        {main: written(book), rels: written(relations), CONTENT_TYPES: written(types)},
        more={part: _sheet(book, names)},
    )


def _rels(part: str) -> str:
    folder, base = posixpath.split(part)
    return posixpath.join(folder, "_rels", f"{base}.rels")


def _part(main: str, number: int) -> str:
    return posixpath.join(posixpath.dirname(main), "worksheets", f"sheet{number}.xml")


def _sheet(book: etree._Element, names: Sequence[str]) -> bytes:
    """A sheet with one row of texts."""
    space = etree.QName(book).namespace
    root = etree.Element(f"{{{space}}}worksheet", nsmap={None: space})
    row = etree.SubElement(etree.SubElement(root, f"{{{space}}}sheetData"), f"{{{space}}}row", r="1")
    for at, name in enumerate(names):
        cell = etree.SubElement(row, f"{{{space}}}c", r=f"{column_letter(at)}1", t="inlineStr")
        text = etree.SubElement(etree.SubElement(cell, f"{{{space}}}is"), f"{{{space}}}t")
        text.text = spelled(name)
        text.set("{http://www.w3.org/XML/1998/namespace}space", "preserve")
    return written(root)


def without_sheet(package: Package, title: str, file: BinaryIO) -> None:
    """Write the workbook without a sheet. Raises WriteRefused where others refer to it, or are hidden."""
    seen = package.visible()
    if not any(shown for name, shown in seen.items() if name != title):
        raise WriteRefused(f"The sheet {title} can't be taken away: all others of the workbook are hidden.")
    main, rels, part = package.main, _rels(package.main), package.sheets()[title]
    _check_free(package, title, part)
    book, relations, types = (tree(package.read(one), one) for one in (main, rels, CONTENT_TYPES))
    at = list(seen).index(title)
    gone = next(one for one in elements(book, "sheet") if one.get("name") == title)
    identity = next(value for name, value in gone.attrib.items() if str(name).endswith("}id"))
    _take(gone)
    for name in list(elements(book, "definedName")):
        place = int(name.get("localSheetId") or -1)
        if place == at:
            _take(name)
        elif place > at:
            name.set("localSheetId", str(place - 1))
    for view in elements(book, "workbookView"):
        view.set("activeTab", str(max(0, int(view.get("activeTab") or 0) - (int(view.get("activeTab") or 0) >= at))))
    for one in [one for one in elements(relations, "Relationship") if one.get("Id") == identity]:
        _take(one)
    for one in [one for one in elements(types, "Override") if one.get("PartName") == f"/{part}"]:
        _take(one)
    new = {main: written(book), rels: written(relations), CONTENT_TYPES: written(types)}
    package.copy(file, new, gone={part, _rels(part)})


def _take(element: etree._Element) -> None:
    parent = element.getparent()
    if parent is not None:
        parent.remove(element)


def _check_free(package: Package, title: str, own: str) -> None:
    """Raise WriteRefused if a formula, a chart or a name of another part names the sheet."""
    spelled = etree.Element("t")
    spelled.text = title.replace("'", "''")
    text = etree.tostring(spelled, encoding="utf-8").removeprefix(b"<t>").removesuffix(b"</t>")
    sought = re.compile(rb"(?<![\w.])'?" + re.escape(text) + rb"'?!", re.IGNORECASE)
    for name in package.names:
        if name != own and name.endswith(".xml") and sought.search(package.read(name)):
            raise WriteRefused(f"The sheet {title} can't be taken away: {name} of the workbook refers to it.")
