"""A list behind HTTP as a target: decided in memory, sent at the commit, in whole change sets that are read back."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NoReturn

import msgspec
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from tidymerge.address import Address
from tidymerge.core.tidy.cells import as_array
from tidymerge.core.words import counted
from tidymerge.errors import BadOption, TargetChanged
from tidymerge.model import Existing, Indices, NewColumn, Pairing, TableShape, TargetColumn
from tidymerge.model.access import Access
from tidymerge.model.changes import ChangeSet, Refusal, Violation, Written
from tidymerge.ports.target import NO_TYPES
from tidymerge.services.odata.changes import Change, Exact, Places, changes_of
from tidymerge.services.odata.columns import decoded, exact, table_of, to_json
from tidymerge.services.odata.reading import ETAG, KEY
from tidymerge.services.odata.references import Staged, still_referred_to, without_parent
from tidymerge.services.odata.sending import Sender
from tidymerge.targets.service_reading import ServiceReading

_CANNOT = "A list behind HTTP can't be given columns, made or taken away from here: ask who runs {place}."


class ServiceTarget(ServiceReading):
    """The same to be written. Nothing is sent that writes before `commit`."""

    def __init__(self, address: Address, access: Access, *, write: bool, create: bool = False) -> None:
        super().__init__(address, access)
        self._write = write
        self._all: list[ServiceTarget] = [self]
        self._places = Places()
        self._staged: list[ChangeSet] = []
        self._out: set[int] = set()
        self._writes: list[ChangeSet] = []
        self._interrupted: Callable[[], bool] = lambda: False
        self._turns: list[tuple[ServiceTarget, ChangeSet]] = []
        if create:
            self._cannot()

    def beside(self, table: str, *, create: bool = False, types: Mapping[str, str] = NO_TYPES) -> "ServiceTarget":
        """Another list of the service, which is sent together with this one."""
        other = ServiceTarget(replace(self._place, fragment=table), self._access, write=self._write, create=create)
        other._session, other._all, other._turns = self._session, self._all, self._turns
        self._all.append(other)
        _ = other._about
        return other

    def count(self) -> int:
        """How many records the list has; once written, how many it is to have."""
        more = sum(len(one.inserts) - len(one.removals) for one in self._writes)
        return (self.about_how_many if self._writes else self._records.count()) + more

    def stage(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> list[Refusal]:
        """Remember which records are meant, with the ETags that they were compared with."""
        self._staged.append(changes)
        for part in (changes.updates, changes.removals):
            if len(part):
                at = pa.array(part.records)
                key = [name for name in pairing.key if name in existing.values.column_names]
                names = key or list(self._about.shape.primary_key)
                places = existing.places.take(at)
                own = [existing.values[name].take(at) if key else places[KEY + name] for name in names]
                sure = [name for name in existing.values.column_names if name not in existing.unreadable]
                compared = self._texts(existing.values.select(sure).take(at))
                self._places.note(part.positions.tolist(), places, _labels(own), compared)
        return self._of_fixed(changes)

    def _of_fixed(self, changes: ChangeSet) -> list[Refusal]:
        """Updates of properties that a record keeps for good: those of its key, and those that the metadata names."""
        updates, refused = changes.updates, {}
        for name in self._about.fixed:
            for position in updates.positions[updates.changing(name)].tolist():
                refused[position] = f"{name} stays as it is: a service changes neither keys nor what it calls immutable"
        return [Refusal(position, why) for position, why in refused.items()]

    def unstage(self, positions: Sequence[int]) -> None:
        """Remember what is not to be sent after all."""
        self._out.update(positions)

    def violations(self, pairing: Pairing) -> list[Violation]:
        """The staged changes that would leave records without those that they refer to, as the metadata tells."""
        own = self.staged()
        others = [staged for one in self._all for staged in one.staged()]
        found = []
        for staged in own:
            for key in self._about.shape.foreign_keys:
                found += without_parent(self._service, key, staged, others)
            found += still_referred_to(self._service, staged, others)
        return found

    def staged(self) -> list[Staged]:
        """What is staged in this list, as exact text."""
        out = frozenset(self._out)
        return [
            Staged(
                self._about.set.name,
                changes,
                self._texts(changes.updates.after),
                self._texts(changes.inserts.after),
                self._keys_of(changes.removals.positions),
                self._keys_of(changes.updates.positions),
                out,
            )
            for changes in self._staged
        ]

    def _keys_of(self, positions: Indices) -> list[dict[str, str | None]]:
        return [self._places.at(position)[0] for position in positions.tolist()]

    def write(self, changes: ChangeSet) -> Written:
        """Take the changes over: they are sent at the commit."""
        _ = self.about_how_many
        self._writes.append(changes)
        self._turns.append((self, changes))  # parents are written before their children
        return Written(len(changes.updates), len(changes.inserts), len(changes.removals))

    def read_back(self, changes: ChangeSet, pairing: Pairing) -> pa.Table:
        """The written records as they will be read once they are sent: through JSON and back."""
        updates, inserts = changes.updates, changes.inserts
        types = self._about.types
        tables = []
        for values in (updates.after, inserts.after):
            columns = pairing.columns if values.num_columns else ()
            texts = {one.name: exact(as_array(values[one.name]), one).to_pylist() for one in columns}
            rows = [
                {name: to_json(each[at], types[name]) for name, each in texts.items()} for at in range(values.num_rows)
            ]
            tables.append(table_of(_through_json(rows), pairing.columns)[0])
        return pa.concat_tables(tables)

    def remaining(self, changes: ChangeSet) -> int:
        """None: each set is looked at again once it is sent."""
        return 0

    def end_when(self, interrupted: Callable[[], bool]) -> None:
        """Ask this between two change sets."""
        self._interrupted = interrupted

    def commit(self) -> tuple[str, ...]:
        """Send all that is written, also to the other lists of the run; each change set is proved by reading it again.

        Raises TargetChanged, WriteRefused, ProofFailed, ServerAway and Interrupted; then nothing of it is left. Else
        WrittenPartly.
        """
        sender = Sender(self._service, self._interrupted)
        sender.send(self._in_order())
        left = [note for one in self._all for note in one.counted_again()]
        sent = "Sent in 1 change set, which was read back."
        if sender.sets > 1:
            sent = f"Sent in {counted(sender.sets, 'change set')}, each of them read back."
        if sender.singly:
            sent = f"{self._service.host} takes no change sets: each record was sent by itself and read back."
        return (sent, *left) if sender.sets else ()

    def _in_order(self) -> Iterator[Change]:
        """All changes: what comes, parents before their children, and then what goes, after its children."""
        for one, changes in self._turns:
            yield from one.to_send(changes.without_removals())
        for one, changes in reversed(self._turns):
            yield from one.to_send(changes.only_removals())

    def to_send(self, changes: ChangeSet) -> Iterator[Change]:
        """Changes of this list, one by one."""
        return changes_of(self._records, changes, self._places, self._exact(changes), changes.key)

    def counted_again(self) -> list[str]:
        """A note, where the list does not have as many records as this run left there."""
        if not self._writes:
            return []
        expected, found = self.count(), self._records.count()
        if found == expected:
            return []
        return [f"{self.address} has {found:,} records now, not {expected:,}: others wrote there meanwhile."]

    def _exact(self, changes: ChangeSet) -> Exact:
        updates, inserts, removals = changes.updates, changes.inserts, changes.removals
        return Exact(
            self._texts(updates.before), self._texts(updates.after), self._texts(inserts.after), removals.before
        )

    def _texts(self, values: pa.Table) -> pa.Table:
        """Typed values as exact text; those that travel so already stay."""
        shape = self._about.shape
        found = {}
        for name in values.column_names:
            column, given = shape.column(name), as_array(values[name])
            as_it_is = pa.types.is_string(given.type) and column.type.arrow != pa.string()
            found[name] = given if as_it_is else exact(given, column)
        return pa.table(found)

    # Exact text, for the log

    marks_text = False

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact text is readable."""
        return texts

    def exact(self, texts: pa.Table) -> pa.Table:
        """The exact texts that `readable` was given."""
        return texts

    def exact_text(self, column: TargetColumn, values: pa.Array) -> pa.Array | None:
        """The exact text of typed values."""
        return exact(values, column)

    def as_stored(self, changes: ChangeSet, columns: Sequence[TargetColumn], *, written: bool = False) -> pa.Table:
        """The records of staged updates as they stand, as text; once `written`, as they will, also those inserted."""
        now = self._now(changes.updates.positions, columns)
        if not written:
            return now
        after, fresh = self._texts(changes.updates.after), self._texts(changes.inserts.after)
        found = {}
        for column in columns:
            name = column.name
            old = as_array(now[name])
            if name in changes.updates.changed:
                old = pc.if_else(pa.array(changes.updates.changed[name]), as_array(after[name]), old)
            found[name] = pa.concat_arrays([old, self._new_texts(changes, fresh, name)])
        return pa.table(found)

    def _new_texts(self, changes: ChangeSet, fresh: pa.Table, name: str) -> pa.Array:
        """A column of new records: what is given, else the default that the service declares."""
        rows = len(changes.inserts)
        default = pa.array([self._about.defaults.get(name)] * rows, pa.string())
        if name not in fresh.column_names:
            return default
        return pc.if_else(pa.array(changes.inserts.given[name]), as_array(fresh[name]), default)

    def leaving(self, changes: ChangeSet, columns: Sequence[TargetColumn]) -> pa.Table:
        """The records that are to go, whole, as exact text."""
        return self._now(changes.removals.positions, columns)

    def _now(self, positions: Indices, columns: Sequence[TargetColumn]) -> pa.Table:
        """Staged records as they stand, in their order. Raises TargetChanged where an ETag is another by now."""
        names = [column.name for column in columns]
        own = [self._places.at(position) for position in positions.tolist()]
        key = self._about.shape.primary_key
        if set(names) <= set(key) or not own:
            return pa.table({name: pa.array([place[0].get(name) for place in own], pa.string()) for name in names})
        texts = {name: pa.array([place[0][name] for place in own], pa.string()) for name in key}
        found = self._records.of_keys([column.as_stored() for column in columns], key, pa.table(texts))
        keys = zip(*(as_array(found.places[KEY + name]).to_pylist() for name in key), strict=True)
        rows = dict(zip(keys, enumerate(as_array(found.places[ETAG]).to_pylist()), strict=True))
        at = []
        for values, etag, label, _ in own:
            row, seen = rows.get(tuple(values[name] for name in key), (-1, None))
            if row < 0 or (etag is not None and seen != etag):
                raise TargetChanged(f"Somebody changed the record {label} of {self.address} while it was compared.")
            at.append(row)
        return found.values.take(pa.array(at))

    # What only those can do who run the service

    def _cannot(self) -> NoReturn:
        raise BadOption(_CANNOT.format(place=self._place.place))

    def create(self, columns: Sequence[NewColumn], key: Sequence[str]) -> TableShape:
        """Not from here. Raises BadOption."""
        self._cannot()

    def abolish(self) -> None:
        """Not from here. Raises BadOption."""
        self._cannot()

    def add(self, columns: Sequence[NewColumn]) -> TableShape:
        """Not from here. Raises BadOption."""
        self._cannot()

    def complete(self, columns: Sequence[NewColumn]) -> tuple[str, ...]:
        """There is nothing to complete."""
        return ()

    def depending(self, names: Sequence[str]) -> list[str]:
        """Not from here. Raises BadOption."""
        self._cannot()

    def definitions(self, names: Sequence[str]) -> list[NewColumn]:
        """The properties, as other places can be given columns like them."""
        shape = self._about.shape
        return [NewColumn(name, shape.column(name).type.kind.value) for name in names]

    def drop(self, names: Sequence[str], *, alone: bool) -> None:
        """Not from here. Raises BadOption."""
        self._cannot()


def _labels(columns: Sequence[pa.ChunkedArray | pa.Array]) -> list[str]:
    """Names for records: their keys, for people."""
    return [" / ".join(map(str, row)) for row in zip(*(as_array(one).to_pylist() for one in columns), strict=True)]


def _through_json(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Records as they come out of JSON again."""
    found: list[dict[str, Any]] = decoded(msgspec.json.encode(rows))
    return found
