"""The bars of a receipt's pictures, for the page and for the chart."""

from msgspec import Struct

from tidymerge.core.explain.wording import wording
from tidymerge.model.receipt import Action, Receipt

_MOST_COLUMNS = 15
_LONGEST, LONGEST_NAME = 110, 28
OUTCOMES = ("inserted", "updated", "removed", "unchanged", "skipped", "rejected")


class Bar(Struct, frozen=True):
    """One bar: its name, its length (1 for the longest), what stands at its end, and whose colour it has."""

    name: str
    length: float
    label: str
    colour: str


def tally_bars(receipt: Receipt) -> list[Bar]:
    """What became of the rows."""
    counts = {name: getattr(receipt.rows, name) for name in OUTCOMES}
    shown = {name: count for name, count in counts.items() if count or name in wording(receipt).counts_always}
    longest, whole = max([1, *shown.values()]), receipt.rows.read
    called = wording(receipt).called
    whole = 0 if receipt.action is Action.COMPARE else whole  # there are two
    return [
        Bar(called(name), count / longest, f"{count:,}" + (f" ({count / whole:.0%})" if whole and count else ""), name)
        for name, count in shown.items()
    ]


def column_bars(receipt: Receipt) -> list[Bar]:
    """The changes of each column; none where no column changes."""
    columns = columns_of(receipt)
    longest = max(columns.values(), default=1)
    return [Bar(cut(name, LONGEST_NAME), count / longest, f"{count:,}", "updated") for name, count in columns.items()]


def columns_of(receipt: Receipt) -> dict[str, int]:
    """How many fields of each column changed, the most first; of very many columns the last ones together."""
    several = len(receipt.tables) > 1
    found = [
        (f"{table.called}.{name}" if several else name, count)
        for table in receipt.tables
        for name, count in table.columns.items()
    ]
    found.sort(key=lambda item: (-item[1], item[0]))
    columns = dict(found[:_MOST_COLUMNS])
    rest = sum(count for _, count in found[_MOST_COLUMNS:])
    return columns | ({f"{len(found) - _MOST_COLUMNS} others": rest} if rest else {})


def cut(text: str, longest: int = _LONGEST) -> str:
    """A text that fits on a line."""
    return text if len(text) <= longest else text[: longest - 1] + "…"
