"""The number formats of a workbook's cells, by the number of their style (ECMA-376, 18.8)."""

import re
from copy import deepcopy
from functools import cached_property

from lxml import etree
from openpyxl.styles.numbers import builtin_format_code, is_date_format

from tidymerge.formats.sheet.package import Package, local, parsed
from tidymerge.formats.sheet.parts import elements, named, tree, written
from tidymerge.model import Kind

_GENERAL = "General"
_DEFAULTS = {Kind.DATE: "yyyy-mm-dd", Kind.TIMESTAMP: "yyyy-mm-dd hh:mm:ss", Kind.TIME: "hh:mm:ss"}


class Looks:
    """The styles of a workbook; those that are added are written with it."""

    def __init__(self, package: Package) -> None:
        found = package.related(package.main, "styles")
        self._part = found[0] if found else None
        self._data = package.read(self._part) if self._part else b""
        self._added: list[tuple[str, Kind]] = []

    @cached_property
    def _formats(self) -> list[str]:
        """The format code of each style."""
        if not self._part:
            return []
        root = parsed(self._data, "The part of the styles")
        codes = {
            int(element.get("numFmtId", 0)): element.get("formatCode", _GENERAL)
            for element in root.iter()
            if local(element.tag) == "numFmt"
        }
        styles = next((element for element in root if local(element.tag) == "cellXfs"), ())
        found = []
        for style in styles:
            number = int(style.get("numFmtId", 0))
            found.append(codes.get(number) or builtin_format_code(number) or _GENERAL)
        return found

    def format(self, style: str | None) -> str:
        """The format code of a style."""
        number = int(style or 0)
        if number >= len(self._formats):
            return _GENERAL
        return self._formats[number]

    def is_date(self, style: str | None) -> bool:
        """Whether numbers of that style are shown as dates or times."""
        return bool(is_date_format(self.format(style)))

    def decimals(self, style: str | None) -> int | None:
        """How many decimals numbers of that style are shown with, None if that is left open."""
        code = re.sub(r'"[^"]*"|\\.|\[[^\]]*\]', "", self.format(style).split(";")[0])
        if not re.search(r"[0#?]", code) or re.search(r"[eE/]", code):
            return None
        after = re.search(r"\.([0#?]+)", code)
        return (len(after[1]) if after else 0) + (2 if "%" in code else 0)

    def with_format(self, style: str | None, kind: Kind) -> str:
        """The number of a style that looks like another one, but shows dates or times."""
        wanted = (style or "0", kind)
        if wanted not in self._added:
            self._added.append(wanted)
        return str(len(self._formats) + self._added.index(wanted))

    def edited(self) -> dict[str, bytes]:
        """The part of the styles with those that were added."""
        if not self._added or self._part is None:
            return {}
        root = tree(self._data, "The part of the styles")
        styles = next(elements(root, "cellXfs"), None)
        if styles is None:
            return {}
        formats = next(elements(root, "numFmts"), None)
        if formats is None:
            formats = etree.Element(named(root, "numFmts"))
            root.insert(0, formats)
        known = list(elements(styles, "xf"))
        first = 1 + max([163, *(int(one.get("numFmtId", "0")) for one in root.iter("{*}*"))])
        for number, (style, kind) in enumerate(self._added, start=first):
            etree.SubElement(formats, named(root, "numFmt"), numFmtId=str(number), formatCode=_DEFAULTS[kind])
            like = deepcopy(known[int(style)])
            like.set("numFmtId", str(number))
            like.set("applyNumberFormat", "1")
            styles.append(like)
        for listed in (formats, styles):
            listed.set("count", str(len(listed)))
        return {str(self._part): written(root)}
