"""A list behind HTTP as a table that is read: its properties, all records or those of some keys, other lists."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from types import TracebackType
from typing import Self

import pyarrow as pa
from msgspec.structs import replace

from tidymerge.address import Address
from tidymerge.core.tidy.cells import as_array
from tidymerge.model import Existing, TableShape, TargetColumn
from tidymerge.model.access import Access
from tidymerge.model.existing import put_together
from tidymerge.model.terms import Term
from tidymerge.services.odata.columns import exact
from tidymerge.services.odata.describe import Described, described
from tidymerge.services.odata.metadata import Metadata
from tidymerge.services.odata.reading import ETAG, KEY, WORTH_ALL, Records
from tidymerge.services.odata.session import Session

_AT_A_TIME = 4  # questions on their way


class ServiceReading:
    """The records of one entity set (`https://…/coop/#Hives`), to be read."""

    def __init__(self, address: Address, access: Access) -> None:
        self._place, self._access = address, access
        self._session: Session | None = None
        self._known: Described | None = None
        self._rows: int | None = None

    def __enter__(self) -> Self:
        self._session = Session(self._place, self._access)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._service.close()

    @property
    def _service(self) -> Session:
        assert self._session is not None  # noqa: S101 - entered
        return self._session

    @property
    def address(self) -> str:
        """Where the list is, for people."""
        name = self._place.fragment if self._known is None else self._known.set.name
        return f"{self._place.place}#{name}" if name else self._place.place

    @property
    def _about(self) -> Described:
        if self._known is None:
            self._known = described(self._service.metadata, self._place.fragment)
        return self._known

    @property
    def _records(self) -> Records:
        return Records(self._service, self._about)

    def describe(self) -> TableShape:
        """The properties, and what is promised of writing."""
        shape = self._about.shape
        return replace(shape, notes=(*shape.notes, *self._promise()))

    @property
    def changes_at_once(self) -> int:
        """How many changes are sent in one set."""
        return self._service.changes_at_once

    def _promise(self) -> list[str]:
        """What can be promised where there is no transaction, in words."""
        size = self._service.changes_at_once
        host = self._service.host
        how = f"changes are sent in sets of up to {size}, each all or nothing as the service promises, and read back"
        if "NoBatches" in self._service.metadata.said:
            how = "it takes no change sets, so each record is sent by itself and read back"
        notes = [f"{host} has no transaction: {how}. If one fails, those before are taken back."]
        if not self._about.etags:
            notes.append(
                f"{self.address} says nothing of ETags. Where records have none, they are looked at right before they "
                "are written; what somebody writes in between is overwritten."
            )
        return notes

    # Reading

    def tables(self) -> tuple[tuple[str, int, int], ...]:
        """The lists of the service: name, records and properties of each."""
        metadata = self._service.metadata
        known = [described(metadata, name) for name in metadata.sets if _has_key(metadata, name)]
        with ThreadPoolExecutor(_AT_A_TIME) as pool:
            counts = list(pool.map(lambda one: Records(self._service, one).count(), known))
        return tuple((one.set.name, count, len(one.shape.columns)) for one, count in zip(known, counts, strict=True))

    def sibling(self, table: str) -> tuple[TableShape, pa.Table]:
        """Another list of the service, to look up in."""
        about = described(self._service.metadata, table)
        readable = [column for column in about.shape.columns if not column.foreign]
        return about.shape, _values(list(Records(self._service, about).all(readable)), readable)

    @property
    def about_how_many(self) -> int:
        """How many records the list has, asked once."""
        if self._rows is None:
            self._rows = self._records.count()
        return self._rows

    def read(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The given columns of every record."""
        return _values(list(self._records.all(columns)), columns)

    def distinct(self, columns: Sequence[TargetColumn]) -> pa.Table:
        """The combinations of values that the given columns have."""
        return self.read(columns).group_by([column.name for column in columns]).aggregate([])

    def read_in_batches(
        self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], terms: Sequence[Term] = ()
    ) -> Iterator[Existing]:
        """All records, a page at a time, whatever the terms say."""
        found = False
        for page in self._records.all(columns):
            found = True
            yield page
        if not found:
            yield self.nothing(columns)

    def worth_reading(self, incoming: int) -> bool:
        """Whether so many keys are a share of the list that makes reading all of it faster."""
        return incoming > self.about_how_many * WORTH_ALL

    def fetch(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Existing:
        """The given columns of all records, or of those that have the keys."""
        if not key or self.worth_reading(keys.num_rows):
            return put_together(list(self.read_in_batches(columns, key)), complete=True)
        texts = pa.table({column.name: exact(as_array(keys[column.name]), column) for column in key})
        return self._records.of_keys(columns, [column.name for column in key], texts)

    keeps_places = True

    def nothing(self, columns: Sequence[TargetColumn]) -> Existing:
        """No records."""
        empty = pa.table({column.name: pa.nulls(0, column.type.arrow) for column in columns})
        names = (ETAG, *(KEY + name for name in self._about.shape.primary_key))
        texts = {name: pa.nulls(0, pa.string()) for name in names}
        return Existing(empty, pa.table(texts), complete=False)

    def break_off(self) -> None:
        """Let what is on its way end soon."""
        self._service.close()


def _has_key(metadata: Metadata, name: str) -> bool:
    """Whether the records of a list can be told apart, so that it can be shown as a table."""
    return any(kind.key for kind in metadata.line(metadata.sets[name].type))


def _values(pages: Sequence[Existing], columns: Sequence[TargetColumn]) -> pa.Table:
    """The values of all pages."""
    empty = pa.table({column.name: pa.nulls(0, column.type.arrow) for column in columns})
    return pa.concat_tables([empty, *(page.values for page in pages)]).combine_chunks()
