"""What a careful colleague would point out before the load: near-miss keys, nothing matched, all changed."""

from collections.abc import Callable, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import as_array
from tidymerge.core.match import code_keys, match
from tidymerge.core.rows import key_text
from tidymerge.model import ChangeSet, Existing, Incoming, Kind, Pairing, Tally

_MANY = 20  # below this many rows, "every row" and "no row" are nothing to stop for


def cautions(
    incoming: Incoming,
    existing: Existing,
    known_keys: pa.Table,
    changes: ChangeSet,
    counted: Tally,
    pairing: Pairing,
) -> list[str]:
    """Warnings about a decided change set; any of them stops an unattended load.

    `known_keys` holds the key columns of every record of the target.
    """
    found = []
    if counted.read == 0:
        found.append("There are no rows to load: nothing stands below the column names.")
    matched = counted.updated + counted.unchanged
    if existing.rows_in_target and counted.inserted and not matched:
        found.append(
            f"No row matched: {counted.inserted:,} good {plural(counted.inserted, 'row', 'rows')} would be inserted "
            f"as new. Is the key ({' + '.join(pairing.key)}) the right one, and written the same way on both sides?"
        )
    if counted.updated >= _MANY and counted.updated == existing.rows_in_target:
        found.append(f"Every one of the {existing.rows_in_target:,} records of the target would change.")
    found.extend(near_misses(incoming, known_keys, changes, pairing))
    for column, mask in existing.unreadable.items():
        count = int(mask.sum())
        found.append(
            f"{count:,} {plural(count, 'record holds', 'records hold')} something in {column} that its declared "
            "type can't hold; where a row brings a value, it will replace that."
        )
    return found


def near_misses(incoming: Incoming, old: pa.Table, changes: ChangeSet, pairing: Pairing) -> list[str]:
    """New keys that equal existing ones but for case, spaces, leading zeros or number form."""
    texts = [column.name for column in pairing.key_columns if column.type.kind is Kind.TEXT]
    new = changes.after.slice(changes.updates).select(pairing.key)
    if not texts or not new.num_rows or not old.num_rows:
        return []
    near = match(code_keys(_loosely(new, texts, _every_form), _loosely(old, texts, _every_form), pairing.key_columns))
    rows = np.flatnonzero(near.record >= 0)
    if not len(rows):
        return []
    ours, theirs = new.take(pa.array(rows)), old.take(pa.array(near.record[rows]))
    left = np.ones(len(rows), bool)
    messages = []
    for difference, form in (*_FORMS, ("several of letter case, spaces, leading zeros and number form", _every_form)):
        alike = left & _equal_under(ours, theirs, texts, form)
        left &= ~alike
        if alike.any():
            messages.append(_near_miss(difference, alike, ours, theirs, incoming, changes, rows, pairing.key))
    return messages


def _near_miss(
    difference: str,
    alike: np.ndarray,
    ours: pa.Table,
    theirs: pa.Table,
    incoming: Incoming,
    changes: ChangeSet,
    rows: np.ndarray,
    key: Sequence[str],
) -> str:
    count, first = int(alike.sum()), int(np.flatnonzero(alike)[0])
    new = key_text(ours.slice(first, 1), key)[0].as_py()
    old = key_text(theirs.slice(first, 1), key)[0].as_py()
    row = incoming.row_numbers[changes.incoming[changes.updates + rows[first]]]
    return (
        f"{count:,} new {plural(count, 'key equals an existing one', 'keys equal existing ones')} but for "
        f"{difference}: row {row} has {new!r}, the target has {old!r}. Loaded as they are, they become duplicates."
    )


def _loosely(keys: pa.Table, texts: Sequence[str], form: Callable[[pa.Array], pa.Array]) -> pa.Table:
    return pa.table({name: _formed(keys[name], form) if name in texts else keys[name] for name in keys.column_names})


def _equal_under(
    ours: pa.Table, theirs: pa.Table, texts: Sequence[str], form: Callable[[pa.Array], pa.Array]
) -> np.ndarray:
    alike = np.ones(ours.num_rows, bool)
    for name in texts:
        one, other = _formed(ours[name], form), _formed(theirs[name], form)
        alike &= pc.equal(one, other).to_numpy(zero_copy_only=False)
    return alike


def _formed(texts: pa.ChunkedArray, form: Callable[[pa.Array], pa.Array]) -> pa.Array:
    """`form` of every text, worked out once for each distinct one."""
    coded = as_array(texts).dictionary_encode()
    return form(coded.dictionary).take(coded.indices)


def _case(texts: pa.Array) -> pa.Array:
    return pc.utf8_lower(texts)


def _spaces(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(pc.utf8_normalize(texts, "NFKC"), "[\\s\u200b\u200c\u200d\ufeff]+", "")


def _zeros(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"^0+([0-9A-Za-z])", r"\1")


def _number_form(texts: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(texts, r"^([0-9]+)[.,]0+$", r"\1")


def _every_form(texts: pa.Array) -> pa.Array:
    return _zeros(_number_form(_spaces(_case(texts))))


_FORMS = (
    ("leading zeros", _zeros),
    ("letter case", _case),
    ("spaces", _spaces),
    ("number form", _number_form),
)


def plural(count: int, one: str, many: str) -> str:
    """The word for one or for many."""
    return one if count == 1 else many
