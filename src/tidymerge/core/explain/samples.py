"""A few changes picked out for people to look at."""

import numpy as np
import pyarrow as pa

from tidymerge.core.decide.rows import key_text
from tidymerge.core.tidy.cells import as_array, shown
from tidymerge.model import Incoming
from tidymerge.model.changes import ChangeSet
from tidymerge.model.receipt import Example, SampleRow, Touch


def examples(incoming: Incoming, changes: ChangeSet) -> dict[str, Example]:
    """For each column that changes its first change in row order."""
    found = {}
    updates = changes.updates
    for name in updates.columns:
        at = np.flatnonzero(updates.changed[name])
        first = int(at[updates.rows[at].argmin()])
        key = tuple(key_text(updates.after.slice(first, 1), [column])[0].as_py() for column in changes.key)
        row = int(incoming.numbers_of(updates.rows[first : first + 1])[0])
        before, after = _text(updates.before, name, first), _text(updates.after, name, first)
        found[name] = Example(row, key, before, after)
    return found


def first_touches(incoming: Incoming, changes: ChangeSet, most: int) -> list[Touch]:
    """The first touched records in row order, each with the fields that change."""
    found = [touch for some in (_updated, _inserted, _removed) for touch in some(incoming, changes, most)]
    return sorted(found, key=lambda touch: touch.row)[:most]


def _removed(incoming: Incoming, changes: ChangeSet, most: int) -> list[Touch]:
    """The first of the records that are to be removed, with what they hold."""
    numbers = incoming.numbers_of(changes.removals.rows)
    found = []
    for at in np.argsort(numbers, kind="stable")[:most].tolist():
        held = _texts(changes.removals.before, at)
        fields = tuple(
            (name, text, None) for name, text in held.items() if text is not None and name not in changes.key
        )
        found.append(Touch("removed", int(numbers[at]), tuple(held[name] or "" for name in changes.key), fields))
    return found


def _updated(incoming: Incoming, changes: ChangeSet, most: int) -> list[Touch]:
    """The first of the records that are to be updated, with the fields that change."""
    updates, found = changes.updates, []
    numbers = incoming.numbers_of(updates.rows)
    for at in np.argsort(numbers, kind="stable")[:most].tolist():
        before, after = _texts(updates.before, at), _texts(updates.after, at)
        changed = [name for name in after if name not in changes.key and updates.changing(name)[at]]
        fields = tuple((name, before[name], after[name]) for name in changed)
        found.append(Touch("updated", int(numbers[at]), tuple(after[name] or "" for name in changes.key), fields))
    return found


def _inserted(incoming: Incoming, changes: ChangeSet, most: int) -> list[Touch]:
    """The first of the records that are to be inserted, with the fields that have a value."""
    inserts, found = changes.inserts, []
    numbers = incoming.numbers_of(inserts.rows)
    for at in np.argsort(numbers, kind="stable")[:most].tolist():
        after = _texts(inserts.after, at)
        fields = tuple(
            (name, None, text) for name, text in after.items() if text is not None and name not in changes.key
        )
        found.append(Touch("inserted", int(numbers[at]), tuple(after[name] or "" for name in changes.key), fields))
    return found


def sample_rows(incoming: Incoming, changes: ChangeSet, most: tuple[int, int] = (2, 1)) -> tuple[SampleRow, ...]:
    """The first few updated, inserted and removed records in full; `most` says how many of the first and second."""
    updates, inserts = changes.updates, changes.inserts
    found = []
    for at in updates.rows.argsort()[: most[0]].tolist():
        before, after = _texts(updates.before, at), _texts(updates.after, at)
        fields = tuple((name, before[name], text, bool(updates.changing(name)[at])) for name, text in after.items())
        found.append(SampleRow(int(incoming.numbers_of(updates.rows)[at]), "updated", fields))
    for at in range(min(most[1], len(inserts))):
        fields = tuple((name, None, text, True) for name, text in _texts(inserts.after, at).items())
        found.append(SampleRow(int(incoming.numbers_of(inserts.rows)[at]), "inserted", fields))
    removals = changes.removals
    for at in removals.rows.argsort()[: most[0]].tolist():
        fields = tuple((name, text, None, True) for name, text in _texts(removals.before, at).items())
        found.append(SampleRow(int(incoming.numbers_of(removals.rows)[at]), "removed", fields))
    return tuple(found)


def _texts(table: pa.Table, at: int) -> dict[str, str | None]:
    """One record, for people."""
    return {name: _text(table, name, at) for name in table.column_names}


def _text(table: pa.Table, name: str, at: int) -> str | None:
    text: str | None = shown(as_array(table[name].slice(at, 1)))[0].as_py()
    return text
