"""The number formats of a workbook's cells, by the number of their style (ECMA-376, 18.8)."""

import re
from functools import cached_property

from openpyxl.styles.numbers import builtin_format_code, is_date_format

from tidymerge.formats.sheet.package import Package, local, parsed
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
        data = self._data
        block = re.search(rb"<((?:\w+:)?)cellXfs\b[^>]*>(.*?)</(?:\w+:)?cellXfs>", data, re.DOTALL)
        if block is None:
            return {}
        prefix = block[1]
        styles = re.findall(rb"<%bxf\b[^>]*?/>|<%bxf\b.*?</%bxf>" % (prefix, prefix, prefix), block[2], re.DOTALL)
        codes, first = [], 1 + max([163, *(int(found) for found in re.findall(rb"numFmtId=\"(\d+)\"", data))])
        for index, (style, kind) in enumerate(self._added):
            codes.append(
                b'<%bnumFmt numFmtId="%d" formatCode="%b"/>' % (prefix, first + index, _DEFAULTS[kind].encode())
            )
            like = re.sub(rb"\s(?:numFmtId|applyNumberFormat)=\"[^\"]*\"", b"", styles[int(style)])
            head = b'<%bxf numFmtId="%d" applyNumberFormat="1"' % (prefix, first + index)
            styles.append(like.replace(b"<%bxf" % prefix, head, 1))
        xfs = b'<%bcellXfs count="%d">' % (prefix, len(styles)) + b"".join(styles) + b"</%bcellXfs>" % prefix
        data = data[: block.start()] + xfs + data[block.end() :]
        return {str(self._part): _with_codes(data, prefix, codes)}


def _with_codes(data: bytes, prefix: bytes, codes: list[bytes]) -> bytes:
    """The styles with more format codes, which come first of all."""
    block = re.search(rb"<%bnumFmts\b[^>]*?(?:/>|>(.*?)</%bnumFmts>)" % (prefix, prefix), data, re.DOTALL)
    old = re.findall(rb"<%bnumFmt\b[^>]*/>" % prefix, block[1] or b"") if block else []
    new = (
        b'<%bnumFmts count="%d">' % (prefix, len(old) + len(codes))
        + b"".join([*old, *codes])
        + b"</%bnumFmts>" % prefix
    )
    if block:
        return data[: block.start()] + new + data[block.end() :]
    opening = re.search(rb"<%bstyleSheet\b[^>]*>" % prefix, data)
    at = opening.end() if opening else 0
    return data[:at] + new + data[at:]
