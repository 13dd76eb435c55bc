"""Two sides against each other: tidied, matched and compared as the rows of a load are, with nothing to write.

The records are the rows of the first side, the incoming rows those of the second. So what a load would insert is only
in the second, and what it would remove is only in the first.
"""

from collections.abc import Mapping
from datetime import datetime

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.decide.conditions import Conditions
from tidymerge.core.decide.decide import decide
from tidymerge.core.decide.part import Rows, convert_rows, read_rows
from tidymerge.core.decide.plan import Plan
from tidymerge.core.decide.question import Question
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.model import EqualTexts, Existing, Flaw, Incoming, Indices, Pairing, TableShape
from tidymerge.model.changes import ChangeSet
from tidymerge.model.rules import Action, Blanks, Rules

_RULES = Rules(blanks=Blanks.CLEAR, absent=Action.REMOVE)  # a blank is a difference, and so is a row that is missing


class Sides(Struct, frozen=True):
    """Both sides in the same types, and how they are matched."""

    plan: Plan
    first: Rows
    second: Rows

    @property
    def texts_to_ask(self) -> dict[str, pa.Array]:
        """By key column the texts of which only the database knows which are equal."""
        both = [self.second.converted.values, self.first.converted.values]
        return texts_to_tell(both, self.plan.pairing.key_columns)

    def keys_of_first(self) -> pa.Table:
        """The keys of the first side."""
        return self.first.converted.values.select(list(self.plan.pairing.key))


def read_both(
    first: tuple[Incoming, Pairing], second: tuple[Incoming, Pairing], shape: TableShape, now: datetime
) -> Sides:
    """Tidy and cast the rows of both sides; each comes with what feeds the columns of the `shape`."""
    plans = [
        Plan(shape, pairing, _RULES, Conditions(now), Surroundings(now, own_table=shape.name))
        for _, pairing in (first, second)
    ]
    rows = [convert_rows(plan, read_rows(plan, side[0])) for plan, side in zip(plans, (first, second), strict=True)]
    return Sides(plans[1], *rows)


def differences(sides: Sides, equal: Mapping[str, EqualTexts]) -> ChangeSet:
    """What would make the first side the second. A row that can't be read on one of them can't be compared.

    `equal` says of key columns which texts the database takes for equal. What is only in the first side comes whole.
    """
    plan, values = sides.plan, sides.first.converted.values
    existing = Existing(values, pa.table({}), complete=True, equal=equal)
    converted = sides.second.converted
    codes = code_keys(converted.values, values, plan.pairing.key_columns, by_number(equal))
    matches = match(codes)
    unread = _unread(sides.first, np.where(matches.times == 1, matches.record, -1))
    question = Question(
        sides.second.incoming, replace(converted, flaws=(*converted.flaws, *unread)), existing, codes, matches,
        plan.pairing, plan.shape, plan.rules, plan.conditions,
    )  # fmt: skip
    changes = decide(question, {})
    whole = values.take(pa.array(changes.removals.records))
    return replace(changes, removals=replace(changes.removals, before=whole)) if len(changes.removals) else changes


def _unread(first: Rows, records: Indices) -> list[Flaw]:
    """What is wrong with rows of the first side, as flaws of the rows that would be compared with them."""
    flaws, numbers = [], first.incoming.row_numbers
    for flaw in first.converted.flaws:
        place = np.full(len(numbers) + 1, -1)  # the last one stands for those that have no record
        place[flaw.rows] = np.arange(len(flaw.rows))
        at = place[records]
        rows = np.flatnonzero(at >= 0)
        if len(rows):
            values = None if flaw.values is None else flaw.values.take(pa.array(at[rows]))
            flaws.append(Flaw(flaw.reason, rows, f"{flaw.expected}, in the first", flaw.column, values))
    return flaws
