"""Ranges of staged positions, each for one statement."""

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np

from tidymerge.databases.contract.database import POSITION, quoted
from tidymerge.model import Indices, Mask
from tidymerge.model.changes import Inserts


class Statement:
    """A statement over a range of staged positions."""

    def __init__(self, write: Callable[[Sequence[str], str], str], names: Sequence[str]) -> None:
        self._write = write
        self._names = names

    def over(self, low: int, high: int) -> str:
        """The statement for positions `low` to `high`."""
        return self._write(self._names, between(low, high))


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


def ranges(numbers: Indices, positions: Indices, masks: Mapping[str, Mask]) -> Iterator[tuple[list[str], int, int]]:
    """For each run of equal `numbers` the columns that `masks` mark there, and its first and last position."""
    starts = np.flatnonzero(np.r_[True, numbers[1:] != numbers[:-1]][: len(numbers)])
    marked = np.column_stack([mask[starts] for mask in masks.values()]) if masks else np.zeros((len(starts), 0), bool)
    names = list(masks)
    for at, (start, end) in enumerate(zip(starts, np.r_[starts, len(numbers)][1:], strict=True)):
        yield [names[one] for one in np.flatnonzero(marked[at])], int(positions[start]), int(positions[end - 1])


def stretches(positions: Indices) -> Iterator[tuple[int, int]]:
    """The stretches of neighbouring positions: the first and the last of each."""
    ordered = np.unique(positions)
    for stretch in np.split(ordered, np.flatnonzero(np.diff(ordered) > 1) + 1):
        if len(stretch):
            yield int(stretch[0]), int(stretch[-1])
