"""Records that are on no row, where the rows are the full list: they go, or are marked as gone.

They stand behind the incoming rows, as rows that nobody wrote: so they are counted, written and rejected like those.
Source: docs/meaning.md.
"""

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.change_set import Matched
from tidymerge.core.decide.columns import constant
from tidymerge.core.decide.question import Question
from tidymerge.core.decide.rows import key_text
from tidymerge.core.expressions import Frame
from tidymerge.core.tidy.cells import any_of, as_array, differs, mask_of
from tidymerge.model import Indices, Mask
from tidymerge.model.changes import Outcome
from tidymerge.model.rules import Action

Outcomes = npt.NDArray[np.uint8]


class Beyond(Struct, frozen=True):
    """A question and its answer, with the absent records behind the rows; `named` are their keys, for people."""

    question: Question
    outcomes: Outcomes
    update: Matched
    named: pa.Array


def with_absent(question: Question, outcomes: Outcomes, update: Matched, may_go: Mask | None = None) -> Beyond:
    """What becomes of the records that no row has, of those that `may_go` (None: all)."""
    gone = _absent(question)
    gone = gone if may_go is None else gone[may_go[gone]]
    loaded = question.converted.values.column_names
    values = question.existing.values.select(loaded).take(pa.array(gone))
    changed: dict[str, Mask] = {}
    sets = question.rules.absent_sets
    if question.rules.absent is not Action.REMOVE:
        values, changed = _marked(question, values, sets)
        stays = any_of((mask for name, mask in changed.items() if name in sets), len(gone))
        gone, values = gone[stays], values.filter(pa.array(stays))
        changed = {name: mask[stays] for name, mask in changed.items()}
        rows = question.rows + np.arange(len(gone))
        nothing = np.zeros(len(gone), bool)
        update = Matched(
            np.r_[update.rows, rows],
            np.r_[update.records, gone],
            {
                name: np.r_[update.changed.get(name, np.zeros(len(update.rows), bool)), changed.get(name, nothing)]
                for name in {**update.changed, **changed}
            },
        )
    outcome = Outcome.REMOVED if question.rules.absent is Action.REMOVE else Outcome.UPDATED
    matches = question.matches
    return Beyond(
        replace(
            question,
            converted=replace(question.converted, values=pa.concat_tables([question.converted.values, values])),
            matches=replace(
                matches, record=np.r_[matches.record, gone], times=np.r_[matches.times, np.ones_like(gone)]
            ),
        ),
        np.r_[outcomes, np.full(len(gone), outcome, np.uint8)],
        update,
        key_text(values, question.pairing.key),
    )


def _absent(question: Question) -> Indices:
    """The records whose key is on no row, whatever becomes of the row; within what the rows are the full list of."""
    codes, within = question.codes, question.conditions.absent_within
    on_a_row = np.zeros(codes.size + 1, bool)
    on_a_row[codes.incoming[codes.incoming >= 0]] = True
    absent = (codes.existing >= 0) & ~on_a_row[codes.existing]
    if within is not None:
        existing = question.existing
        columns = {(scope, name): as_array(existing.values[name]) for scope, name in within.uses}
        frame = Frame(columns, len(absent), question.conditions.now)
        absent &= mask_of(within.evaluate(frame).fill_null(False)) & ~frame.failed()
        for _, name in within.uses:
            absent &= ~existing.unreadable.get(name, np.zeros(len(absent), bool))
    return np.flatnonzero(absent)


def _marked(question: Question, values: pa.Table, sets: Mapping[str, str]) -> tuple[pa.Table, dict[str, Mask]]:
    """The records with the values that mark them as gone, and the stamps of this run; and what of it is a change."""
    changed = {}
    for pair in question.pairing.pairs:
        name = pair.target.name
        if name in sets:
            new = constant(sets[name], pair, "The value of rules.absent")
        elif pair.rule.stamp in ("time", "run") and question.rows:
            new = as_array(question.converted.values[name])[0]
        else:
            continue
        old = as_array(values[name])
        column = pa.repeat(new, len(old))
        changed[name] = differs(column, old)
        values = values.set_column(values.column_names.index(name), name, column)
    return values, changed
