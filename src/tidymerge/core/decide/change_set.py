"""Putting together what was decided: for each touched record what is written."""

from collections.abc import Iterable, Mapping, Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.question import Question
from tidymerge.core.decide.rows import flawed
from tidymerge.core.decide.verdicts import Verdicts, with_company
from tidymerge.core.match.order import generations
from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.model import Flaw, Indices, Mask, Pair, TableShape
from tidymerge.model.changes import ChangeSet, Inserts, Outcome, Removals, Updates, asked
from tidymerge.model.rules import Blanks


class Matched(Struct, frozen=True):
    """Records to update: the incoming row and the existing record of each, and which columns change."""

    rows: Indices
    records: Indices
    changed: Mapping[str, Mask]


def change_set(
    question: Question,
    outcomes: npt.NDArray[np.uint8],
    verdicts: Verdicts,
    update: Matched,
    new_values: pa.Table,
) -> ChangeSet:
    """The records to update and to insert, and what became of the rows."""
    values = question.converted.values
    apart = {*question.pairing.key, *question.existing.unreadable}
    shapes = shapes_of(told_apart(update.changed, question.shape, apart), len(update.rows))
    order = np.lexsort((update.records, shapes))
    updated, records, shapes = update.rows[order], update.records[order], shapes[order]
    changed = {name: mask[order] for name, mask in update.changed.items()}
    inserted = _by_given(question, np.flatnonzero(outcomes == Outcome.INSERTED), new_values)
    before = question.existing.values.select(values.column_names).take(pa.array(records))
    new, fresh = values.take(pa.array(updated)), new_values.take(pa.array(inserted))
    after = with_changed(before, new, changed)
    given = {pair.target.name: _given(question, pair, fresh, inserted) for pair in question.pairing.pairs}
    removals = _removals(question, outcomes, len(updated) + len(inserted))
    positions = np.arange(len(updated) + len(inserted))
    return ChangeSet(
        outcomes=outcomes,
        flaws=tuple(verdicts.flaws),
        key=question.pairing.key,
        updates=Updates(records, updated, positions[: len(updated)], before, after, changed, shapes),
        inserts=Inserts(inserted, positions[len(updated) :], fresh, given),
        removals=removals,
        stamps=tuple(pair.target.name for pair in question.pairing.pairs if pair.rule.stamp is not None),
        skips=verdicts.skips,
    )


def _removals(question: Question, outcomes: npt.NDArray[np.uint8], first: int) -> Removals:
    """The records that go, children before their parents, staged from `first`. What they hold is not known yet."""
    rows = np.flatnonzero(outcomes == Outcome.REMOVED)
    if not len(rows):
        return Removals()
    records = question.matches.record[rows]
    order = np.argsort(-generations(question.existing.values.take(pa.array(records)), question.shape), kind="stable")
    rows, records = rows[order], records[order]
    keys = question.existing.values.select(question.pairing.key).take(pa.array(records))
    return Removals(records, rows, first + np.arange(len(rows)), keys, keys)


def with_changed(values: pa.Table, other: pa.Table, changed: Mapping[str, Mask]) -> pa.Table:
    """The values, with the other ones in their place where a column's mask says so."""
    columns = {
        name: pc.if_else(pa.array(changed[name]), as_array(other[name]), as_array(values[name]))
        if name in changed
        else values[name]
        for name in values.column_names
    }
    return pa.table(columns)


def _given(question: Question, pair: Pair, fresh: pa.Table, rows: Indices) -> Mask:
    """Which new records give a column a value: a blank leaves it to the table's default, unless blanks clear."""
    column = pair.target
    if not column.has_default:
        return np.ones(len(rows), bool)
    given = valid(as_array(fresh[column.name]))
    if column.nullable and (pair.rule.blanks or question.rules.blanks) is Blanks.CLEAR:
        return np.ones(len(rows), bool)
    cleared = question.converted.cleared.get(column.name)
    return given if cleared is None or not column.nullable else given | cleared[rows]


def _by_given(question: Question, inserted: Indices, new_values: pa.Table) -> Indices:
    """New records, parents first, and with those that give the same columns together: one statement writes them."""
    fresh = new_values.take(pa.array(inserted))
    given = {pair.target.name: _given(question, pair, fresh, inserted) for pair in question.pairing.pairs}
    return inserted[np.lexsort((-shapes_of(given, len(inserted)), generations(fresh, question.shape)))]


def told_apart(changed: Mapping[str, Mask], shape: TableShape, apart: Iterable[str]) -> dict[str, Mask]:
    """The columns by which updates are grouped: one that is rewritable can be written where it does not change.

    Those to keep `apart` are the key, and columns with values that can be in a table but not be written (2024-02-31).
    """
    together = set(shape.rewritable).difference(apart)
    return {name: mask for name, mask in changed.items() if name not in together}


def shapes_of(changed: Mapping[str, Mask], length: int) -> Indices:
    """One number for each set of columns, so that every set can be written by one statement.

    The sets are ordered as the columns are: those with the first column come last.
    """
    masks = list(changed.values())
    if len(masks) < 63:  # noqa: PLR2004 - as many as a number has bits for
        shapes = np.zeros(length, np.int64)
        for mask in masks:
            shapes = shapes * 2 + mask
        return shapes
    packed = [np.packbits(np.column_stack(masks[at : at + 8]), axis=1) for at in range(0, len(masks), 8)]
    sets = np.ascontiguousarray(np.hstack(packed))
    return np.unique(sets.view(np.dtype((np.void, sets.shape[1]))).ravel(), return_inverse=True)[1].astype(np.int64)


def reject(changes: ChangeSet, found: Sequence[Flaw]) -> ChangeSet:
    """The change set without the rows in `found` (indices into the incoming rows), which are rejected."""
    bad = flawed(found, len(changes.outcomes))
    outcomes = changes.outcomes.copy()
    outcomes[bad] = Outcome.REJECTED
    goes = ~bad[changes.leaders]
    outcomes[changes.followers[~goes]] = Outcome.REJECTED
    followers, leaders = changes.followers, changes.leaders
    return replace(
        changes,
        outcomes=outcomes,
        flaws=(*changes.flaws, *(with_company(flaw, followers, leaders) for flaw in found)),
        followers=followers[goes],
        leaders=leaders[goes],
        skips={why: rows[outcomes[rows] == Outcome.SKIPPED] for why, rows in changes.skips.items()},
        updates=changes.updates.where(~asked(bad, changes.updates.rows)),
        inserts=changes.inserts.where(~asked(bad, changes.inserts.rows)),
        removals=changes.removals.where(~asked(bad, changes.removals.rows)),
    )
