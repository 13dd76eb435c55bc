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
from tidymerge.core.decide.compare import compare
from tidymerge.core.decide.conditions import Sides, rows_to_skip
from tidymerge.core.decide.decide import decide
from tidymerge.core.decide.movements import decide_movements
from tidymerge.core.decide.plan import Plan
from tidymerge.core.decide.question import Question
from tidymerge.core.decide.rows import ACTION_CODES, flawed, instructions
from tidymerge.core.decide.since import brought_back
from tidymerge.core.match.match import KeyCodes, by_number, code_keys, match, texts_to_tell
from tidymerge.core.match.pairing import candidates, paired
from tidymerge.core.tidy.cells import any_of, as_array, differs, valid
from tidymerge.model import Existing, Incoming, Indices, Kind, Mask
from tidymerge.model.changes import ChangeSet
from tidymerge.model.rules import Action, Find


class TidyRows(Struct, frozen=True):
    """Incoming rows once they are tidied, shaped and cast, and which of them the job leaves out, by why."""

    incoming: Incoming
    left_out: Mapping[str, Mask]
    understood: Understood

    def texts_to_ask(self, plan: Plan) -> dict[Find, pa.Array]:
        """The texts that are looked up of which only the database knows which are equal."""
        return texts_sought(self.understood, plan.pairing)


class Rows(Struct, frozen=True):
    """Incoming rows in the target's types; `came` are the rows whose key tidying changed, with their keys before."""

    incoming: Incoming
    left_out: Mapping[str, Mask]
    converted: Converted
    came: tuple[Indices, pa.Table] | None = None

    @property
    def skipped(self) -> Mask:
        """The rows that the job leaves out."""
        return any_of(self.left_out.values(), len(self.incoming.row_numbers))

    def keys(self, plan: Plan) -> pa.Table:
        """All keys under which records may be found."""
        keys = self.converted.values.select(plan.pairing.key)
        return keys if self.came is None else pa.concat_tables([keys, self.came[1]])

    def texts_to_ask(self, plan: Plan, existing: Existing) -> dict[str, pa.Array]:
        """By key column the texts of which only the database knows which are equal."""
        sides = [self.converted.values, existing.values, *([self.came[1]] if self.came else [])]
        return texts_to_tell(sides, plan.pairing.key_columns)


class Decision(Struct, frozen=True):
    """What was decided about some rows, and what is worth saying, counted by column.

    `nameless` are rows of which it is not known which record they mean; `missing` rows were taken out, and are on none.
    """

    changes: ChangeSet
    read: int
    rounded: Mapping[str, int] = field(default_factory=dict)
    not_found: Mapping[str, int] = field(default_factory=dict)
    unreadable: Mapping[str, int] = field(default_factory=dict)
    latest: Mapping[str, str] = field(default_factory=dict)
    nameless: int = 0
    missing: int = 0


def read_rows(plan: Plan, incoming: Incoming) -> TidyRows:
    """Tidy, shape and cast some rows, and see which the job leaves out."""
    skipped = rows_to_skip(incoming, plan.conditions)
    left_out = {"left out by skip_when": skipped}
    if plan.known is not None:
        left_out[plan.known.why] = plan.known.among(incoming, skipped)
    all_out = any_of(left_out.values(), len(skipped))
    return TidyRows(incoming, left_out, understand(incoming, plan.pairing, plan.around, all_out))


def convert_rows(plan: Plan, tidy: TidyRows) -> Rows:
    """Look up what is to be looked up."""
    skipped = any_of(tidy.left_out.values(), len(tidy.incoming.row_numbers))
    converted = convert(tidy.incoming, tidy.understood, plan.pairing, plan.around, skipped)
    return Rows(tidy.incoming, tidy.left_out, converted, _keys_as_they_came(plan, converted))


def decide_part(plan: Plan, rows: Rows, existing: Existing) -> Decision:
    """Decide about some rows, given all records that may match them."""
    equal, key = by_number(existing.equal), plan.pairing.key_columns
    converted = rows.converted
    if rows.came is not None:
        converted = _with_exact_keys(converted, rows.came, existing, plan)
    if key:
        codes = code_keys(converted.values, existing.values, key, equal)
    else:  # every row is new
        codes = KeyCodes(np.full(len(rows.incoming.row_numbers), -1), np.full(existing.values.num_rows, -1), 1)
    question = Question(
        rows.incoming, converted, existing, codes, match(codes), plan.pairing, plan.shape, plan.rules, plan.conditions
    )
    left_out = dict(rows.left_out)
    if plan.rules.several:
        left_out[f"nothing of {plan.shape.name} is in the row"] = _says_nothing(question)
    if plan.rules.keeps_all:
        question = _one_to_one(question, rows.skipped)
    rounded: Mapping[str, int] = converted.rounded
    back = None
    if plan.since is not None:
        back = brought_back(question, plan.since)
        changes = replace(decide(back.question, left_out, back), clashes=back.clashes)
    elif plan.around.movements:
        changes, rounded = decide_movements(question, left_out, plan.around)
    else:
        changes = decide(question, left_out)
    return Decision(
        changes,
        len(rows.incoming.row_numbers),
        rounded,
        converted.not_found,
        {name: int(mask.sum()) for name, mask in existing.unreadable.items()},
        _latest(plan, converted.values),
        int((~rows.skipped & (codes.incoming < 0)).sum()) if key else 0,
        0 if back is None else back.missing,
    )


def _says_nothing(question: Question) -> Mask:
    """The rows in which all cells are blank that feed the table, but for those that name a record of another one."""
    fed = [pair for pair in question.pairing.pairs if pair.rule.sources and pair.rule.find is None]
    blank = ~flawed(question.converted.flaws, question.rows)
    for pair in fed:
        blank &= ~valid(as_array(question.converted.values[pair.target.name]))
    return blank if fed else np.zeros(question.rows, bool)


def _one_to_one(question: Question, skipped: Mask) -> Question:
    """The question, in which each row has a record of its own, where it has one."""
    told = instructions(question.incoming, question.rules)
    wrong = flawed([*question.converted.flaws, *told.flaws], question.rows)
    settled = skipped | wrong | (told.actions == ACTION_CODES[Action.SKIP])
    rows, records = candidates(question.codes)
    sides = Sides(question.incoming, question.converted.values, question.existing, rows, records)
    asked = replace(question, rules=replace(question.rules, update_all=True))  # several records to a row
    other = any_of(compare(asked, sides, {}).values(), len(rows))
    codes = paired(question.codes, rows, records, ~other, settled)
    return replace(question, codes=codes, matches=match(codes))


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
