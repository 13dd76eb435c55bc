"""Movements: rows that add to what the record holds, as in `existing.stock + incoming.delta`.

Rows of one key take turns: each is worked out from what the one before it left, as if they were loaded one by one.
What is written is what the last one leaves. Source: docs/meaning.md.

    row  key  delta    turn   stock before   stock after
    0    A    5        0      10             15
    1    B    1        0      (no record)    1             with coalesce(existing.stock, 0)
    2    A    -3       1      15             12            rows 0 and 2 change record A from 10 to 12
"""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.change_set import Matched, change_set
from tidymerge.core.decide.columns import Converted, Surroundings
from tidymerge.core.decide.decide import decide
from tidymerge.core.decide.question import Question
from tidymerge.core.decide.verdicts import Verdicts
from tidymerge.core.expressions import Frame
from tidymerge.core.match.match import KeyCodes, match, ordinals
from tidymerge.core.tidy.cells import any_of, as_array, differs, keep, shown, valid
from tidymerge.core.tidy.convert import as_text, cast_cells
from tidymerge.model import Existing, Flaw, Indices, Mask, Pair, Reason
from tidymerge.model.changes import ChangeSet, Inserts, Outcome, Updates


def decide_movements(
    question: Question, left_out: Mapping[str, Mask], around: Surroundings
) -> tuple[ChangeSet, dict[str, int]]:
    """Decide about rows, some of whose values are worked out from the record; and by column how many were rounded."""
    skipped = any_of(left_out.values(), question.rows)
    turns = ordinals(question.codes.incoming)
    if not turns.any():
        converted = _worked_out(question, skipped, around)
        return decide(replace(question, converted=converted), left_out), converted.rounded
    told = _Told(question)
    for turn in range(int(turns.max()) + 1):
        rows = np.flatnonzero(turns == turn)
        asked = told.about(rows)
        converted = _worked_out(asked, skipped[rows], around)
        turned = {why: mask[rows] for why, mask in left_out.items()}
        told.hear(rows, decide(replace(asked, converted=converted), turned), converted)
    return told.together(), told.rounded


def _worked_out(question: Question, skipped: Mask, around: Surroundings) -> Converted:
    """The rows, with the values that are worked out from their records."""
    converted = question.converted
    values, flaws, rounded = converted.values, list(converted.flaws), dict(converted.rounded)
    alone = question.matches.times <= 1
    for pair in question.pairing.pairs:
        name = pair.target.name
        if name in around.movements:
            found, wrong, off = _computed(question, pair, around, alone & ~skipped)
            values = values.set_column(values.column_names.index(name), name, found)
            flaws += wrong
            if off:
                rounded[name] = rounded.get(name, 0) + off
    return replace(converted, values=values, flaws=tuple(flaws), rounded=rounded)


def _computed(question: Question, pair: Pair, around: Surroundings, meant: Mask) -> tuple[pa.Array, list[Flaw], int]:
    """One column's values for the rows that are `meant`, what is wrong with them, and how many are rounded."""
    compute = around.computes[pair.target.name]
    record = pa.array(question.matches.record, mask=question.matches.record < 0)
    frame = Frame({}, question.rows, around.now)
    columns, unknown, blank = {}, np.zeros(question.rows, bool), np.zeros(question.rows, bool)
    for scope, name in compute.uses:
        if scope == "existing":
            columns[scope, name] = as_array(question.existing.values[name].take(record))
            marks = question.existing.unreadable.get(name)
            if marks is not None and len(marks):
                unknown |= marks[question.matches.record] & (question.matches.record >= 0)
        else:
            columns[scope, name] = as_text(question.incoming.column(name))
            blank |= ~valid(columns[scope, name])
    frame = replace(frame, columns=columns)
    found = compute.evaluate(frame)
    failed = frame.failed()
    flaws = [
        _not_computed(pair, one.rows & meant, f"a value that does not fail: it {one.words}") for one in frame.failures
    ]
    flaws.append(_not_computed(pair, unknown & meant, "values of their columns' types to work with"))
    # A row that says something, of which nothing would be left, must not get lost.
    lost = ~valid(found) & ~failed & ~unknown & ~blank & meant
    empty = " and ".join(sorted(f"existing.{name}" for scope, name in compute.uses if scope == "existing"))
    flaws.append(_not_computed(pair, lost, f"a value in {empty}, or coalesce(…, 0) for none"))
    found = keep(found, meant & ~failed & ~unknown)
    cast = cast_cells([found] if found.null_count < len(found) else [], pair.target.type, len(found))
    texts = shown(found)
    flaws += [
        Flaw(bad.reason, bad.rows, bad.expected, pair.incoming, texts.take(pa.array(bad.rows))) for bad in cast.bad
    ]
    return as_array(cast.values), [flaw for flaw in flaws if len(flaw.rows)], cast.rounded


def _not_computed(pair: Pair, rows: Mask, wanted: str) -> Flaw:
    return Flaw(Reason.NOT_COMPUTED, np.flatnonzero(rows), wanted, pair.incoming)


class _Told:
    """What the turns before have left: the records as they would stand, and what became of the rows.

    New records stand behind those that are there, in the order in which rows asked for them.
    """

    def __init__(self, question: Question) -> None:
        self._question = question
        self._there = question.existing.values.num_rows
        self._values = question.existing.values
        self._codes = question.codes.existing
        self._unreadable = dict(question.existing.unreadable)
        self._verdicts = Verdicts(question.rows)
        self._outcomes = np.full(question.rows, Outcome.UNCHANGED, np.uint8)
        self._writes: list[_Write] = []
        self.rounded = dict(question.converted.rounded)

    def about(self, rows: Indices) -> Question:
        """The question about some rows, held against the records as they stand by now."""
        question = self._question
        codes = KeyCodes(question.codes.incoming[rows], self._codes, question.codes.size)
        return replace(
            question,
            incoming=question.incoming.only(rows),
            converted=question.converted.only(rows),
            existing=Existing(
                self._values, pa.table({}), complete=question.existing.complete, unreadable=self._unreadable
            ),
            codes=codes,
            matches=match(codes),
        )

    def hear(self, rows: Indices, changes: ChangeSet, converted: Converted) -> None:
        """Take in what was decided about the rows of a turn."""
        self._outcomes[rows] = changes.outcomes
        self._verdicts.reject([replace(flaw, rows=rows[flaw.rows]) for flaw in changes.flaws])
        for why, left_out in changes.skips.items():
            self._verdicts.skip_rows(why, rows[left_out])
        for name, count in converted.rounded.items():
            before = self._question.converted.rounded.get(name, 0)
            self.rounded[name] = self.rounded.get(name, 0) + count - before
        updates, inserts = changes.updates, changes.inserts
        new = self._values.num_rows + np.arange(len(inserts))
        self._codes = np.r_[self._codes, self._question.codes.incoming[rows[inserts.rows]]]
        changed = {name: updates.changing(name) for name in updates.after.column_names}
        self._writes.append(_Write(updates.records, rows[updates.rows], updates.after, changed))
        self._writes.append(_Write(new, rows[inserts.rows], inserts.after, dict(inserts.given)))
        self._stand(updates, inserts)

    def _stand(self, updates: Updates, inserts: Inserts) -> None:
        """The records, with the new values of some, and the new ones behind them."""
        records, after, fresh = updates.records, updates.after, inserts.after
        before = self._values.num_rows
        columns = {}
        at = np.arange(before + fresh.num_rows)
        at[before:] += after.num_rows
        at[records] = before + np.arange(after.num_rows)
        for name in self._values.column_names:
            old = as_array(self._values[name])
            loaded = name in fresh.column_names
            new = as_array(fresh[name]) if loaded else pa.nulls(fresh.num_rows, old.type)
            written = as_array(after[name]) if loaded else old.take(pa.array(records))
            columns[name] = pa.concat_arrays([old, written, new]).take(pa.array(at))
            # What the target puts there by itself is not known.
            unknown = self._unreadable.get(name, np.zeros(before, bool)).copy()
            unknown[records] &= ~updates.changing(name)
            by_itself = ~inserts.given[name] if loaded else np.full(fresh.num_rows, self._is_filled(name))
            if unknown.any() or by_itself.any() or name in self._unreadable:
                self._unreadable[name] = np.r_[unknown, by_itself]
        self._values = pa.table(columns)

    def _is_filled(self, name: str) -> bool:
        column = self._question.shape.column(name)
        return column.has_default or column.generated

    def together(self) -> ChangeSet:
        """The changes that all turns together make."""
        question, size = self._question, self._values.num_rows
        records = np.concatenate([write.records for write in self._writes])
        rows = np.concatenate([write.rows for write in self._writes])
        first, last = np.full(size, len(rows)), np.full(size, -1)
        np.minimum.at(first, records, np.arange(len(rows)))
        np.maximum.at(last, records, np.arange(len(rows)))
        touched = np.flatnonzero(last >= 0)
        leaders = rows[first[touched]]
        left = pa.concat_tables([write.after for write in self._writes]).take(pa.array(last[touched]))
        written = {}
        for name in left.column_names:
            marks = np.zeros(size, bool)
            np.logical_or.at(marks, records, np.concatenate([write.written[name] for write in self._writes]))
            written[name] = marks[touched]
        old = touched < self._there
        changed = self._changed(touched[old], left.filter(pa.array(old)), {n: mask[old] for n, mask in written.items()})
        compared = [pair.target.name for pair in question.pairing.compared]
        stays = np.logical_or.reduce([np.zeros(int(old.sum()), bool), *(changed[name] for name in compared)])
        gone = np.isin(rows, rows[np.isin(records, touched[old][~stays])])
        self._outcomes[rows[gone]] = Outcome.UNCHANGED
        changed = {name: mask[stays] for name, mask in changed.items()}
        update = Matched(leaders[old][stays], touched[old][stays], changed)
        asked = self._answered(leaders, left, written, ~old)
        updated, inserted = (np.flatnonzero(self._outcomes == one) for one in (Outcome.UPDATED, Outcome.INSERTED))
        outcomes = self._verdicts.outcomes(updated, inserted, rows[:0])
        changes = change_set(asked, outcomes, self._verdicts, update, asked.converted.values)
        leader_of = np.full(size, -1)
        leader_of[touched] = leaders
        along = (leader_of[records] != rows) & ~gone
        return replace(changes, followers=rows[along], leaders=leader_of[records[along]])

    def _changed(self, records: Indices, after: pa.Table, written: dict[str, Mask]) -> dict[str, Mask]:
        """Where records hold something else in the end than they did at first."""
        existing, found = self._question.existing, {}
        for name, mask in written.items():
            if name not in self._question.pairing.key:
                other = differs(as_array(after[name]), as_array(existing.values[name]).take(pa.array(records)))
                found[name] = mask & (other | existing.unreadable.get(name, np.zeros(self._there, bool))[records])
        return found

    def _answered(self, leaders: Indices, left: pa.Table, written: dict[str, Mask], new: Mask) -> Question:
        """The question, in which the row that leads each record says what all rows leave there."""
        converted = self._question.converted
        at = np.arange(self._question.rows)
        at[leaders] = self._question.rows + np.arange(len(leaders))
        values = pa.concat_tables([converted.values, left]).take(pa.array(at))
        cleared = dict(converted.cleared)
        for name in left.column_names:  # a new record is given nothing where a later row clears it
            marks = cleared.get(name, np.zeros(self._question.rows, bool)).copy()
            marks[leaders[new]] = written[name][new] & ~valid(as_array(left[name]))[new]
            cleared[name] = marks
        return replace(self._question, converted=replace(converted, values=values, cleared=cleared))


class _Write(Struct, frozen=True):
    """What some rows left in records: the values of the loaded columns, and which of them they wrote."""

    records: Indices
    rows: Indices
    after: pa.Table
    written: dict[str, Mask]
