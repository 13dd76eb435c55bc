"""Deciding, for every incoming row, what becomes of it; nothing that is not decided here is written.

The rules stand in `decide` and its steps in the order in which they hold: the first one that settles a row stays.
"""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from tidymerge.core.decide.absent import with_absent
from tidymerge.core.decide.change_set import Matched, change_set
from tidymerge.core.decide.columns import Converted, constant, spared
from tidymerge.core.decide.compare import changes_of, cleared_in_vain, compare
from tidymerge.core.decide.conditions import Sides
from tidymerge.core.decide.question import Question
from tidymerge.core.decide.rows import (
    ACTION_CODES,
    Repeats,
    Told,
    blank_keys,
    disobedient,
    instructions,
    key_cells,
    missing_values,
    same_key_twice,
    several_records,
)
from tidymerge.core.decide.since import Back
from tidymerge.core.decide.teams import Team, shared, team_up
from tidymerge.core.decide.verdicts import Verdicts
from tidymerge.core.match.match import KeyCodes, all_matches
from tidymerge.core.tidy.cells import any_of, as_array, keep, mask_at
from tidymerge.model import Indices, Mask, Pair
from tidymerge.model.changes import ChangeSet
from tidymerge.model.rules import Action, Blanks


def decide(question: Question, left_out: Mapping[str, Mask], back: Back | None = None) -> ChangeSet:
    """Give every incoming row its outcome and every touched record its values.

    `left_out` are rows that the job leaves out, by why; `back` is of rows that come back. Source: docs/meaning.md.
    """
    question = replace(question, converted=_defaults_for_blanks(question))
    told = instructions(question.incoming, question.rules)
    question = _only_keys(question, told.going)
    verdicts = Verdicts(question.rows)

    # What a row says by itself.
    for why, rows in left_out.items():
        verdicts.skip(why, rows)
    verdicts.skip("the row says so", told.actions == ACTION_CODES[Action.SKIP])
    verdicts.reject(told.flaws)
    verdicts.reject(blank_keys(question.converted, question.pairing))
    verdicts.reject(question.converted.flaws)

    # What rows of one key say together. A row that is settled says nothing against others of its key.
    question, codes, team = _teamed(question, told, verdicts.open)
    repeated = same_key_twice(
        question.converted, codes, question.pairing, question.rules, told.going, question.incoming.row_numbers
    )
    verdicts.skip_rows("the same as an earlier row", repeated.spare)
    verdicts.skip_rows("another row of the same key was taken", repeated.outdone)
    verdicts.reject(repeated.flaws)

    # How a row stands to the records.
    _hold(verdicts, back)
    values, matches = question.converted.values, question.matches
    fresh, known = matches.times == 0, matches.times > 0
    alone = told.going if question.rules.update_all else np.ones(question.rows, bool)
    verdicts.reject(several_records(values, matches, question.pairing, alone))
    still = verdicts.open
    verdicts.reject(disobedient(told, still & fresh, still & known, values, question.pairing))
    inserted, new_values = _new_records(question, fresh, verdicts)
    update, along = _led(_updates(question, known & ~team.follows & ~told.going, team, verdicts), team)

    _company(verdicts, team, repeated)
    outcomes = verdicts.outcomes(np.r_[update.rows, along[0]], inserted, np.flatnonzero(known & told.going))
    named = None
    if question.rules.absent is not None:
        beyond = with_absent(question, outcomes, update, back.may_go if back else None)
        question, outcomes, update, named = beyond.question, beyond.outcomes, beyond.update, beyond.named
    changes = replace(
        change_set(question, outcomes, verdicts, update, new_values), absent=named, shared_keys=question.rules.keeps_all
    )
    followers, leaders = np.r_[along[0], repeated.spare], np.r_[along[1], repeated.first]
    good = ~verdicts.rejected[followers]
    return replace(changes, followers=followers[good], leaders=leaders[good])


def _hold(verdicts: Verdicts, back: Back | None) -> None:
    """Rows that come back, and that something stands in the way of."""
    for why, rows in back.left_out.items() if back is not None else ():
        verdicts.skip(why, rows)
    verdicts.reject(back.flaws if back is not None else ())


def _only_keys(question: Question, going: Mask) -> Question:
    """Of rows that say that their record is to go only the key counts, whatever their other cells hold."""
    if not going.any():
        return question
    converted, keys = question.converted, set(key_cells(question.pairing))
    values = converted.values
    for at, name in enumerate(values.column_names):
        if name not in question.pairing.key:
            values = values.set_column(at, name, keep(as_array(values[name]), ~going))
    idle = [flaw for flaw in converted.flaws if flaw.column and not keys & {flaw.column, *flaw.cells}]
    others = [flaw for flaw in converted.flaws if not any(flaw is one for one in idle)]
    cleared = {name: mask & ~going for name, mask in converted.cleared.items()}
    flaws = (*others, *spared(idle, going))
    return replace(question, converted=replace(converted, values=values, flaws=flaws, cleared=cleared))


def _teamed(question: Question, told: Told, still: Mask) -> tuple[Question, KeyCodes, Team]:
    """The rows that change a record together say all of it; the codes are those of rows that stand alone."""
    codes = replace(question.codes, incoming=np.where(still, question.codes.incoming, -1))
    team = team_up(codes, told, question.matches)
    if not len(team.rows):
        return question, codes, team
    codes = replace(codes, incoming=np.where(team.mask, -1, codes.incoming))
    return replace(question, converted=shared(question.converted, team)), codes, team


def _company(verdicts: Verdicts, team: Team, repeated: Repeats) -> None:
    """Rows that say the same as another, or change a record by it, share its fate."""
    verdicts.follow(team.rows, team.leaders)
    verdicts.share(np.r_[team.rows, repeated.spare], np.r_[team.leaders, repeated.first])


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


def _new_records(question: Question, fresh: Mask, verdicts: Verdicts) -> tuple[Indices, pa.Table]:
    """Which rows become new records, and the values of all rows as new records would have them."""
    values = _as_new(question)
    if not question.rules.inserts:
        verdicts.skip("new records are not inserted", fresh)
    elif question.conditions.insert_when is not None:
        rows = np.flatnonzero(fresh & verdicts.open)
        sides = Sides(question.incoming, values, None, rows, rows)  # as they would be loaded
        met = sides.holds(question.conditions.insert_when, question.conditions.now)
        verdicts.skip_rows("insert_when was not met", rows[~met])
    verdicts.reject(missing_values(values, fresh & verdicts.open, question.pairing, question.shape))
    return np.flatnonzero(fresh & verdicts.open), values


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


def _led(update: Matched, team: Team) -> tuple[Matched, tuple[Indices, Indices]]:
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


def _updates(question: Question, known: Mask, team: Team, verdicts: Verdicts) -> Matched:
    """Compare the rows that have a record, and apply every condition on updates."""
    rows = np.flatnonzero(known & verdicts.open)
    records = question.matches.record[rows]
    if question.rules.update_all:
        rows, records = all_matches(question.codes, rows)
    sides = Sides(question.incoming, question.converted.values, question.existing, rows, records)
    held: dict[str, Mask] = {}
    changed = compare(question, sides, held)
    for name in changed:
        changed[name] &= team.may_change(name)[rows]
    verdicts.reject(cleared_in_vain(question, sides, changed))
    touched = any_of(changed.values(), len(rows)) & ~verdicts.rejected[rows]
    for why, mask in held.items():  # a row of which nothing is left is not one that says what the record says
        verdicts.skip_rows(why, _without(rows[mask], rows[touched], len(known)))
    if not question.rules.updates:
        verdicts.skip_rows("existing records are not updated", rows[touched])
        touched &= False
    elif question.conditions.update_when is not None:
        unmet = touched & ~sides.holds(question.conditions.update_when, question.conditions.now)
        touched &= ~unmet
        verdicts.skip_rows("update_when was not met", _without(rows[unmet], rows[touched], len(known)))
    along = {pair.target.name: changes_of(question, pair, sides, {}) & touched for pair in question.pairing.going_along}
    verdicts.reject(cleared_in_vain(question, sides, along))
    touched &= ~verdicts.rejected[rows]
    changed = {name: mask[touched] for name, mask in (changed | along).items()}
    return Matched(rows[touched], records[touched], changed)


def _without(rows: Indices, others: Indices, size: int) -> Indices:
    """The rows that are not among the others, each once, in order, of `size` incoming rows."""
    left = mask_at(rows, size)
    left[others] = False
    return np.flatnonzero(left)
