"""A few changes picked out for people to look at."""

import numpy as np
import pyarrow as pa

from tidymerge.changes import ChangeSet
from tidymerge.core.cells import as_array, shown
from tidymerge.core.rows import key_text
from tidymerge.model import Incoming
from tidymerge.receipt import Example, SampleRow, Touch


def examples(incoming: Incoming, changes: ChangeSet) -> dict[str, Example]:
    """For each column that changes its first change in row order."""
    found = {}
    keys = changes.after.select(changes.key)
    for name, mask in changes.changed.items():
        if mask.any():
            positions = mask.nonzero()[0]
            at = int(positions[changes.incoming[positions].argmin()])
            key = tuple(key_text(keys.slice(at, 1), [column])[0].as_py() for column in changes.key)
            row = int(incoming.row_numbers[changes.incoming[at]])
            before, after = _text(changes.before, name, at), _text(changes.after, name, at)
            found[name] = Example(row, key, before, after)
    return found


def first_touches(incoming: Incoming, changes: ChangeSet, most: int) -> list[Touch]:
    """The first touched records in row order, each with the fields that change."""
    found = [*_written(incoming, changes, most), *_deleted(incoming, changes, most)]
    return sorted(found, key=lambda touch: touch.row)[:most]


def _deleted(incoming: Incoming, changes: ChangeSet, most: int) -> list[Touch]:
    """The first of the records that are to be deleted, with what they hold."""
    numbers = incoming.row_numbers[changes.leaving_rows]
    found = []
    for at in np.argsort(numbers, kind="stable")[:most].tolist():
        held = {name: _text(changes.removed, name, at) for name in changes.removed.column_names}
        fields = tuple(
            (name, text, None) for name, text in held.items() if text is not None and name not in changes.key
        )
        found.append(Touch("deleted", int(numbers[at]), tuple(held[name] or "" for name in changes.key), fields))
    return found


def _written(incoming: Incoming, changes: ChangeSet, most: int) -> list[Touch]:
    """The first of the records that are to be updated or inserted."""
    numbers = incoming.row_numbers[changes.incoming]
    names = [name for name in changes.after.column_names if name not in changes.key]
    found = []
    for at in np.argsort(numbers, kind="stable")[:most].tolist():
        is_update = at < changes.updates
        fields = []
        for name in names:
            before = _text(changes.before, name, at) if is_update else None
            after = _text(changes.after, name, at)
            if (
                changes.changed[name][at]
                if is_update and name in changes.changed
                else after is not None and not is_update
            ):
                fields.append((name, before, after))
        key = tuple(_text(changes.after, name, at) or "" for name in changes.key)
        found.append(Touch("updated" if is_update else "inserted", int(numbers[at]), key, tuple(fields)))
    return found


def sample_rows(incoming: Incoming, changes: ChangeSet, updates: int = 2, inserts: int = 1) -> tuple[SampleRow, ...]:
    """The first few updated and inserted records in full, in row order."""
    first = changes.incoming[: changes.updates].argsort()[:updates].tolist()
    new = range(changes.updates, min(changes.updates + inserts, changes.after.num_rows))
    return tuple(_sample(incoming, changes, at) for at in (*first, *new))


def _sample(incoming: Incoming, changes: ChangeSet, at: int) -> SampleRow:
    is_update = at < changes.updates
    fields = tuple(
        (
            name,
            _text(changes.before, name, at) if is_update else None,
            _text(changes.after, name, at),
            bool(changes.changed[name][at]) if is_update and name in changes.changed else not is_update,
        )
        for name in changes.after.column_names
    )
    row = int(incoming.row_numbers[changes.incoming[at]])
    return SampleRow(row, "updated" if is_update else "inserted", fields)


def _text(table: pa.Table, name: str, at: int) -> str | None:
    text: str | None = shown(as_array(table[name].slice(at, 1)))[0].as_py()
    return text
