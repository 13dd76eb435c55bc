"""Comparing matched rows with their records, column by column, as the rules on blanks and conditions have it."""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.decide.conditions import Sides
from tidymerge.core.decide.question import Question
from tidymerge.core.tidy.cells import as_array, differs, mask_of, valid
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import Flaw, Kind, Mask, Pair, Reason
from tidymerge.model.rules import Action, Blanks

# Why rows are skipped whose values a rule of a column holds back.
FILLED = "values are there already, and only blanks are filled"
COLUMN_NOT_MET = "update_when of a column was not met"


def compare(question: Question, sides: Sides, held: dict[str, Mask]) -> dict[str, Mask]:
    """For each column that can make a record count as changed: where it differs, as the rules on blanks have it.

    What the job's rules hold back, although it differs, goes into `held`, by the rule.
    """
    return {pair.target.name: changes_of(question, pair, sides, held) for pair in question.pairing.compared}


def changes_of(question: Question, pair: Pair, sides: Sides, held: dict[str, Mask]) -> Mask:
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


def cleared_in_vain(question: Question, sides: Sides, changed: Mapping[str, Mask]) -> list[Flaw]:
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
