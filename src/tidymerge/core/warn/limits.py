"""The brake: what a load may do at most, said by the job, or by good sense where it says nothing."""

import re
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.words import counted as number_of
from tidymerge.core.words import plural, share
from tidymerge.errors import BadOption
from tidymerge.model.changes import Tally
from tidymerge.model.rules import Limits, Most

# Below these, "half of the table" and "a tenth of the rows" are nothing to stop for.
_LARGE_SHEET, _LARGE_TABLE = 20, 100
_USUAL_UPDATED, _USUAL_REJECTED, _USUAL_REMOVED = 50, 10, 10  # percent
_BASES = {"updated": "target", "inserted": "target", "removed": "target", "rejected": "incoming"}


def parse_most(text: str, what: str) -> Most:
    """A limit such as 500, 20% or "20% of incoming". Raises BadOption."""
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(%)?(?:\s*of\s+(target|incoming))?\s*", text)
    if not found or (found[3] and not found[2]) or (not found[2] and "." in found[1]):
        raise BadOption(
            f"The limit on {what} rows is a number, as in 500, or a share, as in 20% or '20% of incoming', "
            f"not {text!r}."
        )
    return Most(float(found[1]), found[3] or _BASES[what] if found[2] else None)


class Excess(Struct, frozen=True):
    """A limit that a run goes over, in words; with the limit of this name at that count it would go ahead.

    Where that is no number but a permission, the count is True.
    """

    words: str
    name: str
    count: int | bool

    @property
    def given(self) -> str:
        """The count as it is given; nothing for a permission."""
        return "" if self.count is True else str(self.count)


def exceeded(limits: Limits, counted: Tally, rows_before: int, records: int, marked: int = 0) -> list[Excess]:
    """The limits that a decided load goes over, which updates so many `records`, and has some `marked` as gone."""
    found = []
    if limits.fewest_rows is not None and counted.read < limits.fewest_rows:
        found.append(
            Excess(
                f"{counted.read:,} {plural(counted.read, 'row was', 'rows were')} read, and there should be at least "
                f"{limits.fewest_rows:,}. Is the sheet complete?",
                "fewest_rows",
                counted.read,
            )
        )
    for what in ("updated", "inserted", "removed"):
        wanted, count = getattr(limits, f"expect_{what}"), getattr(counted, what)
        if wanted is not None and count != wanted:
            words = f"{number_of(count, 'row')} would be {what}, not {wanted:,} as expected."
            found.append(Excess(words, f"expect_{what}", count))
    gone = replace(counted, removed=counted.removed + marked)
    for what in _BASES:
        over = _over(what, limits, gone, rows_before, records)
        found += [Excess(words, f"most_{what}", getattr(gone, what)) for words in over]
    return found


def doubts(limits: Limits, counted: Tally, rows_before: int, records: int, key: Sequence[str]) -> list[str]:
    """What is worth a warning although no limit stops it, unless just so many rows were asked for."""

    def is_settled(what: str) -> bool:
        meant = _is_meant(limits, what, getattr(counted, what))
        return meant or bool(_over_usual(limits, what, counted, rows_before, records))

    found = []
    if _none_matched(counted, rows_before) and not is_settled("inserted"):
        found.append(
            f"No row matched: {counted.inserted:,} good {plural(counted.inserted, 'row', 'rows')} would be inserted "
            f"as new. Is the key ({' + '.join(key)}) the right one, and written the same way on both sides?"
        )
    if records >= _LARGE_SHEET and records == rows_before and not is_settled("updated"):
        found.append(f"Every one of the {rows_before:,} records of the target would change.")
    return found


def _is_meant(limits: Limits, what: str, count: int) -> bool:
    """Whether just so many rows were asked for."""
    return count in (getattr(limits, f"expect_{what}", None), _number(getattr(limits, what)))


def _number(most: Most | None) -> float | None:
    return None if most is None or most.share_of is not None else most.number


def _over(what: str, limits: Limits, counted: Tally, rows_before: int, records: int) -> list[str]:
    most, count = getattr(limits, what), getattr(counted, what)
    if most is None:
        return _over_usual(limits, what, counted, rows_before, records)
    if what == "updated" and most.share_of == "target":  # several rows may update one record, or one several
        count = records
    whole = counted.read if most.share_of == "incoming" else rows_before
    if count <= (most.number if most.share_of is None else most.number * whole / 100):
        return []
    said = f"{number_of(count, 'row')} would be {what}"
    if most.share_of is None:
        return [f"{said}, more than the limit of {most.number:,.0f}."]
    of = "the rows read" if most.share_of == "incoming" else "the target's records"
    part = share(count, whole, most.number)
    return [f"{said}, {part} of the {whole:,} that are {of}: more than {most.number:g}%."]


def _over_usual(limits: Limits, what: str, counted: Tally, rows_before: int, records: int) -> list[str]:
    """What nobody limited, but no careful person would let pass unasked."""
    count = getattr(counted, what)
    if getattr(limits, what) is not None or _is_meant(limits, what, count):
        return []
    if what == "updated" and rows_before >= _LARGE_TABLE and records > rows_before * _USUAL_UPDATED / 100:
        part = share(records, rows_before, _USUAL_UPDATED)
        return [f"{records:,} of the target's {rows_before:,} records would change, {part}."]
    if what == "removed" and rows_before >= _LARGE_SHEET and count > rows_before * _USUAL_REMOVED / 100:
        part = share(count, rows_before, _USUAL_REMOVED)
        return [f"{count:,} of the target's {rows_before:,} records would be removed, {part}."]
    if what == "rejected" and counted.read >= _LARGE_SHEET and count > counted.read * _USUAL_REJECTED / 100:
        part = share(count, counted.read, _USUAL_REJECTED)
        return [f"{count:,} of {counted.read:,} rows {plural(count, 'is', 'are')} rejected, {part}."]
    if what == "inserted" and count >= _LARGE_SHEET and _none_matched(counted, rows_before):
        return [f"No row matched a record: all {count:,} good rows would be inserted as new. Is the key right?"]
    return []


def _none_matched(counted: Tally, rows_before: int) -> bool:
    return bool(rows_before and counted.inserted and not counted.updated + counted.unchanged)
