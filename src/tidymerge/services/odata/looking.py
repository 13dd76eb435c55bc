"""Looking at records again: how they stand to what was to be done to them."""

from collections.abc import Sequence

import pyarrow as pa
from msgspec import Struct

from tidymerge.core.tidy.cells import as_array
from tidymerge.model import Existing
from tidymerge.services.odata.changes import Change, Doing, Row, Standing, Values
from tidymerge.services.odata.reading import ETAG, KEY, Records


class Seen(Struct, frozen=True):
    """How a record stands, and the ETag that it has by now."""

    standing: Standing
    etag: str | None


def look(changes: Sequence[Change]) -> list[Seen]:
    """How each record stands by now, asked for with as few requests as they take. Raises TargetError."""
    seen: dict[int, Seen] = {}
    lists = {id(one.records.about): one.records for one in changes}
    for mark, records in lists.items():
        own = [(at, one) for at, one in enumerate(changes) if id(one.records.about) == mark]
        named = [(at, one) for at, one in own if one.key is not None]
        seen |= _by_key(records, named)
        seen |= _by_values(records, [(at, one) for at, one in own if one.key is None])
    return [seen[at] for at in range(len(changes))]


def note_others(changes: Sequence[Change]) -> None:
    """Remember which records hold already what new ones are to hold whose keys only the service will know."""
    for records, own in _alike([(at, one) for at, one in enumerate(changes) if one.key is None]):
        found = _found(records, own)
        for _, one in own:
            one.others = frozenset(key for key, row in found if _standing(one, row).standing is Standing.AFTER)


def _by_key(records: Records, own: Sequence[tuple[int, Change]]) -> dict[int, Seen]:
    """The same for records whose keys are known."""
    if not own:
        return {}
    shape = records.about.shape
    keys = list(dict.fromkeys(_ordered(one, shape.primary_key) for _, one in own))
    names = dict.fromkeys(name for _, one in own for name in (*one.before, *one.after, *one.compared))
    columns = [shape.column(name).as_stored() for name in names]
    texts = {name: pa.array([key[at] for key in keys], pa.string()) for at, name in enumerate(shape.primary_key)}
    found = records.of_keys(columns, shape.primary_key, pa.table(texts))
    places = zip(*(as_array(found.places[KEY + name]).to_pylist() for name in shape.primary_key), strict=True)
    rows = dict(zip(places, _rows(found), strict=True))
    return {at: _standing(one, rows.get(_ordered(one, shape.primary_key))) for at, one in own}


def _ordered(one: Change, names: Sequence[str]) -> tuple[str | None, ...]:
    return tuple((one.key or {}).get(name) for name in names)


def _by_values(records: Records, unnamed: Sequence[tuple[int, Change]]) -> dict[int, Seen]:
    """The same for new records whose keys are not known: what they were to hold finds them, each another one."""
    seen: dict[int, Seen] = {}
    for _, own in _alike(unnamed):
        found, taken = _found(records, own), set[Row]()
        for at, one in own:
            seen[at] = Seen(Standing.BEFORE, None)
            for key, row in found:
                told = _standing(one, row)
                if told.standing is Standing.AFTER and key not in one.others and key not in taken:
                    taken.add(key)
                    one.key = dict(zip(records.about.shape.primary_key, key, strict=True))
                    seen[at] = told
                    break
    return seen


def _alike(unnamed: Sequence[tuple[int, Change]]) -> list[tuple[Records, list[tuple[int, Change]]]]:
    """The changes of one list that are looked for by the same properties, so that one question does for them."""
    groups: dict[tuple[int, tuple[str, ...]], list[tuple[int, Change]]] = {}
    for at, one in unnamed:
        groups.setdefault((id(one.records.about), tuple(one.found_by)), []).append((at, one))
    return [(own[0][1].records, own) for own in groups.values()]


def _found(records: Records, own: Sequence[tuple[int, Change]]) -> list[tuple[Row, tuple[Values, str | None]]]:
    """The records that have some of the values looked for: their keys, and what they hold."""
    shape, by = records.about.shape, list(own[0][1].found_by)
    texts = {name: pa.array([one.found_by[name] for _, one in own], pa.string()) for name in by}
    names = dict.fromkeys(name for _, one in own for name in (*one.before, *one.after))
    found = records.of_keys([shape.column(name).as_stored() for name in names], by, pa.table(texts))
    keys = [as_array(found.places[KEY + name]).to_pylist() for name in shape.primary_key]
    return list(zip(zip(*keys, strict=True), _rows(found), strict=True))


def _rows(found: Existing) -> list[tuple[Values, str | None]]:
    columns = {name: as_array(found.values[name]).to_pylist() for name in found.values.column_names}
    etags = as_array(found.places[ETAG]).to_pylist()
    return [({name: texts[at] for name, texts in columns.items()}, etag) for at, etag in enumerate(etags)]


def _standing(one: Change, row: tuple[Values, str | None] | None) -> Seen:
    if row is None:
        there = {Doing.INSERT: Standing.BEFORE, Doing.REMOVE: Standing.AFTER, Doing.UPDATE: Standing.OTHER}
        return Seen(there[one.doing], None)
    now, etag = row
    if one.doing is not Doing.REMOVE and _holds(now, one.after):
        return Seen(Standing.AFTER, etag)
    if one.doing is not Doing.INSERT and _holds(now, one.before) and _holds(now, one.compared):
        return Seen(Standing.BEFORE, etag)
    return Seen(Standing.OTHER, etag)


def _holds(now: Values, wanted: Values) -> bool:
    return all(now[name] == text for name, text in wanted.items())
