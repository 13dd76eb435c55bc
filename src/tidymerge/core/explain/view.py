"""Is the mapping right? For each target column what feeds it, the rule in words, and a few values before and after."""

import numpy as np
import pyarrow as pa

from tidymerge.core.decide.columns import Converted
from tidymerge.core.tidy.cells import as_array, shown, valid
from tidymerge.core.tidy.convert import as_text
from tidymerge.model import Incoming, IncomingColumn, Mask, Pair, Pairing
from tidymerge.model.receipt import MappedColumn
from tidymerge.model.rules import ColumnRule, Find

_SAMPLES = 3
_LOOKED_AT = 200  # rows from the top in which different values are looked for


def mapping_view(incoming: Incoming, converted: Converted, pairing: Pairing, skipped: Mask) -> tuple[MappedColumn, ...]:
    """One entry a loaded column, in the target's order; `skipped` rows give no samples."""
    return tuple(
        MappedColumn(pair.target.name, pair.incoming, in_words(pair.rule), _samples(incoming, converted, pair, skipped))
        for pair in pairing.pairs
    )


def in_words(rule: ColumnRule) -> str:
    """The rule as a person would say it; nothing for a column that is taken as it is."""
    said = [
        (len(rule.sources) > 1, f"joined with {rule.join!r}"),
        (rule.constant is not None, "the same in every row"),
        (rule.compute, "computed"),
        (rule.stamp, "stamped when a record is written"),
        *((True, step.words()) for step in rule.steps),
        (rule.find, rule.find and _found(rule.find)),
        (rule.default is not None, f"{rule.default!r} in new records if blank"),
        (rule.blanks, f"blanks: {rule.blanks}"),
        (rule.clear_mark is not None, f"{rule.clear_mark!r} clears"),
        (rule.update_when, f"updated when {rule.update_when}"),
        (rule.only_on, f"only on {rule.only_on}"),
    ]
    return "; ".join(str(words) for applies, words in said if applies)


def _found(find: Find) -> str:
    return f"found in {find.table} by {find.where}{', in any letter case' if find.fold_case else ''}"


def _samples(
    incoming: Incoming, converted: Converted, pair: Pair, skipped: Mask
) -> tuple[tuple[str | None, str | None], ...]:
    """The first few different values, as they arrived and as they would be loaded."""
    after = as_array(converted.values[pair.target.name])
    arrays = incoming.column(pair.rule.sources[0]).arrays if pair.rule.sources else ()
    holds = np.logical_or.reduce([valid(after), *(valid(array) for array in arrays)])
    filled = pa.array(np.flatnonzero(holds & ~skipped)[:_LOOKED_AT])
    after = after.take(filled)
    texts = shown(after)
    looked_at = IncomingColumn("", tuple(array.take(filled) for array in arrays))
    before = as_text(looked_at) if arrays else pa.nulls(len(after), pa.string())
    found: dict[tuple[str | None, str | None], None] = {}
    for row in range(len(filled)):
        found[before[row].as_py(), texts[row].as_py()] = None
        if len(found) == _SAMPLES:
            break
    return tuple(found)
