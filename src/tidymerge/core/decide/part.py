"""A part of the rows, decided by itself: pure functions over plain records, which can run in any process.

What only the database knows is asked before: `texts_to_ask` says what, and the plan or the records carry the answer.
"""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.core.decide.columns import Converted, Understood, convert, texts_sought, understand
from tidymerge.core.decide.conditions import rows_to_skip
from tidymerge.core.decide.decide import decide
from tidymerge.core.decide.plan import Plan
from tidymerge.core.decide.question import Question
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.tidy.cells import as_array, differs
from tidymerge.model import Existing, Incoming, Indices, Kind, Mask
from tidymerge.model.changes import ChangeSet
from tidymerge.model.rules import Find


class TidyRows(Struct, frozen=True):
    """Incoming rows once they are tidied, shaped and cast, and which of them the job leaves out."""

    incoming: Incoming
    skipped: Mask
    understood: Understood

    def texts_to_ask(self, plan: Plan) -> dict[Find, pa.Array]:
        """The texts that are looked up of which only the database knows which are equal."""
        return texts_sought(self.understood, plan.pairing)


class Rows(Struct, frozen=True):
    """Incoming rows in the target's types; `came` are the rows whose key tidying changed, with their keys before."""

    incoming: Incoming
    skipped: Mask
    converted: Converted
    came: tuple[Indices, pa.Table] | None = None

    def keys(self, plan: Plan) -> pa.Table:
        """All keys under which records may be found."""
        keys = self.converted.values.select(plan.pairing.key)
        return keys if self.came is None else pa.concat_tables([keys, self.came[1]])

    def texts_to_ask(self, plan: Plan, existing: Existing) -> dict[str, pa.Array]:
        """By key column the texts of which only the database knows which are equal."""
        sides = [self.converted.values, existing.values, *([self.came[1]] if self.came else [])]
        return texts_to_tell(sides, plan.pairing.key_columns)


class Decision(Struct, frozen=True):
    """What was decided about some rows, and what is worth saying, counted by column."""

    changes: ChangeSet
    read: int
    rounded: Mapping[str, int] = field(default_factory=dict)
    not_found: Mapping[str, int] = field(default_factory=dict)
    unreadable: Mapping[str, int] = field(default_factory=dict)
    latest: Mapping[str, str] = field(default_factory=dict)


def read_rows(plan: Plan, incoming: Incoming) -> TidyRows:
    """Tidy, shape and cast some rows, and see which the job leaves out."""
    skipped = rows_to_skip(incoming, plan.conditions)
    return TidyRows(incoming, skipped, understand(incoming, plan.pairing, plan.around, skipped))


def convert_rows(plan: Plan, tidy: TidyRows) -> Rows:
    """Look up what is to be looked up."""
    converted = convert(tidy.incoming, tidy.understood, plan.pairing, plan.around, tidy.skipped)
    return Rows(tidy.incoming, tidy.skipped, converted, _keys_as_they_came(plan, converted))


def decide_part(plan: Plan, rows: Rows, existing: Existing) -> Decision:
    """Decide about some rows, given all records that may match them."""
    equal, key = by_number(existing.equal), plan.pairing.key_columns
    converted = rows.converted
    if rows.came is not None:
        converted = _with_exact_keys(converted, rows.came, existing, plan)
    codes = code_keys(converted.values, existing.values, key, equal)
    question = Question(
        rows.incoming, converted, existing, codes, match(codes), plan.pairing, plan.shape, plan.rules, plan.conditions
    )
    return Decision(
        decide(question, rows.skipped),
        len(rows.incoming.row_numbers),
        converted.rounded,
        converted.not_found,
        {name: int(mask.sum()) for name, mask in existing.unreadable.items()},
        _latest(plan, converted.values),
    )


def _latest(plan: Plan, values: pa.Table) -> dict[str, str]:
    """The greatest value of each column of dates."""
    found = {}
    for pair in plan.pairing.pairs:
        if pair.target.type.kind in (Kind.DATE, Kind.TIMESTAMP) and pair.rule.sources:
            greatest = pc.max(values[pair.target.name]).as_py()
            if greatest is not None:
                found[pair.target.name] = str(greatest)
    return found


def _keys_as_they_came(plan: Plan, converted: Converted) -> tuple[Indices, pa.Table] | None:
    """The rows whose key tidying changed, with their keys as they arrived."""
    names = [name for name in plan.pairing.key if name in converted.untidied]
    if not names:
        return None
    tidied = converted.values.select(plan.pairing.key)
    other = [differs(converted.untidied[name], as_array(tidied[name])) for name in names]
    rows = np.flatnonzero(np.logical_or.reduce(other))
    came = {name: converted.untidied.get(name, tidied[name]) for name in plan.pairing.key}
    return (rows, pa.table(came).take(pa.array(rows))) if len(rows) else None


def _with_exact_keys(converted: Converted, came: tuple[Indices, pa.Table], existing: Existing, plan: Plan) -> Converted:
    """A key that a record has exactly as it arrived is that record's, whatever tidying would make of it."""
    rows, keys = came
    codes = code_keys(keys, existing.values, plan.pairing.key_columns, by_number(existing.equal))
    known = match(codes).times > 0
    values = converted.values
    for name in plan.pairing.key if known.any() else ():
        mask = np.zeros(values.num_rows, bool)
        mask[rows[known]] = True
        kept = as_array(keys[name]).filter(pa.array(known))
        changed = pc.replace_with_mask(as_array(values[name]), pa.array(mask), kept)
        values = values.set_column(values.column_names.index(name), name, changed)
    return replace(converted, values=values)
