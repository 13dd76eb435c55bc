"""What staged changes may not do because lists refer to each other: as far as the service's metadata tells."""

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
import pyarrow as pa
from msgspec import Struct

from tidymerge.core.tidy.cells import as_array
from tidymerge.model import ForeignKey, Indices, Reason
from tidymerge.model.changes import ChangeSet, Violation
from tidymerge.services.odata.describe import described
from tidymerge.services.odata.reading import Records
from tidymerge.services.odata.session import Session

Row = tuple[str | None, ...]


class Staged(Struct, frozen=True):
    """The staged changes of one list: its values as exact text, and the keys of what goes and of what is updated.

    Positions that are `out` don't count.
    """

    name: str
    changes: ChangeSet
    after: pa.Table
    fresh: pa.Table
    keys: Sequence[Mapping[str, str | None]]
    updated: Sequence[Mapping[str, str | None]]
    out: frozenset[int]

    def given(self, columns: Sequence[str]) -> Iterator[tuple[int, Row]]:
        """The values that changes give these columns, if they give any of them, with the positions."""
        updates, inserts = self.changes.updates, self.changes.inserts
        if set(columns) <= set(self.after.column_names):
            touched = np.any([updates.changing(name) for name in columns], axis=0) if len(updates) else ()
            yield from self._rows(self.after, columns, updates.positions, touched)
        if set(columns) <= set(self.fresh.column_names):
            yield from self._rows(self.fresh, columns, inserts.positions, np.ones(len(inserts), bool))

    def new(self, columns: Sequence[str]) -> set[Row]:
        """The values that new records have in these columns."""
        if not set(columns) <= set(self.fresh.column_names):
            return set()
        inserts = self.changes.inserts
        return {row for _, row in self._rows(self.fresh, columns, inserts.positions, np.ones(len(inserts), bool))}

    def leaving(self) -> list[tuple[int, Mapping[str, str | None]]]:
        """The keys of records that go, with their positions."""
        positions = self.changes.removals.positions.tolist()
        return [(at, key) for at, key in zip(positions, self.keys, strict=True) if at not in self.out]

    def moving(self, columns: Sequence[str]) -> list[Mapping[str, str | None]]:
        """The keys of records that are given other values in these columns."""
        updates = self.changes.updates
        if not len(updates):
            return []
        moved = np.any([updates.changing(name) for name in columns], axis=0)
        stays = [at not in self.out for at in updates.positions.tolist()]
        return [key for key, moves, is_in in zip(self.updated, moved.tolist(), stays, strict=True) if moves and is_in]

    def _rows(
        self, values: pa.Table, columns: Sequence[str], positions: Indices, touched: Sequence[bool] | np.ndarray
    ) -> Iterator[tuple[int, Row]]:
        rows = zip(*(as_array(values[name]).to_pylist() for name in columns), strict=True)
        for position, row, is_touched in zip(positions.tolist(), rows, touched, strict=True):
            if is_touched and None not in row and position not in self.out:
                yield position, row


def without_parent(session: Session, key: ForeignKey, own: Staged, others: Sequence[Staged]) -> list[Violation]:
    """Changes that refer to records which are not there, and do not come with this run."""
    given = list(own.given(key.columns))
    coming = {row for one in others if one.name == key.table for row in one.new(key.referred)}
    asked = list(dict.fromkeys(row for _, row in given if row not in coming))
    if not asked:
        return []
    there = _there(session, key.table, key.referred, asked)
    positions = [position for position, row in given if row not in coming and row not in there]
    if not positions:
        return []
    wanted = f"a value found in {key.table} ({', '.join(key.referred)})"
    return [Violation(Reason.NO_SUCH_RECORD, wanted, key.columns, np.array(sorted(positions), np.int64))]


def still_referred_to(session: Session, own: Staged, others: Sequence[Staged]) -> list[Violation]:
    """Records that are to go, of which other records of the service need one."""
    leaving = own.leaving()
    found = []
    for child, key in _referring(session, own.name) if leaving else ():
        rows = {tuple(values.get(name) for name in key.referred): position for position, values in leaving}
        if any(None in row for row in rows):
            continue  # it is referred to by other columns than its key
        own_kind = [staged for staged in others if staged.name == child]
        gone = {_sorted(one) for staged in own_kind for _, one in staged.leaving()}
        gone |= {_sorted(one) for staged in own_kind for one in staged.moving(key.columns)}
        left: dict[int, list[str]] = {}
        for row, its_key in _children(session, child, key, list(rows)):
            if _sorted(its_key) not in gone:
                named = ", ".join(f"{name} {text}" for name, text in its_key.items())
                left.setdefault(rows[row], []).append(f"{child} {named}")
        if left:
            positions = sorted(left)
            said = tuple(_first_of(left[at]) for at in positions)
            wanted = f"no record of {child} that refers to it by {' + '.join(key.columns)}"
            found.append(Violation(Reason.REFERRED_TO, wanted, (), np.array(positions, np.int64), found=said))
    return found


def _sorted(key: Mapping[str, str | None]) -> tuple[tuple[str, str | None], ...]:
    return tuple(sorted(key.items()))


def _first_of(names: Sequence[str]) -> str:
    return names[0] + (f" and {len(names) - 1:,} more" if len(names) > 1 else "")


def _there(session: Session, name: str, columns: Sequence[str], rows: Sequence[Row]) -> set[Row]:
    """Which of some values records of a list have."""
    return {row for row, _ in _found(session, name, columns, columns, rows)}


def _children(
    session: Session, name: str, key: ForeignKey, rows: Sequence[Row]
) -> list[tuple[Row, dict[str, str | None]]]:
    """The records that refer to some values, by what they refer to, with their own keys."""
    about = described(session.metadata, name)
    names = about.shape.primary_key
    found = _found(session, name, (*key.columns, *names), key.columns, rows)
    size = len(key.columns)
    return [(row[:size], dict(zip(names, row[size:], strict=True))) for _, row in found]


def _found(
    session: Session, name: str, read: Sequence[str], by: Sequence[str], rows: Sequence[Row]
) -> list[tuple[Row, Row]]:
    about = described(session.metadata, name)
    texts = pa.table({one: pa.array([row[at] for row in rows], pa.string()) for at, one in enumerate(by)})
    columns = [about.shape.column(one).as_stored() for one in dict.fromkeys(read)]
    values = Records(session, about).of_keys(columns, by, texts).values
    each = [as_array(values[one]).to_pylist() for one in read]
    return [(row[: len(by)], row) for row in zip(*each, strict=True)]


def _referring(session: Session, name: str) -> Iterator[tuple[str, ForeignKey]]:
    """The lists that refer to one, and how."""
    metadata = session.metadata
    for other in metadata.sets:
        if any(kind.key for kind in metadata.line(metadata.sets[other].type)):
            for key in described(metadata, other).shape.foreign_keys:
                if key.table == name:
                    yield other, key
