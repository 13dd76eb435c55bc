"""From incoming cells to the cells that a column rule makes of them, before they are cast to the target's type."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.tidy.convert import as_text, tidy_arrays
from tidymerge.core.tidy.numbers import number_text
from tidymerge.core.tidy.steps import About, CellStep, Step, TextStep
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import Flaw, Incoming, IncomingColumn, Kind, Mask
from tidymerge.model.rules import ColumnRule


class Shaped(Struct, frozen=True):
    """The cells for one target column, what went wrong, and the rows whose cell says "clear this"."""

    arrays: tuple[pa.Array, ...]
    flaws: tuple[Flaw, ...]
    cleared: Mask


def shape_column(incoming: Incoming, rule: ColumnRule, kind: Kind, clear_mark: str | None) -> Shaped:
    """Apply the steps of a rule that fetches its value from incoming columns or is a constant."""
    rows = len(incoming.row_numbers)
    cleared = np.zeros(rows, bool)
    if rule.constant is not None:
        return Shaped((pa.repeat(pa.scalar(rule.constant), rows),), (), cleared)
    columns = [incoming.column(name) for name in rule.sources]
    arrays = tidy_arrays(columns[0].arrays)
    if clear_mark is not None:
        arrays, cleared = _take_mark(arrays, clear_mark, rows)
    if len(columns) > 1:
        arrays = [_joined(columns, rule.join)]
    about = About(" + ".join(rule.sources), kind)
    steps = [step for step in rule.steps if isinstance(step, Step)]
    needs_text = any(step.needs_text for step in steps)
    if needs_text or len(columns) > 1:
        about.flaws.extend(flaw for column in columns for flaw in _digits_lost(column))
    if needs_text:
        texts = _one_text(arrays, rows)
        for step in [step for step in steps if isinstance(step, TextStep)]:
            texts = step.of_texts(texts, about)
        arrays = [tidy(texts)]
    for cell_step in [step for step in steps if isinstance(step, CellStep)]:
        arrays = [cell_step.of_cells(array, about) for array in arrays]
    flaws = [flaw if flaw.cells else replace(flaw, cells=rule.sources) for flaw in about.flaws]
    return Shaped(tuple(arrays), tuple(flaws), cleared)


def _take_mark(arrays: Sequence[pa.Array], mark: str, rows: int) -> tuple[list[pa.Array], Mask]:
    cleared = np.zeros(rows, bool)
    kept = []
    for array in arrays:
        if not pa.types.is_string(array.type):
            kept.append(array)
            continue
        marked = pc.equal(array, mark).fill_null(False)
        cleared |= marked.to_numpy(zero_copy_only=False)
        kept.append(pc.if_else(marked, pa.scalar(None, pa.string()), array))
    return kept, cleared


def _one_text(arrays: Sequence[pa.Array], rows: int) -> pa.Array:
    return as_text(IncomingColumn("", tuple(arrays))) if arrays else pa.nulls(rows, pa.string())


def _digits_lost(column: IncomingColumn) -> list[Flaw]:
    """Numbers that have lost digits before they could become texts."""
    found = [number_text(array).bad for array in column.arrays if pa.types.is_floating(array.type)]
    shown = as_text(column)
    return [
        Flaw(bad.reason, bad.rows, bad.expected, column.name, shown.take(pa.array(bad.rows)), (column.name,))
        for some in found
        for bad in some
    ]


def _joined(columns: Sequence[IncomingColumn], join: str) -> pa.Array:
    """The texts of several columns with `join` between them; blank ones are left out."""
    texts = [_one_text(tidy_arrays(column.arrays), len(column.arrays[0])) for column in columns]
    joined = pc.binary_join_element_wise(*texts, join, null_handling="skip")
    return pc.if_else(pc.equal(joined, ""), pa.scalar(None, pa.string()), joined)
