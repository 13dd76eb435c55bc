"""What the records hold that are staged to go: all of it, for the log."""

from collections.abc import Callable

from msgspec.structs import replace

from tidymerge.core.undo.reverse import unmarked_table
from tidymerge.errors import TargetChanged
from tidymerge.model import TableShape
from tidymerge.model.changes import ChangeSet
from tidymerge.ports.target import Target


def in_full(changes: ChangeSet, shape: TableShape, target: Target) -> ChangeSet:
    """The changes, whose removals have all columns of the records as exact text. Raises TargetChanged."""
    if not len(changes.removals):
        return changes
    held = target.leaving(changes, [column for column in shape.columns if not column.generated])
    if held.num_rows != len(changes.removals):
        raise TargetChanged(f"Another program removed records of {target.address} while they were read.")
    return replace(changes, removals=replace(changes.removals, before=held))


def for_people(target: Target) -> Callable[[ChangeSet], ChangeSet]:
    """What makes the values of removals fit to be read."""

    def readable(changes: ChangeSet) -> ChangeSet:
        if not len(changes.removals):
            return changes
        before = target.readable(changes.removals.before)
        before = unmarked_table(before) if target.marks_text else before
        return replace(changes, removals=replace(changes.removals, before=before))

    return readable
