"""Ranges of staged positions, each for one statement."""

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np
from msgspec import Struct

from tidymerge.databases.contract.database import POSITION, Database, quoted
from tidymerge.model import Indices, Mask, TableShape
from tidymerge.model.changes import Inserts


class Statement:
    """A statement over a range of staged positions."""

    def __init__(self, write: Callable[[Sequence[str], str], str], names: Sequence[str]) -> None:
        self._write = write
        self._names = names

    def over(self, low: int, high: int) -> str:
        """The statement for positions `low` to `high`."""
        return self._write(self._names, between(low, high))

    def run(self, database: Database, low: int, high: int) -> int:
        """Run it; how many records it wrote."""
        return database.change(self.over(low, high))


class Stretch(Struct, frozen=True):
    """New records of the positions `low` to `high`, which are numbered from `first` on in their place."""

    low: int
    high: int
    first: int

    def number_of(self, position: int) -> int:
        """The number of the record at a position."""
        return self.first + position - self.low


class PlacedInsert(Statement):
    """An insert of rows that have no key: where each record then is, is noted beside its row, or as a stretch."""

    def __init__(
        self, shape: TableShape, stage: str, names: Sequence[str], places: Sequence[str], stretches: list[Stretch]
    ) -> None:
        super().__init__(lambda _, where: where, names)
        self._about = shape, stage, names
        self._places = places
        self._stretches = stretches

    def run(self, database: Database, low: int, high: int) -> int:
        """Run it; how many records it wrote."""
        done = database.insert_placed(*self._about, self.over(low, high), self._places, high - low + 1)
        if done.first is not None:
            self._stretches.append(Stretch(low, high, done.first))
        return done.count


def between(low: int, high: int) -> str:
    """The condition on staged rows `s` for positions `low` to `high`."""
    return f"s.{quoted(POSITION)} BETWEEN {low:d} AND {high:d}"


def patterns(inserts: Inserts) -> Indices:
    """A number for each new record, equal for those that give the same columns."""
    pattern = np.zeros(len(inserts), np.int64)
    for mask in inserts.given.values():
        if not mask.all():
            pattern = np.unique(pattern * 2 + mask, return_inverse=True)[1].astype(np.int64)
    return pattern


class Range(Struct, frozen=True):
    """Staged positions `low` to `high`: the columns that are marked there, and which of them not in all rows."""

    names: list[str]
    mixed: frozenset[str]
    low: int
    high: int


def ranges(numbers: Indices, positions: Indices, masks: Mapping[str, Mask]) -> Iterator[Range]:
    """For each run of equal `numbers` the columns that `masks` mark there, and its first and last position."""
    starts = np.flatnonzero(np.r_[True, numbers[1:] != numbers[:-1]][: len(numbers)])
    ends = np.r_[starts, len(numbers)][1:]
    if not len(starts):
        return
    none = np.zeros((0, len(starts)), np.int64)
    counts = np.stack([np.add.reduceat(mask, starts, dtype=np.int64) for mask in masks.values()]) if masks else none
    names = list(masks)
    for at, (start, end) in enumerate(zip(starts, ends, strict=True)):
        marked = np.flatnonzero(counts[:, at])
        mixed = frozenset(names[one] for one in marked if counts[one, at] < end - start)
        yield Range([names[one] for one in marked], mixed, int(positions[start]), int(positions[end - 1]))


def stretches(positions: Indices) -> Iterator[tuple[int, int]]:
    """The stretches of neighbouring positions: the first and the last of each."""
    ordered = np.unique(positions)
    for stretch in np.split(ordered, np.flatnonzero(np.diff(ordered) > 1) + 1):
        if len(stretch):
            yield int(stretch[0]), int(stretch[-1])
