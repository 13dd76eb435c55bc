"""Deciding about records that are there: which meet a condition, and what becomes of each of those.

Source: docs/change.md.
"""

from collections.abc import Mapping
from datetime import datetime

import numpy as np
import pyarrow as pa
from msgspec import Struct

from tidymerge.core.decide.change_set import shapes_of, told_apart, with_changed
from tidymerge.core.decide.part import Decision
from tidymerge.core.decide.rows import flawed, key_text
from tidymerge.core.expressions import Expression, Frame, Type, rounded_to, tells_time
from tidymerge.core.tidy.cells import as_array, differs, keep, mask_of, shown, valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.model import (
    Existing,
    Flaw,
    Incoming,
    IncomingColumn,
    Kind,
    Mask,
    Pairing,
    Reason,
    TableShape,
    TargetColumn,
)
from tidymerge.model.changes import ChangeSet, Inserts, Outcome, Updates


class ChangePlan(Struct, frozen=True):
    """What is set, in records that meet `where` (None: in all): plain data, which can be pickled.

    The pairing has the columns that name a record, and those that are set, each with its expression in `sets`.
    """

    shape: TableShape
    pairing: Pairing
    sets: Mapping[str, Expression]
    where: Expression | None
    now: datetime

    @property
    def columns_read(self) -> tuple[TargetColumn, ...]:
        """The columns whose stored values are needed."""
        expressions = [*self.sets.values(), *([self.where] if self.where else [])]
        used = {name for expression in expressions for _, name in expression.uses}
        used |= {column.name for column in self.pairing.columns}
        return tuple(column for column in self.shape.columns if column.name in used)


def meeting(plan: ChangePlan, existing: Existing) -> Mask:
    """The records for which the condition is true. One whose stored values can't be read does not meet it."""
    length = existing.values.num_rows
    if plan.where is None:
        return np.ones(length, bool)
    frame, unknown = _frame(plan.where, existing, plan.now)
    met = mask_of(plan.where.evaluate(frame).fill_null(False))
    return met & ~frame.failed() & ~unknown


def only(existing: Existing, mask: Mask) -> Existing:
    """Some of the records."""
    chosen = pa.array(mask)
    return Existing(
        existing.values.filter(chosen),
        existing.places.filter(chosen),
        complete=False,
        unreadable={name: marks[mask] for name, marks in existing.unreadable.items()},
    )


def as_rows(plan: ChangePlan, existing: Existing, address: str) -> Incoming:
    """Records in the place of rows, for what is said of them: each is called by its key."""
    values = existing.values
    columns = tuple(IncomingColumn(name, (as_array(values[name]),)) for name in values.column_names)
    names = key_text(values, plan.pairing.key)
    return Incoming(address, columns, np.zeros(values.num_rows, np.int64), 0, records=names)


def change_part(plan: ChangePlan, existing: Existing, several: Mask | None = None) -> Decision:
    """Decide about records that meet the condition. All values are worked out from those before.

    `several` marks the records whose key others have, too, where the target does not see to that.
    """
    length = existing.values.num_rows
    values = existing.values
    changed: dict[str, Mask] = {}
    flaws: list[Flaw] = []
    rounded: dict[str, Mask] = {}
    flaws += _unnamed(plan, existing, several)
    for name, expression in plan.sets.items():
        column = plan.shape.column(name)
        new, wrong, off = _worked_out(column, expression, existing, plan.now)
        old = as_array(values[name])
        changed[name] = differs(new, old) | existing.unreadable.get(name, np.zeros(length, bool))
        wrong += _missing(column, new, flawed(wrong, length))
        rounded[name] = off
        values = values.set_column(values.column_names.index(name), name, new)
        flaws += wrong
    bad = flawed(flaws, length)
    touched = np.logical_or.reduce([np.zeros(length, bool), *changed.values()]) & ~bad
    outcomes = np.where(touched, Outcome.UPDATED, Outcome.UNCHANGED).astype(np.uint8)
    outcomes[bad] = Outcome.REJECTED
    updates = _updates(plan, existing, values, {name: mask[touched] for name, mask in changed.items()}, touched)
    none = Inserts(
        after=updates.after.slice(0, 0), given={name: np.zeros(0, bool) for name in updates.after.column_names}
    )
    timed = tuple(name for name, expression in plan.sets.items() if tells_time(expression.text))
    changes = ChangeSet(outcomes, tuple(flaws), plan.pairing.key, updates, none, stamps=timed)
    unreadable = {name: int(mask.sum()) for name, mask in existing.unreadable.items()}
    counts = {name: int((off & touched).sum()) for name, off in rounded.items() if (off & touched).any()}
    return Decision(changes, length, counts, {}, unreadable)


def _updates(
    plan: ChangePlan, existing: Existing, values: pa.Table, changed: Mapping[str, Mask], touched: Mask
) -> Updates:
    """The records that change, so grouped that each group can be written by one statement."""
    records = np.flatnonzero(touched)
    apart = {*plan.pairing.key, *existing.unreadable}
    shapes = shapes_of(told_apart(changed, plan.shape, apart), len(records))
    order = np.argsort(shapes, kind="stable")
    records, shapes = records[order], shapes[order]
    changed = {name: mask[order] for name, mask in changed.items()}
    names = [column.name for column in plan.pairing.columns]
    at = pa.array(records)
    before, new = existing.values.select(names).take(at), values.select(names).take(at)
    after = with_changed(before, new, changed)
    return Updates(records, records, np.arange(len(records)), before, after, changed, shapes)


def _frame(expression: Expression, existing: Existing, now: datetime) -> tuple[Frame, Mask]:
    """The columns that an expression uses, and the records in which one of them can't be read."""
    length = existing.values.num_rows
    columns = {(scope, name): as_array(existing.values[name]) for scope, name in expression.uses}
    unknown = [existing.unreadable[name] for _, name in expression.uses if name in existing.unreadable]
    return Frame(columns, length, now), np.logical_or.reduce([np.zeros(length, bool), *unknown])


def _worked_out(
    column: TargetColumn, expression: Expression, existing: Existing, now: datetime
) -> tuple[pa.Array, list[Flaw], Mask]:
    """The new values of a column, what is wrong with them, and which are rounded to the column's decimals."""
    frame, unknown = _frame(expression, existing, now)
    found = expression.evaluate(frame)
    failed = frame.failed() | unknown
    flaws = [
        Flaw(Reason.NOT_COMPUTED, np.flatnonzero(one.rows), f"a value that does not fail: it {one.words}", column.name)
        for one in frame.failures
    ]
    rows = np.flatnonzero(unknown & ~frame.failed())
    if len(rows):
        flaws.append(Flaw(Reason.NOT_COMPUTED, rows, "values of their columns' types to work with", column.name))
    if failed.any():
        found = keep(found, ~failed)
    off = np.zeros(len(found), bool)
    if expression.type is Type.NUMBER and column.type.kind in (Kind.INTEGER, Kind.DECIMAL):
        places = 0 if column.type.kind is Kind.INTEGER else column.type.scale
        if places is not None:
            found, off = rounded_to(found, places)
    cast = cast_cells([found] if found.null_count < len(found) else [], column.type, len(found))
    for bad in cast.bad:
        texts = shown(found).take(pa.array(bad.rows))
        flaws.append(Flaw(bad.reason, bad.rows, bad.expected, column.name, texts))
    return cast.values, flaws, off & valid(cast.values)


def _missing(column: TargetColumn, new: pa.Array, bad: Mask) -> list[Flaw]:
    """The records that would be left without a value in a column that may not be empty."""
    rows = np.flatnonzero(~valid(new) & ~bad)
    if column.nullable or not len(rows):
        return []
    return [Flaw(Reason.BLANK_NOT_ALLOWED, rows, f"a value: {column.name} may not be empty", column.name)]


def _unnamed(plan: ChangePlan, existing: Existing, several: Mask | None) -> list[Flaw]:
    """The records that have no key, or share theirs with others: an undo could not find them again."""
    of_key = " + ".join(plan.pairing.key)
    keys = existing.values.select(plan.pairing.key)
    there = np.logical_and.reduce([valid(as_array(keys[name])) for name in keys.column_names])
    flaws = []
    if several is not None and several.any():
        flaws.append(Flaw(Reason.SEVERAL_RECORDS, np.flatnonzero(several & there), f"one record of that {of_key}"))
    if not there.all():
        rows = np.flatnonzero(~there)
        flaws.append(Flaw(Reason.BLANK_KEY, rows, f"a value in {of_key}, by which an undo finds the record"))
    return flaws
