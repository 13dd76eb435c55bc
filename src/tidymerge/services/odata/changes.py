"""What is to change in one list, made ready to be sent, looked at again, and taken back."""

from collections.abc import Iterator, Sequence
from enum import Enum
from typing import Any
from urllib.parse import quote

import pyarrow as pa
from msgspec import Struct

from tidymerge.core.tidy.cells import as_array
from tidymerge.model.changes import ChangeSet
from tidymerge.services.odata.batches import Outcome, Request
from tidymerge.services.odata.columns import table_of, to_json
from tidymerge.services.odata.keys import key_text
from tidymerge.services.odata.reading import ETAG, KEY, Records

Values = dict[str, str | None]  # exact text, by property
Row = tuple[str | None, ...]
_SHORT = 100  # signs of a value by which a record is looked for: it stands in a URL


class Doing(Enum):
    """What is done to a record."""

    UPDATE = "PATCH"
    INSERT = "POST"
    REMOVE = "DELETE"


class Standing(Enum):
    """How a record stands to a change: as it was before it, as it is after it, as neither, or not to be told."""

    BEFORE = "before"
    AFTER = "after"
    OTHER = "other"


class Change(Struct):
    """One record and what is done to it: what it holds `before` and `after`, as far as that is written or goes.

    `key` are the values by which the service names the record, None while they are not known. Then `found_by` finds
    it, among `others` that held the same before and are not it. `etag` is the one that the record has, as far as we
    know. `name` is what people call it. `compared` is all by which it was decided: as long as that stands, another ETag
    is no reason to decide anew.
    """

    records: Records
    doing: Doing
    key: Values | None
    etag: str | None
    before: Values
    after: Values
    found_by: Values
    name: str
    compared: Values = {}
    others: frozenset[Row] = frozenset()

    def request(self) -> Request:
        """What is sent to do it."""
        name = quote(self.records.about.set.name)
        if self.doing is Doing.INSERT:
            return Request("POST", name, None, self._json(self.after))
        about = self.records.about
        place = key_text(self.key or {}, about.types, self.records.session.metadata)
        body = self._json(self.after) if self.doing is Doing.UPDATE else None
        return Request(self.doing.value, f"{name}{place}", self.etag or "*", body)

    def back(self) -> "Change":
        """The change that takes this one back."""
        doing = {Doing.UPDATE: Doing.UPDATE, Doing.INSERT: Doing.REMOVE, Doing.REMOVE: Doing.INSERT}[self.doing]
        given = {column.name for column in self.records.about.shape.columns if not column.generated}
        if doing is Doing.INSERT and not given.issuperset(self.key or {}):  # it comes back under a new key
            return Change(self.records, doing, None, None, {}, self.before, _short(self.before), self.name)
        return Change(self.records, doing, self.key, self.etag, self.after, self.before, self.found_by, self.name)

    def _json(self, values: Values) -> dict[str, Any]:
        types = self.records.about.types
        return {name: to_json(text, types[name]) for name, text in values.items()}

    def learn(self, outcome: Outcome | None) -> None:
        """Take over what the service says of the record once it is written: its ETag, and the key of a new one."""
        body = outcome.body if outcome is not None and isinstance(outcome.body, dict) else {}
        headers = outcome.headers if outcome is not None else {}
        etag = body.get("@odata.etag", body.get("@etag", headers.get("etag")))
        self.etag = etag if isinstance(etag, str) else None
        if self.key is None and body:
            self.key = self._key_of(body)

    def _key_of(self, body: dict[str, Any]) -> Values | None:
        about = self.records.about
        columns = [about.shape.column(name).as_stored() for name in about.shape.primary_key]
        texts, _ = table_of([body], columns)
        key = {name: as_array(texts[name])[0].as_py() for name in texts.column_names}
        return None if None in key.values() else key


def changes_of(
    records: Records, changes: ChangeSet, places: "Places", exact: "Exact", key: Sequence[str]
) -> Iterator[Change]:
    """The changes of a change set one by one: what comes, what changes and may refer to it, and then what goes."""
    updates, inserts, removals = changes.updates, changes.inserts, changes.removals
    if len(inserts):
        fresh = _columns(exact.fresh)
        for at in range(len(inserts)):
            after = {name: texts[at] for name, texts in fresh.items() if inserts.given[name][at]}
            new = _new_key(records, after)
            by = {name: after.get(name) for name in key} or _short(after)
            label = " / ".join(str(after.get(name)) for name in (key or list(after)[:2]))
            yield Change(records, Doing.INSERT, new, None, {}, after, by, label)
    if len(updates):
        was, will = _columns(exact.before), _columns(exact.after)
        for at, position in enumerate(updates.positions.tolist()):
            names = [name for name, mask in updates.changed.items() if mask[at]]
            before, after = ({name: texts[name][at] for name in names} for texts in (was, will))
            own, etag, label, compared = places.at(position)
            yield Change(records, Doing.UPDATE, own, etag, before, after, {}, label, compared)
    if len(removals):
        gone = _columns(exact.gone)
        for at, position in enumerate(removals.positions.tolist()):
            own, etag, label, _ = places.at(position)
            before = {name: texts[at] for name, texts in gone.items()}
            yield Change(records, Doing.REMOVE, own, etag, before, {}, {}, label)


def _short(values: Values) -> Values:
    """The values that are short enough to be looked for."""
    return {name: text for name, text in values.items() if text is not None and len(text) <= _SHORT}


def _columns(table: pa.Table) -> dict[str, list[str | None]]:
    return {name: as_array(table[name]).to_pylist() for name in table.column_names}


def _new_key(records: Records, after: Values) -> Values | None:
    """How the service will name a new record, where its key is given by us."""
    key = {name: after.get(name) for name in records.about.shape.primary_key}
    return None if None in key.values() else key


class Exact(Struct, frozen=True):
    """The values of a change set as exact text: of updates before and after, of new records, of those that go."""

    before: pa.Table
    after: pa.Table
    fresh: pa.Table
    gone: pa.Table


class Places:
    """Where staged records are, by their positions in the staging: keys, ETags, names for people, what was compared."""

    def __init__(self) -> None:
        self._at: dict[int, tuple[Values, str | None, str, Values]] = {}

    def note(self, positions: Sequence[int], places: pa.Table, labels: Sequence[str], compared: pa.Table) -> None:
        """Remember some."""
        names = [name for name in places.column_names if name.startswith(KEY)]
        keys = zip(*(as_array(places[name]).to_pylist() for name in names), strict=True)
        plain = [name.removeprefix(KEY) for name in names]
        etags = as_array(places[ETAG]).to_pylist()
        own = zip(*(as_array(each).to_pylist() for each in compared.columns), strict=True)
        found = zip(positions, keys, etags, labels, own if compared.num_columns else [()] * len(labels), strict=True)
        for position, key, etag, label, values in found:
            held = dict(zip(compared.column_names, values, strict=True))
            self._at[position] = (dict(zip(plain, key, strict=True)), etag, label, held)

    def at(self, position: int) -> tuple[Values, str | None, str, Values]:
        """The key, the ETag, the name for people, and what was compared of a staged record."""
        return self._at[position]
