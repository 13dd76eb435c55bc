"""Which columns of the records that a run touches go into the log, and by which a record is found again."""

from msgspec import Struct

from tidymerge.core.undo.reverse import touched
from tidymerge.model import TargetColumn
from tidymerge.model.changes import ChangeSet
from tidymerge.run.decided import Decided


class LoggedColumns(Struct, frozen=True):
    """Which columns the log keeps of records that are updated, and of all records that are written."""

    record_key: tuple[str, ...]
    updated: tuple[TargetColumn, ...]
    written: tuple[TargetColumn, ...]
    whole: bool

    @classmethod
    def of(cls, decided: Decided) -> "LoggedColumns":
        """The columns for what was decided about one table."""
        changes = [part.changes for part in decided.parts]
        names, shape = touched(changes), decided.shape
        # The primary key finds a record again, unless the run changes it.
        by_primary = shape.primary_key and not set(shape.primary_key) & set(names)
        late = {name for name in shape.told_late if any(_left_open(part, name) for part in changes)}
        by_primary = by_primary and late.isdisjoint(shape.primary_key)
        record_key = shape.primary_key if by_primary else decided.pairing.key
        is_whole = not by_primary and any(part.by_place for part in changes)
        if is_whole:  # it is found by all that it holds
            record_key = tuple(one.name for one in shape.columns if not one.generated and one.name not in late)
        updated = set(names)
        kept = {*names, *record_key, *decided.pairing.key}
        whole = is_whole or any(len(part.inserts) or len(part.removals) for part in changes)
        return cls(
            record_key,
            tuple(column for column in shape.columns if column.name in updated),
            tuple(
                column
                for column in shape.columns
                if not column.generated and (whole or column.name in kept) and column.name not in late - updated
            ),
            is_whole,
        )


def _left_open(changes: ChangeSet, name: str) -> bool:
    """Whether a new record is given no value in a column."""
    given = changes.inserts.given
    return len(changes.inserts) > 0 and (name not in given or not given[name].all())
