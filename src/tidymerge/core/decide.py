"""Deciding, for every incoming row, what becomes of it; nothing that is not decided here is written."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.changes import ChangeSet, Inserts, Matches, Outcome, Updates, asked
from tidymerge.core.cells import as_array, mask_of, valid
from tidymerge.core.columns import Converted, constant, spared
from tidymerge.core.conditions import Conditions, Sides
from tidymerge.core.match import KeyCodes, all_matches
from tidymerge.core.order import generations
from tidymerge.core.rows import (
    ACTION_CODES,
    blank_keys,
    disobedient,
    instructions,
    marked,
    missing_values,
    same_key_twice,
    several_records,
)
from tidymerge.core.teams import Team, shared, team_up
from tidymerge.core.tidy import tidy
from tidymerge.model import Existing, Flaw, Incoming, Indices, Kind, Mask, Pair, Pairing, Reason, TableShape
from tidymerge.rules import Action, Blanks, Rules

# Why rows are skipped whose values a rule of a column holds back.
FILLED = "values are there already, and only blanks are filled"
COLUMN_NOT_MET = "update_when of a column was not met"


@dataclass(frozen=True, slots=True)
class Question:
    """All that a decision rests on: both sides, how they match, and what the job says."""

    incoming: Incoming
    converted: Converted
    existing: Existing
    codes: KeyCodes
    matches: Matches
    pairing: Pairing
    shape: TableShape
    rules: Rules
    conditions: Conditions

    @property
    def rows(self) -> int:
        """How many incoming rows there are."""
        return len(self.incoming.row_numbers)


def decide(question: Question, skipped: Mask) -> ChangeSet:
    """Give every incoming row its outcome and every touched record its values.

    `skipped` are rows that the job leaves out. Source: section 6 of the design.
    """
    question = replace(question, converted=_defaults_for_blanks(question))
    matches, pairing, rules = question.matches, question.pairing, question.rules
    told = instructions(question.incoming, rules.instruction)
    asked = told.actions == ACTION_CODES[Action.SKIP]
    skips = {"left out by skip_when": skipped, "the row says so": asked & ~skipped}
    out = skipped | asked
    flaws = spared([*told.flaws, *blank_keys(question.converted, pairing), *question.converted.flaws], out)
    # A row that is wrong by itself says nothing against others of its key.
    silent = out | marked(flaws, question.rows)
    codes = replace(question.codes, incoming=np.where(silent, -1, question.codes.incoming))
    team = team_up(codes, told, matches)
    if len(team.rows):
        question = replace(question, converted=shared(question.converted, team))
        codes = replace(codes, incoming=np.where(team.mask, -1, codes.incoming))
    values = question.converted.values
    repeated = same_key_twice(question.converted, codes, pairing, rules)
    skips["the same as an earlier row"] = _mask(repeated.spare, question.rows)
    skips["another row of the same key was taken"] = _mask(repeated.outdone, question.rows)
    out = np.logical_or.reduce(list(skips.values()))
    several = [] if rules.update_all else spared(several_records(values, matches, pairing), out)
    flaws += [*repeated.flaws, *several]
    live = ~out & ~marked(flaws, question.rows)
    flaws += disobedient(told, live & (matches.times == 0), live & (matches.times > 0), values, pairing)

    fresh, new_values = _new_records(question, live & ~marked(flaws, question.rows), flaws, skips)
    known = np.flatnonzero(live & (matches.times > 0) & ~marked(flaws, question.rows) & ~team.follows)
    update, along = _led(_updates(question, known, team, flaws, skips), team)
    for mask in skips.values():
        mask[team.rows] |= mask[team.leaders]
    outcomes = np.full(question.rows, Outcome.UNCHANGED, np.uint8)
    outcomes[update.rows] = Outcome.UPDATED
    outcomes[along[0]] = Outcome.UPDATED
    everybody = np.r_[team.rows, repeated.spare], np.r_[team.leaders, repeated.first]
    flaws = [with_company(flaw, *everybody) for flaw in flaws]
    outcomes[fresh] = Outcome.INSERTED
    outcomes[np.logical_or.reduce(list(skips.values()))] = Outcome.SKIPPED
    outcomes[marked(flaws, question.rows)] = Outcome.REJECTED
    left_out = {why: np.flatnonzero(mask & (outcomes == Outcome.SKIPPED)) for why, mask in skips.items()}
    left_out = {why: rows for why, rows in left_out.items() if len(rows)}
    changes = _change_set(question, outcomes, tuple(flaws), update, new_values, left_out)
    followers, leaders = np.r_[along[0], repeated.spare], np.r_[along[1], repeated.first]
    good = outcomes[followers] != Outcome.REJECTED
    return replace(changes, followers=followers[good], leaders=leaders[good])


def _defaults_for_blanks(question: Question) -> Converted:
    """Where a blank clears a column that has a default in the job, it clears it to the default."""
    values = question.converted.values
    for at, pair in enumerate(question.pairing.pairs):
        if pair.rule.default is not None and (pair.rule.blanks or question.rules.blanks) is Blanks.CLEAR:
            filled = _filled(question, pair)
            values = values.set_column(at, pair.target.name, filled)
    return replace(question.converted, values=values)


def _filled(question: Question, pair: Pair) -> pa.Array:
    """A column with its default where the cell is blank, but not where a mark says to clear it."""
    column = as_array(question.converted.values[pair.target.name])
    filled = pc.coalesce(column, constant(pair.rule.default, pair, "The default"))
    cleared = question.converted.cleared.get(pair.target.name)
    return filled if cleared is None else pc.if_else(pa.array(cleared), column, filled)


def _mask(rows: Indices, length: int) -> Mask:
    mask = np.zeros(length, bool)
    mask[rows] = True
    return mask


def _new_records(question: Question, live: Mask, flaws: list[Flaw], skips: dict[str, Mask]) -> tuple[Mask, pa.Table]:
    """Which rows become new records, and the values of all rows as new records would have them."""
    fresh = live & (question.matches.times == 0)
    values = _as_new(question)
    if not question.rules.inserts:
        skips["new records are not inserted"] = fresh
        return np.zeros(question.rows, bool), values
    if question.conditions.insert_when is not None:
        rows = np.flatnonzero(fresh)
        sides = Sides(question.incoming, values, None, rows, rows)  # as they would be loaded
        unmet = rows[~sides.holds(question.conditions.insert_when, question.conditions.now)]
        skips["insert_when was not met"] = _mask(unmet, question.rows)
        fresh = fresh & ~skips["insert_when was not met"]
    flaws += missing_values(values, fresh, question.pairing, question.shape)
    return fresh & ~marked(flaws, question.rows), values


def _as_new(question: Question) -> pa.Table:
    """The values with the job's defaults, and without the columns that are only for updates."""
    columns = {}
    for pair in question.pairing.pairs:
        column = as_array(question.converted.values[pair.target.name])
        if pair.rule.default is not None:
            column = _filled(question, pair)
        if pair.rule.only_on is Action.UPDATE:
            column = pa.nulls(len(column), column.type)
        columns[pair.target.name] = column
    return pa.table(columns)


@dataclass(frozen=True, slots=True)
class _Updates:
    """Records to update: the incoming row and the existing record of each, and which columns change."""

    rows: Indices
    records: Indices
    changed: dict[str, Mask]


def _led(update: _Updates, team: Team) -> tuple[_Updates, tuple[Indices, Indices]]:
    """The updates of leaders that change nothing themselves go to a row of theirs that does; and which rows go along.

    The second value are the rows that change a record through another row's update, and those rows.
    """
    place = {row: at for at, row in enumerate(update.rows.tolist())} if len(team.rows) else {}
    rows, along, along_with = update.rows.copy(), [], []
    for leader, members in team.members.items():
        at = place.get(leader)
        if at is None:
            continue
        active = [
            row for row in members if any(update.changed[c][at] for c in team.columns[row] if c in update.changed)
        ]
        if active:
            rows[at] = active[0]
            along += active[1:]
            along_with += [active[0]] * (len(active) - 1)
    return replace(update, rows=rows), (np.array(along, np.int64), np.array(along_with, np.int64))


def _updates(question: Question, known: Indices, team: Team, flaws: list[Flaw], skips: dict[str, Mask]) -> _Updates:
    """Compare the rows that have a record, and heed every condition on updates."""
    rows, records = known, question.matches.record[known]
    if question.rules.update_all:
        rows, records = all_matches(question.codes, known)
    sides = Sides(question.incoming, question.converted.values, question.existing, rows, records)
    held: dict[str, Mask] = {}
    changed = compare(question, sides, held)
    for name in changed:
        changed[name] &= team.may_change(name)[rows]
    flaws += _cleared_in_vain(question, sides, changed)
    flawed = marked(flaws, question.rows)[rows]
    touched = _any(changed, len(rows)) & ~flawed
    for why, mask in held.items():  # a row of which nothing is left is not one that says what the record says
        skips[why] = _mask(np.setdiff1d(rows[mask & ~flawed], rows[touched]), question.rows) & ~_any(
            skips, question.rows
        )
    if not question.rules.updates:
        skips["existing records are not updated"] = _mask(rows[touched], question.rows)
        touched &= False
    elif question.conditions.update_when is not None:
        unmet = touched & ~sides.holds(question.conditions.update_when, question.conditions.now)
        touched &= ~unmet
        skips["update_when was not met"] = _mask(np.setdiff1d(rows[unmet], rows[touched]), question.rows)
    along = {pair.target.name: _changes(question, pair, sides, {}) & touched for pair in question.pairing.going_along}
    in_vain = _cleared_in_vain(question, sides, along)
    flaws += in_vain
    touched &= ~marked(in_vain, question.rows)[rows]
    changed = {name: mask[touched] for name, mask in (changed | along).items()}
    return _Updates(rows[touched], records[touched], changed)


def _any(changed: Mapping[str, Mask], length: int) -> Mask:
    mask: Mask = np.logical_or.reduce([np.zeros(length, bool), *changed.values()])
    return mask


def compare(question: Question, sides: Sides, held: dict[str, Mask]) -> dict[str, Mask]:
    """For each column that can make a record count as changed: where it differs, as the rules on blanks have it.

    What the job's rules hold back, although it differs, goes into `held`, by the rule.
    """
    return {pair.target.name: _changes(question, pair, sides, held) for pair in question.pairing.compared}


def _changes(question: Question, pair: Pair, sides: Sides, held: dict[str, Mask]) -> Mask:
    """Where one column is to change."""
    name, values = pair.target.name, question.converted.values
    if pair.rule.only_on is Action.INSERT:
        return np.zeros(len(sides.rows), bool)
    everything = len(sides.rows) == values.num_rows and not question.rules.update_all
    new = as_array(values[name])
    new = new if everything else new.take(pa.array(sides.rows))
    old = as_array(question.existing.values[name]).take(pa.array(sides.records))
    changed = differs(new, old) & _speaks(question, pair, sides, new)
    if pair.target.type.kind is Kind.TEXT and changed.any():
        changed &= ~_exactly(question, pair, sides, new, old)
    if (pair.rule.blanks or question.rules.blanks) is Blanks.FILL_ONLY and changed.any():
        changed = _held_back(changed, _may_fill(question, pair, sides, old), FILLED, held)
    if name in question.conditions.columns and changed.any():
        met = sides.holds(question.conditions.columns[name], question.conditions.now)
        changed = _held_back(changed, met, COLUMN_NOT_MET, held)
    return changed


def _held_back(changed: Mask, allowed: Mask, why: str, held: dict[str, Mask]) -> Mask:
    """What of the changes is allowed; the rest is noted."""
    held[why] = held.get(why, np.zeros(len(changed), bool)) | (changed & ~allowed)
    return changed & allowed


def _exactly(question: Question, pair: Pair, sides: Sides, new: pa.Array, old: pa.Array) -> Mask:
    """Where a cell is to the letter what is stored, before it was tidied; a blank is an empty text."""
    name, converted = pair.target.name, question.converted
    same = ~valid(new) & mask_of(pc.equal(old, ""))
    if name in converted.untidied:
        same |= mask_of(pc.equal(converted.untidied[name].take(pa.array(sides.rows)), old))
    return same & ~converted.cleared[name][sides.rows] if name in converted.cleared else same


def _may_fill(question: Question, pair: Pair, sides: Sides, old: pa.Array) -> Mask:
    """Where a column that is only filled may change: nothing is there, or a mark says to clear it."""
    empty = ~_holds(old)
    if pair.target.name in question.existing.unreadable:
        empty &= ~question.existing.unreadable[pair.target.name][sides.records]
    if pair.target.name in question.converted.cleared:
        empty |= question.converted.cleared[pair.target.name][sides.rows]
    return empty


def _speaks(question: Question, pair: Pair, sides: Sides, new: pa.Array) -> Mask:
    """Where a cell may change a value: a blank says nothing, unless the rule or a clearing mark says otherwise."""
    blanks = pair.rule.blanks or question.rules.blanks
    if blanks is Blanks.CLEAR:
        return np.ones(len(new), bool)
    speaks = valid(new)
    if pair.target.name in question.converted.cleared:
        speaks = speaks | question.converted.cleared[pair.target.name][sides.rows]
    return speaks


def _holds(values: pa.Array) -> Mask:
    """Where there is a value: a text of nothing but spaces is none, as with a cell."""
    return valid(tidy(values) if pa.types.is_string(values.type) else values)


def _cleared_in_vain(question: Question, sides: Sides, changed: Mapping[str, Mask]) -> list[Flaw]:
    """Rows that would clear a column which may not be empty."""
    flaws = []
    for pair in question.pairing.pairs:
        if pair.target.name in changed and not pair.target.nullable:
            new = as_array(question.converted.values[pair.target.name]).take(pa.array(sides.rows))
            rows = np.unique(sides.rows[changed[pair.target.name] & ~valid(new)])
            if len(rows):
                wanted = f"a value: {pair.target.name} may not be empty"
                flaws.append(Flaw(Reason.BLANK_NOT_ALLOWED, rows, wanted, pair.incoming, None, pair.rule.sources))
    return flaws


def differs(one: pa.Array, other: pa.Array) -> Mask:
    """Where two arrays of one type differ, null being equal to null alone."""
    same = mask_of(pc.equal(one, other))
    return ~(same | (~valid(one) & ~valid(other)))


def _change_set(
    question: Question,
    outcomes: np.ndarray,
    flaws: tuple[Flaw, ...],
    update: _Updates,
    new_values: pa.Table,
    skips: Mapping[str, Indices],
) -> ChangeSet:
    values = question.converted.values
    shapes = shapes_of(update.changed, len(update.rows))
    order = np.lexsort((update.records, shapes))
    updated, records, shapes = update.rows[order], update.records[order], shapes[order]
    changed = {name: mask[order] for name, mask in update.changed.items()}
    inserted = _by_given(question, np.flatnonzero(outcomes == Outcome.INSERTED), new_values)
    before = question.existing.values.select(values.column_names).take(pa.array(records))
    new, fresh = values.take(pa.array(updated)), new_values.take(pa.array(inserted))
    after = with_changed(before, new, changed)
    given = {pair.target.name: _given(question, pair, fresh, inserted) for pair in question.pairing.pairs}
    positions = np.arange(len(updated) + len(inserted))
    return ChangeSet(
        outcomes=outcomes,
        flaws=flaws,
        key=question.pairing.key,
        updates=Updates(records, updated, positions[: len(updated)], before, after, changed, shapes),
        inserts=Inserts(inserted, positions[len(updated) :], fresh, given),
        stamps=tuple(pair.target.name for pair in question.pairing.pairs if pair.rule.stamp is not None),
        skips=skips,
    )


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
    bad = marked(found, len(changes.outcomes))
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


def with_company(flaw: Flaw, followers: Indices, leaders: Indices) -> Flaw:
    """A flaw of leaders is one of those that follow them too, who have not flaws of their own."""
    at = np.flatnonzero(np.isin(leaders, flaw.rows) & ~np.isin(followers, flaw.rows))
    if not len(at):
        return flaw
    order = np.argsort(flaw.rows, kind="stable")
    same = order[np.searchsorted(flaw.rows, leaders[at], sorter=order)]
    values = None if flaw.values is None else pa.concat_arrays([flaw.values, flaw.values.take(pa.array(same))])
    return replace(flaw, rows=np.r_[flaw.rows, followers[at]], values=values)
