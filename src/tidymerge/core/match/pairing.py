"""Rows and records of one key, paired one to one: where a key names several of both, and all are to be kept."""

import numpy as np

from tidymerge.core.match.match import KeyCodes, all_matches, ordinals
from tidymerge.model import Indices, Mask


def candidates(codes: KeyCodes) -> tuple[Indices, Indices]:
    """All pairs of a row and a record of its key."""
    return all_matches(codes, np.flatnonzero(codes.incoming >= 0))


def paired(codes: KeyCodes, rows: Indices, records: Indices, same: Mask, settled: Mask) -> KeyCodes:
    """Codes by which each row finds one record of its key at most, and each record is found by one row at most.

    Of the pairs of `rows` and `records`, those that say the `same` come first: as many as there can be, so that rows
    which were loaded before find the records that they made. The others are paired in their order. Rows that are
    `settled`, as they are skipped or wrong, take only what the good rows leave.
    """
    found = np.full(len(codes.incoming), -1)
    for group in (~settled, settled):
        free = np.ones(len(codes.existing) + 1, bool)
        free[found] = False
        alike = same & group[rows] & free[records]
        found = np.maximum(found, _most_pairs(rows[alike], records[alike], len(found)))
        free[found] = False
        left_rows = np.flatnonzero((codes.incoming >= 0) & (found < 0) & group)
        left_records = np.flatnonzero((codes.existing >= 0) & free[:-1])
        ours, theirs = codes.incoming[left_rows], codes.existing[left_records]
        turns = ordinals(ours), ordinals(theirs)
        most = max(int(turn.max(initial=0)) for turn in turns) + 1
        _, at_rows, at_records = np.intersect1d(ours * most + turns[0], theirs * most + turns[1], return_indices=True)
        found[left_rows[at_rows]] = left_records[at_records]
    incoming = np.where(codes.incoming >= 0, np.arange(len(codes.incoming)), -1)
    existing = np.full(len(codes.existing), -1)
    known = np.flatnonzero(found >= 0)
    existing[found[known]] = known
    return KeyCodes(incoming, existing, max(len(incoming), 1))


def _most_pairs(rows: Indices, records: Indices, row_count: int) -> Indices:
    """For each row its record, or -1: as many pairs as there can be, by augmenting paths (Berge, 1957)."""
    found = np.full(row_count, -1)
    choices, wanted = np.bincount(rows, minlength=row_count), np.bincount(records)
    plain = (choices[rows] == 1) & (wanted[records] == 1)  # nobody else is concerned
    found[rows[plain]] = records[plain]
    of_row: dict[int, list[int]] = {}
    for row, record in zip(rows[~plain].tolist(), records[~plain].tolist(), strict=True):
        of_row.setdefault(row, []).append(record)
    holder: dict[int, int] = {}
    for row in sorted(of_row, key=lambda one: len(of_row[one])):
        _make_room(row, of_row, holder)
    for record, row in holder.items():
        found[row] = record
    return found


def _make_room(row: int, of_row: dict[int, list[int]], holder: dict[int, int]) -> None:
    """Give a row a record, if need be by giving others another one."""
    came_from: dict[int, tuple[int, int | None]] = {}  # by record: who asks for it, and which record that row gives up
    waiting: list[tuple[int, int | None]] = [(row, None)]
    while waiting:
        asking, gives_up = waiting.pop()
        for record in of_row[asking]:
            if record in came_from:
                continue
            came_from[record] = asking, gives_up
            if record not in holder:
                free: int | None = record
                while free is not None:
                    holder[free], free = came_from[free]
                return
            waiting.append((holder[record], record))
