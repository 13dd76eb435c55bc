"""Tables of one run that refer to each other: what look-ups see of new records, and the ids that these are given."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.coming import (
    Awaited,
    Coming,
    Stand,
    meant_rows,
    orphans,
    stand_for,
    with_ids,
    with_names,
)
from tidymerge.core.decide.constraints import dropped
from tidymerge.core.decide.lookup import LookUp
from tidymerge.core.decide.rows import key_text
from tidymerge.core.match.match import by_number, code_keys, texts_to_tell
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.words import counted
from tidymerge.errors import BadOption
from tidymerge.model import Pair, Pairing, TargetColumn
from tidymerge.model.changes import ChangeSet, Outcome
from tidymerge.model.receipt import MappedColumn
from tidymerge.model.rules import ColumnRule, Find
from tidymerge.ports.target import Related, Target
from tidymerge.run.ask import equal_texts
from tidymerge.run.commit import Carried
from tidymerge.run.decided import Decided, Part

Named = Callable[[ChangeSet], ChangeSet]


class Relative(Struct, frozen=True):
    """A table that comes before others in a run, by its place in it: its rows, typed, and what was decided of them.

    Some give ids to new records by themselves.
    """

    place: int
    name: str
    part: Part
    values: pa.Table
    gives_ids: bool

    def seen_by(self, table: LookUp, columns: Sequence[TargetColumn]) -> tuple[LookUp, Stand | None]:
        """A look-up for some columns that sees the new records; and numbers for ids that are not known yet.

        Raises BadOption where new records have no such ids.
        """
        changes, find = self.part.changes, table.find
        fresh = changes.inserts
        if find.where not in fresh.after.column_names:
            return table, None
        stand = None
        if find.take in fresh.after.column_names:
            take = as_array(fresh.after[find.take])
        elif not self.gives_ids and len(fresh):
            raise BadOption(
                f"{self.name} gives new rows no {find.take} in time, so {find.take} can't be looked up for them: "
                "load that column, too, or look up another one."
            )
        else:
            ids = as_array(table.values[find.take])
            stand = stand_for(ids, [table.take, *columns], len(changes.outcomes), self.name)
            take = pa.array(stand.first + fresh.rows, table.take.type.arrow)
        rejected = np.flatnonzero(changes.outcomes == Outcome.REJECTED)
        where = as_array(self.values[find.where]).take(pa.array(rejected))
        numbers = self.part.incoming().row_numbers[rejected]
        coming = Coming(as_array(fresh.after[find.where]), take, where, numbers)
        return replace(table, coming=coming), stand


def own_stands(tables: Mapping[Find, LookUp], pairing: Pairing, name: str, rows: int) -> dict[Find, Stand]:
    """Numbers for the ids of a table's new records, for the look-ups by which its rows refer to each other.

    A column that may not be empty can't wait for an id, and only whole numbers can be stood for: then only records that
    are there are found.
    """
    loaded = {column.name for column in pairing.columns}
    found = {}
    for find, table in tables.items():
        own, columns = table.find, [pair.target for pair in pairing.pairs if pair.rule.find == find]
        waits = all(column.nullable and column.name not in pairing.key for column in columns)
        if own.table == name and own.where in loaded and own.take not in loaded and waits:
            with suppress(BadOption):
                found[find] = stand_for(as_array(table.values[own.take]), [table.take, *columns], rows, name)
    return found


def with_meant(
    awaits: Sequence[Awaited], look_ups: Mapping[Find, LookUp], part: Part, values: pa.Table, target: Target
) -> tuple[Awaited, ...]:
    """The columns that wait for ids of their own table, with the rows that bring those; `values` are its typed rows."""
    found = []
    for one in awaits:
        if one.table < 0:
            about = (one.called, one.where)
            column = next(table.where for table in look_ups.values() if (table.find.table, table.find.where) == about)
            own = values.select([column.name])
            equal = by_number(equal_texts(target, [column], texts_to_tell([own], [column])))
            codes = code_keys(own, own.slice(0, 0), [column], equal).incoming
            found.append(replace(one, meant=meant_rows(codes, part.changes)))
        else:
            found.append(one)
    return tuple(found)


def awaited_by(pairing: Pairing, find: Find, place: int, table: LookUp, stand: Stand) -> list[Awaited]:
    """The columns that wait for ids of a look-up's table."""
    return [
        Awaited(pair.target.name, place, table.find.table, table.take, stand, table.find.where)
        for pair in pairing.pairs
        if pair.rule.find == find
    ]


def named(awaits: Sequence[Awaited], names: Mapping[int, pa.Array]) -> Named:
    """What puts the keys of new records in place of ids that are not known yet; `names` are those of each table."""

    def with_keys(changes: ChangeSet) -> ChangeSet:
        for one in awaits:
            changes = with_names(changes, one, names[one.table])
        return changes

    return with_keys


def names_of(changes: ChangeSet) -> pa.Array:
    """For each row of a table the key of the record that it inserts, for people."""
    at = np.full(len(changes.outcomes), -1)
    at[changes.inserts.rows] = np.arange(len(changes.inserts))
    return key_text(changes.inserts.after, changes.key).take(pa.array(at, mask=at < 0))


def with_words(view: Sequence[MappedColumn], awaits: Sequence[Awaited]) -> tuple[MappedColumn, ...]:
    """How columns are fed, with a word for ids that are not known yet."""
    stands = {one.column: one.stand for one in awaits}

    def word(column: str, text: str | None) -> str | None:
        stand = stands.get(column)
        is_number = stand is not None and text is not None and text.removeprefix("-").isdecimal()
        return "(new)" if stand and is_number and stand.first <= int(text or "") <= stand.last else text

    return tuple(
        replace(one, samples=tuple((before, word(one.target, after)) for before, after in one.samples)) for one in view
    )


def stand_in(target: Target, awaits: Sequence[Awaited]) -> None:
    """Tell a target which staged values stand for ids."""
    for one in awaits:
        if isinstance(target, Related):
            target.await_ids(one.column, one.stand.first, one.stand.last)


def with_parents(target: Target, decided: Decided, parents: Mapping[int, tuple[Target, Decided]]) -> Decided:
    """A table's changes with the ids that its parents were given; rows whose parents were refused are rejected."""
    for one in decided.awaits:
        if one.table not in parents:  # its own, or one that has no new records, and so comes later
            continue
        parent, theirs = parents[one.table]
        (of_parent,) = theirs.parts
        decided = _without(target, decided, one, of_parent)
        decided = _given(target, decided, one, _ids(parent, theirs, one))
    return decided


def without_orphans(target: Target, decided: Decided) -> Decided:
    """What was decided, without rows whose parents in the same table were refused, and theirs; the same if none."""
    left = decided
    while True:
        before = left
        for one in before.awaits:
            if one.table < 0:
                left = _without(target, left, one, left.parts[0])
        if left is before:
            return left


def drop_refused(target: Target, before: Decided, after: Decided) -> None:
    """Take away what is staged of changes that are no longer wanted."""
    for part, kept in zip(before.parts, after.parts, strict=True):
        target.unstage(np.setdiff1d(part.changes.positions, kept.changes.positions).tolist())


def _without(target: Target, decided: Decided, awaited: Awaited, parent: Part) -> Decided:
    """The changes without those whose parents are not inserted after all."""
    numbers = parent.incoming().row_numbers
    lost = [orphans(awaited, parent.changes, numbers, part.changes, decided.pairing) for part in decided.parts]
    count = sum(len(flaw.rows) for flaws in lost for flaw in flaws)
    if not count:
        return decided
    for part, flaws in zip(decided.parts, lost, strict=True):
        target.unstage(dropped(part.changes, flaws).tolist())
    parts = [part.without(flaws) if flaws else part for part, flaws in zip(decided.parts, lost, strict=True)]
    return decided.with_parts(parts, f"{counted(count, 'row')} rejected, as {awaited.called} refused the parents.")


def with_own(target: Target, carried: Carried) -> Carried:
    """What was written with the ids that its own new records were given, of those that wait for them."""
    for one in carried.decided.awaits:
        if one.table < 0:
            ids = _ids(target, carried.decided, one)
            waiting = tuple(
                (_with_ids(part, one, ids), _with_ids(kept, one, ids), before) for part, kept, before in carried.waiting
            )
            carried = replace(carried, decided=_given(target, carried.decided, one, ids), waiting=waiting)
    return carried


def _given(target: Target, decided: Decided, awaited: Awaited, ids: pa.Array) -> Decided:
    assert isinstance(target, Related)  # noqa: S101 - others give no ids
    staged = ids if awaited.meant is None else ids.take(pa.array(awaited.meant, mask=awaited.meant < 0))
    target.give_ids(decided.shape.column(awaited.column), awaited.stand.first, staged)
    return replace(decided, parts=tuple(_with_ids(part, awaited, ids) for part in decided.parts))


def _with_ids(part: Part, awaited: Awaited, ids: pa.Array) -> Part:
    return replace(part, changes=with_ids(part.changes, awaited, ids))


def _ids(target: Target, decided: Decided, awaited: Awaited) -> pa.Array:
    """The ids that a table's new records were given, one for each of its incoming rows."""
    (part,) = decided.parts
    changes, take = part.changes, awaited.take
    pairing = replace(decided.pairing, pairs=(Pair(take, take.name, ColumnRule((take.name,))),))
    found = as_array(target.read_back(changes, pairing)[take.name]).slice(len(changes.updates))
    at = np.full(len(changes.outcomes), -1)
    at[changes.inserts.rows] = np.arange(len(changes.inserts))
    return found.take(pa.array(at, mask=at < 0))
