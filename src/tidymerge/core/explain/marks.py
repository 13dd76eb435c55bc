"""What became of each incoming row, beside the row itself: for the person who sent the rows."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from tidymerge.core.explain.rejects import complaints, rejected_rows
from tidymerge.core.tidy.cells import as_array, shown
from tidymerge.core.tidy.convert import as_text
from tidymerge.model import Incoming, Indices, Pair, Pairing
from tidymerge.model.changes import ChangeSet, Outcome


class MarkedCell(Struct, frozen=True):
    """A cell to be picked out: of the incoming `column` in the row numbered `row`; `before` if the load changed it."""

    row: int
    column: str
    rejected: bool
    before: str | None = None


class Marks(Struct, frozen=True):
    """For incoming rows their numbers, what became of them, why, what changed, and the key, all as text."""

    rows: Indices
    outcomes: np.ndarray
    texts: pa.Table
    cells: tuple[MarkedCell, ...]


def marks_of(incoming: Incoming, changes: ChangeSet, pairing: Pairing) -> Marks:
    """The marks of some rows; `texts` has the columns why, changed and key."""
    length = len(incoming.row_numbers)
    why = np.full(length, "", object)
    for words, rows in changes.skips.items():
        why[rows] = words
    bad = rejected_rows(changes)
    why[bad] = complaints(changes, bad)
    changed = np.full(length, "", object)
    cells: list[MarkedCell] = []
    for pair in pairing.pairs:
        mask = changes.updates.changed.get(pair.target.name)
        if mask is not None and mask.any():
            rows = changes.updates.rows[mask]
            changed[rows] = np.where(changed[rows] == "", pair.target.name, changed[rows] + ", " + pair.target.name)
            cells += _changed_cells(incoming, changes, pair, mask)
    for flaw in changes.flaws:
        for column in flaw.cells:
            cells += [MarkedCell(int(number), column, True) for number in incoming.row_numbers[flaw.rows]]
    keys = [_source(incoming, pair) for name in pairing.key for pair in pairing.pairs if pair.target.name == name]
    if not keys:
        keys = [pa.nulls(length, pa.string())]
    key = pc.binary_join_element_wise(*keys, " / ") if len(keys) > 1 else keys[0]  # null where a part is blank
    texts = pa.table({"why": pa.array(why, pa.string()), "changed": pa.array(changed, pa.string()), "key": key})
    return Marks(incoming.row_numbers, changes.outcomes, texts, tuple(cells))


def _source(incoming: Incoming, pair: Pair) -> pa.Array:
    """The incoming cells that feed a column, as text."""
    known = {column.name for column in incoming.columns}
    texts = [as_text(incoming.column(name)) for name in pair.rule.sources if name in known]
    if not texts:
        return pa.nulls(len(incoming.row_numbers), pa.string())
    return texts[0] if len(texts) == 1 else pc.binary_join_element_wise(*[t.fill_null("") for t in texts], " ")


def _changed_cells(incoming: Incoming, changes: ChangeSet, pair: Pair, mask: np.ndarray) -> list[MarkedCell]:
    before = as_array(changes.updates.before[pair.target.name]).filter(pa.array(mask))
    texts = shown(before).to_pylist()
    numbers = incoming.row_numbers[changes.updates.rows[mask]].tolist()
    return [
        MarkedCell(number, source, False, "(blank)" if text is None else text)
        for source in pair.rule.sources
        for number, text in zip(numbers, texts, strict=True)
    ]


def status(outcome: int, *, preview: bool) -> str:
    """What became of a row, or would, in words."""
    word = Outcome(outcome).name.lower()
    return f"would be {word}" if preview and outcome not in (Outcome.UNCHANGED, Outcome.REJECTED) else word


def together(parts: Sequence[Marks]) -> Marks:
    """The marks of all parts, in the order of the rows."""
    rows = np.concatenate([part.rows for part in parts])
    order = np.argsort(rows, kind="stable")
    cells = tuple(sorted((cell for part in parts for cell in part.cells), key=lambda cell: cell.row))
    texts = pa.concat_tables([part.texts for part in parts]).take(pa.array(order))
    return Marks(rows[order], np.concatenate([part.outcomes for part in parts])[order], texts, cells)
