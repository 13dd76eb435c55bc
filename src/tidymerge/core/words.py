"""Small words that are true for every number: one and many, shares, and what it means that nothing was written."""

from tidymerge.model.changes import Tally


def plural(count: int, one: str, many: str) -> str:
    """The word for one or for many."""
    return one if count == 1 else many


def counted(count: int, one: str, many: str | None = None) -> str:
    """A number with its word: 1 row, 2,500 rows. `many` is `one` with an s if it is left out."""
    return f"{count:,} {plural(count, one, many or f'{one}s')}"


def share(count: int, whole: int, than: float | None = None) -> str:
    """A share in percent, with as many decimals as it takes not to say 0 %, 100 %, or the limit, where it is not."""
    if not whole:
        return "all"
    exact = count * 100 / whole
    limits = {0.0, 100.0, *(() if than is None else (than,))}
    for decimals in range(6):
        if exact in limits or round(exact, decimals) not in limits:
            return f"{exact:.{decimals}f}%"
    return f"{exact:g}%"


def what_to_do(rows: Tally, records: int, before: int, place: str, *, undo: bool = False) -> str:
    """What a run would write, as a question: with all numbers, for who looks at the last line only.

    `records` are updated, of `before` that there are.
    """
    verbs = ("put back", "remove again", "insert again") if undo else ("update", "remove", "insert")
    counts = zip(verbs, (records, rows.removed, rows.inserted), strict=True)
    parts = [f"{verb} {count:,}" for verb, count in counts if count]
    parts = parts if undo else parts[::-1]
    of = f" of {before:,}" if records or rows.removed else ""
    said = ", ".join(parts[:-1]) + (" and " if parts[:-1] else "") + parts[-1]
    word = plural(before if of else rows.inserted, "record", "records")
    return f"{said[0].upper()}{said[1:]}{of} {word} in {place}?"


def nothing_to_write(rows: Tally) -> str:
    """Why a run wrote nothing, as far as its rows tell."""
    others = " nor ".join(word for word, count in (("skipped", rows.skipped), ("rejected", rows.rejected)) if count)
    if not rows.read:
        return "Nothing to write: there were no rows."
    if not others:
        return "Nothing to write: the table already holds what the rows say."
    if not rows.unchanged:
        return f"Nothing to write: all rows were {others.replace(' nor ', ' or ')}."
    which = f"neither {others}" if rows.skipped and rows.rejected else f"not {others}"
    return f"Nothing to write: the table already holds what the rows say that were {which}."
