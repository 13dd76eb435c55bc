"""Incoming rows in a list behind HTTP. Each reading makes a connection and ends it."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from itertools import islice

import numpy as np
import pyarrow as pa
from msgspec.structs import replace

from tidymerge.address import Address
from tidymerge.core.tidy.cells import as_array
from tidymerge.formats.records import simplified
from tidymerge.formats.table import as_incoming
from tidymerge.model import ColumnType, Existing, Incoming, IncomingColumn, Kind, TargetColumn
from tidymerge.model.access import Access
from tidymerge.model.existing import put_together
from tidymerge.ports.source import Irregular
from tidymerge.services.odata.describe import described
from tidymerge.services.odata.newer import newer_records
from tidymerge.services.odata.reading import Records
from tidymerge.services.odata.session import Session
from tidymerge.services.odata.tracking import tracked
from tidymerge.sources.newer import Newer


class ServiceSource:
    """The records of an entity set (`https://…/coop/#Hives`)."""

    def __init__(self, address: Address, access: Access, newer: Newer | None = None) -> None:
        self._place, self._access, self._newer = address, access, newer
        self.sheet: str | None = None
        self.above = 0
        self.notes: tuple[str, ...] = ()
        with self._connected() as records:
            self._columns = tuple(column for column in records.about.shape.columns if not column.foreign)
            self.address = f"{address.place}#{records.about.set.name}"
            self.rows_expected = records.count()
            left = [column.name for column in records.about.shape.columns if column.foreign]
            if left:
                self.notes = (f"Not read, as rows can't have them: {', '.join(left)}.",)

    @contextmanager
    def _connected(self) -> Iterator[Records]:
        session = Session(self._place, self._access)
        try:
            yield Records(session, described(session.metadata, self._place.fragment))
        finally:
            session.close()

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """None: it is one list."""
        return ()

    def head(self, rows: int) -> list[list[str]]:
        """The names of the properties, where a sheet would have its header."""
        return [[column.name for column in self._columns]]

    def read(self, header_row: int) -> Incoming:
        """All records that are not wholly blank."""
        with self._connected() as records:
            found = self._read(records, self._columns)
            if found.unreadable:  # as text they are rejected with their rows, not lost
                found = self._read(records, self._plainly(found))
        return self._incoming(found, 1)

    def _plainly(self, found: Existing) -> Sequence[TargetColumn]:
        """The columns, as text where one holds what its type can't."""
        return [_as_text(one) if one.name in found.unreadable else one for one in self._columns]

    def _read(self, records: Records, columns: Sequence[TargetColumn]) -> Existing:
        return put_together(list(self._pages(records, columns)))

    def _pages(self, records: Records, columns: Sequence[TargetColumn]) -> Iterator[Existing]:
        """No records, so that there are columns, and then all of them, a page at a time."""
        empty = pa.table({column.name: pa.nulls(0, column.type.arrow) for column in columns})
        yield Existing(empty, pa.table({}), complete=False)
        for page in records.all(columns, newer_records(self._newer, self._columns)):
            yield replace(page, places=pa.table({}))

    def sample(self, header_row: int) -> Incoming:
        """The first records: those of one page."""
        with self._connected() as records:
            return self._incoming(put_together(list(islice(self._pages(records, self._columns), 2))), 1)

    def batches(self, header_row: int) -> Iterator[Incoming]:
        """All records, a page at a time. Raises Irregular where one holds what its type can't."""
        number = 1
        with self._connected() as records:
            for found in self._pages(records, self._columns):
                if found.unreadable:
                    raise Irregular
                yield self._incoming(found, number)
                number += found.values.num_rows

    def _incoming(self, found: Existing, first: int) -> Incoming:
        columns = [IncomingColumn(c.name, (simplified(as_array(found.values[c.name])),)) for c in self._columns]
        numbers = np.arange(first, first + found.values.num_rows, dtype=np.int64)
        return as_incoming(
            columns, numbers, all_columns=True, address=self.address, header_row=0, sheet=None, notes=self.notes
        )


class TrackedSource(ServiceSource):
    """The records of an entity set that changed since a link was given, and the link to go on `onward` from here.

    They are read together. Without a link they are all records.
    """

    def __init__(self, address: Address, access: Access, link: str | None) -> None:
        super().__init__(address, access)
        self._link, self.onward = link, ""
        self.rows_expected = 0

    def read(self, header_row: int) -> Incoming:
        """All of these records that are not wholly blank."""
        with self._connected() as records:
            found = tracked(records, self._columns, self._link)
            if found.records.unreadable:  # as text they are rejected with their rows, not lost
                found = tracked(records, self._plainly(found.records), self._link)
        self.onward = found.onward or ""
        return replace(self._incoming(found.records, 1), notes=(*self.notes, *found.notes))


def _as_text(column: TargetColumn) -> TargetColumn:
    return replace(column, type=ColumnType(Kind.TEXT, column.type.declared))
