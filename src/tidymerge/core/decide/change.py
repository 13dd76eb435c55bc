"""Deciding about records that are there: which meet a condition, and what becomes of each of those.

Source: docs/change.md.
"""

from collections.abc import Mapping, Sequence
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.change_set import shapes_of, told_apart, with_changed
from tidymerge.core.decide.columns import Converted, Surroundings
from tidymerge.core.decide.rows import flawed, key_text
from tidymerge.core.expressions import Expression, Frame, Type, rounded_to, tells_time, terms_of
from tidymerge.core.tidy.cells import as_array, differs, keep, mask_of, shown, valid
from tidymerge.core.tidy.convert import cast_cells
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import (
    EqualTexts,
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
from tidymerge.model.rules import Find
from tidymerge.model.terms import Term


class ChangePlan(Struct, frozen=True):
    """What is set, in records that meet `where` (None: in all): plain data, which can be pickled.

    The pairing has the columns that name a record, and those that are `set`, by their rules. `around` has the compiled
    expressions, the look-up tables and the stamps; columns `beside` are read, too.
    """

    shape: TableShape
    pairing: Pairing
    set: tuple[str, ...]
    where: Expression | None
    around: Surroundings
    beside: tuple[str, ...] = ()

    @property
    def columns_read(self) -> tuple[TargetColumn, ...]:
        """The columns whose stored values are needed."""
        expressions = [*self.around.computes.values(), *([self.where] if self.where else [])]
        used = {name for expression in expressions for _, name in expression.uses}
        used.update(self.beside)
        used |= {name for pair in self.pairing.pairs for name in (pair.target.name, *pair.rule.sources)}
        return tuple(column for column in self.shape.columns if column.name in used)

    @property
    def terms(self) -> tuple[Term, ...]:
        """What the target can tell of the condition by itself; nothing where it says more than terms can."""
        if self.where is None:
            return ()
        # Not MariaDB's years, for which 50 is 2050.
        whole = (column for column in self.shape.columns if column.type.kind is Kind.INTEGER)
        numbers = {column.name for column in whole if "int" in column.type.declared.lower()}
        return terms_of(self.where.text, numbers) or ()

    @property
    def by_rule(self) -> Pairing:
        """The columns that are set by a rule other than an expression."""
        pairs = [pair for pair in self.pairing.pairs if pair.target.name in self.set and pair.rule.compute is None]
        return replace(self.pairing, pairs=tuple(pairs))

    def telling(self, equal: Mapping[Find, EqualTexts]) -> "ChangePlan":
        """The plan with what the database said of the texts that are looked up."""
        return replace(self, around=self.around.telling(equal))


class Met(Struct, frozen=True):
    """Which records meet a condition, and for which it can't be worked out: those are left alone."""

    records: Mask
    unclear: Mask


class DecidedChange(Struct, frozen=True):
    """What was decided about records that meet the condition.

    `rounded` marks, by column, those whose new value was rounded.
    """

    changes: ChangeSet
    rounded: Mapping[str, Mask]


def meeting(plan: ChangePlan, existing: Existing) -> Met:
    """The records for which the condition is true."""
    length = existing.values.num_rows
    if plan.where is None:
        return Met(np.ones(length, bool), np.zeros(length, bool))
    frame, unreadable = _frame(plan.where, existing, plan.around.now)
    met = mask_of(plan.where.evaluate(frame).fill_null(False))
    unclear = frame.failed() | unreadable
    return Met(met & ~unclear, unclear)


def only(existing: Existing, mask: Mask) -> Existing:
    """Some of the records."""
    if mask.all():
        return replace(existing, complete=False)
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


def change_part(plan: ChangePlan, existing: Existing, ruled: Converted, several: Mask | None = None) -> DecidedChange:
    """Decide about records that meet the condition. All values are worked out from those before.

    `ruled` has the columns that are set by a rule; `several` marks the records whose key others have, too, where the
    target does not see to that.
    """
    length = existing.values.num_rows
    values = existing.values
    changed: dict[str, Mask] = {}
    flaws = [*unnamed(plan, existing, several), *ruled.flaws]
    rounded: dict[str, Mask] = {}
    for pair in plan.pairing.pairs:
        column, name = pair.target, pair.target.name
        if name not in plan.set:
            continue
        old = as_array(existing.values[name])
        if name in plan.around.computes:
            new, wrong, rounded[name] = _worked_out(column, plan.around, existing)
            flaws += wrong
        else:
            new = as_array(ruled.values[name])
            flaws += _unreadable(column, pair.rule.sources, existing)
        changed[name] = differs(new, old) | existing.unreadable.get(name, np.zeros(length, bool))
        if pair.rule.sources == (name,) and column.type.kind is Kind.TEXT:
            changed[name] &= ~mask_of(pc.equal(new, tidy(old)))  # spaces that a rule says nothing of
        flaws += _missing(column, new, flawed(flaws, length))
        values = values.set_column(values.column_names.index(name), name, new)
    bad = flawed(flaws, length)
    along = [pair.target.name for pair in plan.pairing.pairs if pair.rule.stamp is not None]
    touched = _any([mask for name, mask in changed.items() if name not in along], length) & ~bad
    outcomes = np.where(touched, Outcome.UPDATED, Outcome.UNCHANGED).astype(np.uint8)
    outcomes[bad] = Outcome.REJECTED
    updates = _updates(plan, existing, values, {name: mask[touched] for name, mask in changed.items()}, touched)
    none = Inserts(
        after=updates.after.slice(0, 0), given={name: np.zeros(0, bool) for name in updates.after.column_names}
    )
    timed = [name for name, expression in plan.around.computes.items() if tells_time(expression.text)]
    changes = ChangeSet(outcomes, tuple(flaws), plan.pairing.key, updates, none, stamps=(*along, *timed))
    return DecidedChange(changes, rounded)


def _any(masks: Sequence[Mask], length: int) -> Mask:
    mask: Mask = np.logical_or.reduce([np.zeros(length, bool), *masks])
    return mask


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
    return Frame(columns, length, now), _any(unknown, length)


def _worked_out(column: TargetColumn, around: Surroundings, existing: Existing) -> tuple[pa.Array, list[Flaw], Mask]:
    """The new values of a column, what is wrong with them, and which are rounded to the column's decimals."""
    expression = around.computes[column.name]
    frame, unknown = _frame(expression, existing, around.now)
    found = expression.evaluate(frame)
    failed = frame.failed() | unknown
    flaws = [
        Flaw(Reason.NOT_COMPUTED, np.flatnonzero(one.rows), f"a value that does not fail: it {one.words}", column.name)
        for one in frame.failures
    ]
    flaws += _unreadable(column, [name for _, name in expression.uses], existing)
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


def _unreadable(column: TargetColumn, sources: Sequence[str], existing: Existing) -> list[Flaw]:
    """The records in which a value that is worked with is not of its column's type: it is not blank, and not known."""
    marks = [existing.unreadable[name] for name in sources if name in existing.unreadable]
    rows = np.flatnonzero(_any(marks, existing.values.num_rows))
    wanted = "values of their columns' types to work with"
    return [Flaw(Reason.NOT_COMPUTED, rows, wanted, column.name)] if len(rows) else []


def _missing(column: TargetColumn, new: pa.Array, bad: Mask) -> list[Flaw]:
    """The records that would be left without a value in a column that may not be empty."""
    rows = np.flatnonzero(~valid(new) & ~bad)
    if column.nullable or not len(rows):
        return []
    return [Flaw(Reason.BLANK_NOT_ALLOWED, rows, f"a value: {column.name} may not be empty", column.name)]


def unnamed(plan: ChangePlan, existing: Existing, several: Mask | None) -> list[Flaw]:
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
