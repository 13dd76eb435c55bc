"""Cells of a sheet that look blank and are not: formula errors, and formulas whose result nobody has stored.

Source: ECMA-376, part 1, 18.3.1.4 (cells), 18.18.11 (their types).
"""

import re
from dataclasses import dataclass, field
from pathlib import Path

from tidymerge.errors import TargetUnreadable
from tidymerge.sources.package import Package
from tidymerge.sources.table import column_index

_CELL = re.compile(
    rb"<(?:\w+:)?c\b(?P<about>[^>]*?)(?:/>|>(?P<inside>(?:(?!</(?:\w+:)?c>).)*)</(?:\w+:)?c>)", re.DOTALL
)
_PLACE = re.compile(rb'\br="([A-Z]{1,3})([0-9]+)"')
_KIND = re.compile(rb'\bt="(\w+)"')
_VALUE = re.compile(rb"<(?:\w+:)?v(?:\s[^>]*)?>([^<]+)</")
_FORMULA = re.compile(rb"<(?:\w+:)?f\b")


@dataclass(frozen=True, slots=True)
class Faults:
    """By row and column, counted from 0: the errors by their names, and the formulas without a result."""

    errors: dict[tuple[int, int], str] = field(default_factory=dict)
    uncalculated: frozenset[tuple[int, int]] = frozenset()


NONE = Faults()


def faults(path: Path, sheet: str) -> Faults:
    """What looks blank in a sheet and is not. Of other formats than ECMA-376's nothing is known."""
    if path.suffix.lower() not in (".xlsx", ".xlsm"):
        return NONE
    try:
        package = Package(path)
        part = package.sheets().get(sheet)
        data = b"" if part is None else package.read(part)
    except TargetUnreadable:
        return NONE  # what reads the cells is less particular
    if b't="e"' not in data and not _FORMULA.search(data):
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
