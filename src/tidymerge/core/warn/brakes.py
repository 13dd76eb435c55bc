"""What a careful person would stop at, seen in the rows that matched: few signs, each with an example.

Of a load in parts the one with the most updates is looked at: parts are divided by a hash of the keys, so each is a
fair sample.
"""

from collections.abc import Callable, Container, Iterator, Sequence
from itertools import combinations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.decide.rows import key_text
from tidymerge.core.tidy.cells import as_array, mask_of, shown, valid
from tidymerge.core.words import share
from tidymerge.model import Incoming, Kind, Mask, Pairing
from tidymerge.model.changes import ChangeSet, Outcome, Tally

_MANY = 20  # records; of fewer a person sees each
_NEARLY_ALL, _MOST, _SOME, _FEW = 0.95, 0.8, 0.2, 0.1  # shares
_VARIED = 5  # different values that a column held, to lose by becoming one
_COLUMNS = 20  # the most changed ones, of which each pair is compared
_EXACT = (Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT)
_TIMES = (Kind.DATE, Kind.TIMESTAMP, Kind.TIME)  # of which one value for all is what one expects

Parts = Sequence[tuple[Callable[[], Incoming], ChangeSet]]


def brakes(parts: Parts, pairing: Pairing, counted: Tally, *, is_meant: bool, added: Container[str] = ()) -> list[str]:
    """The signs that the rows are not what they should be.

    `is_meant`: so many updates were asked for. Columns that are `added` are new in every record.
    """
    rows, changes = max(parts, key=lambda part: len(part[1].updates), default=(None, None))
    if rows is None or changes is None or len(changes.updates) < _MANY:
        return []
    compared = len(changes.updates) + int((changes.outcomes == Outcome.UNCHANGED).sum())
    found = [*_swapped(rows(), changes, pairing), *_one_value(rows(), changes, pairing, compared)]
    if not is_meant and not found:
        found += _all_change(rows(), changes, counted, added)
    return found


def _all_change(incoming: Incoming, changes: ChangeSet, counted: Tally, added: Container[str]) -> list[str]:
    matched = counted.updated + counted.unchanged
    masks = {name: mask for name, mask in changes.updates.changed.items() if name not in added and mask.any()}
    touched = np.logical_or.reduce([np.zeros(len(changes.updates), bool), *masks.values()])
    if counted.updated * touched.mean() < matched * _NEARLY_ALL:
        return []
    counts = {name: int(mask.sum()) for name, mask in masks.items()}
    column = max(counts, key=lambda name: counts[name])
    example = _example(incoming, changes, column, int(changes.updates.changed[column].argmax()))
    how_many = f"{counted.updated:,} of {matched:,} rows that matched would change"
    part = share(counted.updated, matched)
    return [f"{how_many} ({part}), most of all in {column}: {example}. Is it the right sheet?"]


def _one_value(incoming: Incoming, changes: ChangeSet, pairing: Pairing, compared: int) -> Iterator[str]:
    """Columns of which many of the compared records get one and the same value, or become 0 or blank."""
    for pair in pairing.compared:
        name, mask = pair.target.name, changes.updates.changed.get(pair.target.name)
        if mask is None or int(mask.sum()) < _MANY:
            continue
        new, old = (as_array(side[name]).filter(pa.array(mask)) for side in _sides(changes))
        varied = pc.count_distinct(old, mode="all").as_py()
        if varied < _VARIED:
            continue
        nothing = ~valid(new)
        if pair.target.type.kind in _EXACT and not pair.target.type.spelled_out:
            nothing |= mask_of(pc.equal(new, 0))
        lost = nothing & valid(old)
        if lost.mean() >= _MOST and len(new) >= compared * _SOME:
            example = _example(incoming, changes, name, int(np.flatnonzero(mask)[int(lost.argmax())]))
            held = f"which held {varied:,} different values"
            yield f"{name} becomes 0 or blank in {int(lost.sum()):,} records, {held}: {example}."
        elif (
            len(new) >= compared / 2
            and pair.target.type.kind not in _TIMES
            and pc.count_distinct(new, mode="all").as_py() == 1
        ):
            example = _example(incoming, changes, name, int(mask.argmax()))
            held = f"which held {varied:,} different ones"
            asked = "Was a value written in place of a column?"
            yield f"{name} gets one and the same value in {len(new):,} records, {held}: {example}. {asked}"


def _swapped(incoming: Incoming, changes: ChangeSet, pairing: Pairing) -> Iterator[str]:
    """Pairs of columns whose new values fit what the other one held better than what they held themselves."""
    changed = changes.updates.changed
    counts = {one: int(changed[one.name].sum()) for one in pairing.columns if one.name in changed}
    often = sorted((one for one, count in counts.items() if count >= _MANY), key=lambda one: -counts[one])
    for one, other in combinations(often[:_COLUMNS], 2):
        numbers = [side.type.kind in _EXACT and not side.type.spelled_out for side in (one, other)]
        both = changed[one.name] & changed[other.name]
        if numbers[0] != numbers[1] or both.sum() < max(_MANY, len(changes.updates) / 2):
            continue
        new_one, new_other, old_one, old_other = (
            as_array(side[name]).filter(pa.array(both)) for side in _sides(changes) for name in (one.name, other.name)
        )
        crossed = _alike(new_one, old_other) & _alike(new_other, old_one)
        near = numbers[0] and _nearer_crosswise(*map(_floats, (new_one, new_other, old_one, old_other)))
        if crossed.mean() >= _MOST or near:
            at = int(np.flatnonzero(both)[0])
            example = "; ".join(_example(incoming, changes, name, at) for name in (one.name, other.name))
            fit = f"The new values of {one.name} fit what {other.name} holds, and the other way round"
            yield f"{fit}, in {int(both.sum()):,} records: {example}. Are the two columns swapped?"


def _sides(changes: ChangeSet) -> tuple[pa.Table, pa.Table]:
    return changes.updates.after, changes.updates.before


def _alike(one: pa.Array, other: pa.Array) -> Mask:
    return mask_of(pc.equal(shown(one), shown(other)))


def _floats(values: pa.Array) -> np.ndarray:
    found: np.ndarray = pc.cast(values, pa.float64(), safe=False).to_numpy(zero_copy_only=False)
    return found


def _nearer_crosswise(new_one: np.ndarray, new_other: np.ndarray, old_one: np.ndarray, old_other: np.ndarray) -> bool:
    """Whether numbers are much nearer to what the other column held than to what their own did."""

    def apart(one: np.ndarray, other: np.ndarray) -> float:
        known = ~(np.isnan(one) | np.isnan(other))
        return float(np.median(np.abs(one - other)[known])) if known.any() else 0.0

    own = apart(new_one, old_one) + apart(new_other, old_other)
    return own > 0 and apart(new_one, old_other) + apart(new_other, old_one) < own * _FEW


def _example(incoming: Incoming, changes: ChangeSet, name: str, at: int) -> str:
    new, old = _sides(changes)
    row = incoming.place(int(changes.updates.rows[at]))
    key = key_text(new.slice(at, 1).select(changes.key), changes.key)[0].as_py()
    before, after = (shown(as_array(side[name]).slice(at, 1))[0].as_py() for side in (old, new))
    return f"row {row} ({key}) {name} {before or '(blank)'} becomes {after or '(blank)'}"
