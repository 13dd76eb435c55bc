"""Reading the records of an entity set: page by page, or those of some keys."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from urllib.parse import quote

import numpy as np
import pyarrow as pa
from msgspec import Struct

from tidymerge.errors import TargetUnreadable
from tidymerge.model import Existing, TargetColumn
from tidymerge.services.odata.columns import table_of
from tidymerge.services.odata.describe import Described
from tidymerge.services.odata.keys import filters
from tidymerge.services.odata.session import Session

ETAG = "etag"
KEY = "key "  # and the name of one of its properties
WORTH_ALL = 0.3  # the share of all records from which on it is faster to read all, as benchmarks/lists.py measures
_PAGE = 5000  # records: what we would like in one; the service decides
_AT_A_TIME = 4  # questions by keys that are on their way
_EMPTY_PAGES = 100  # in a row: more of them lead nowhere
_BEYOND = 100_000  # records more than the service says there are: then its pages have no end
Rows = list[dict[str, Any]]


class Records(Struct, frozen=True):
    """The records of one entity set."""

    session: Session
    about: Described

    def count(self) -> int:
        """How many there are. Raises TargetUnreadable."""
        answer = self.session.get(f"{self._name}/$count", accept="text/plain")
        try:
            return int(answer.body.decode("utf-8-sig").strip())
        except ValueError:
            raise TargetUnreadable(f"{self.session.place} does not say how many records {self._name} has.") from None

    @property
    def _name(self) -> str:
        return quote(self.about.set.name)

    def asked(self, columns: Sequence[TargetColumn], condition: str = "") -> str:
        """The path that asks for some properties; the key is always among them."""
        names = dict.fromkeys((*self.about.shape.primary_key, *(column.name for column in columns)))
        select = ",".join(quote(name) for name in names)
        return f"{self._name}?$select={select}" + (f"&$filter={condition}" if condition else "")

    def all(self, columns: Sequence[TargetColumn], condition: str = "") -> Iterator[Existing]:
        """All records, a page at a time, while the next page is on its way already."""
        for answer in self.answers(self.asked(columns, condition)):
            yield self.existing(answer["value"], columns, complete=not condition)

    def answers(self, path: str, wish: str = "") -> Iterator[dict[str, Any]]:
        """The pages from a path on, each asked for before the one before is used. Raises TargetUnreadable."""
        prefer = f"odata.maxpagesize={_PAGE}" + (f",{wish}" if wish else "")
        seen, read, empty, most = {path}, 0, 0, 0
        with ThreadPoolExecutor(1) as ahead:
            coming = ahead.submit(self.session.json, path, prefer)
            while True:
                found = coming.result()
                rows, link = found.get("value"), said(found, "nextLink")
                if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
                    raise TargetUnreadable(f"{self.session.place} answered without a list of records.")
                read, empty = read + len(rows), 0 if rows else empty + 1
                if link is not None:
                    most = most or self.count() * 2 + _BEYOND
                    self._check_link(link, seen, read, most, empty)
                    seen.add(link)
                    coming = ahead.submit(self.session.json, link, prefer)
                yield found
                if link is None:
                    return

    def _check_link(self, link: str, seen: set[str], read: int, most: int, empty: int) -> None:
        self.session.url(link)
        if link in seen or read > most or empty > _EMPTY_PAGES:
            why = "one page again" if link in seen else f"{read:,} records and no end" if read > most else "empty pages"
            raise TargetUnreadable(f"The pages of {self._name} lead nowhere: {self.session.place} gives {why}.")

    def of_keys(self, columns: Sequence[TargetColumn], key: Sequence[str], texts: pa.Table) -> Existing:
        """The records that have some values, given as exact texts; several questions are on their way at a time."""
        if not self.session.filters_lists:
            return self._of_keys(columns, key, texts, lists=False)
        try:
            return self._of_keys(columns, key, texts, lists=True)
        except TargetUnreadable:  # some services of 4.01 do not know `in` all the same
            found = self._of_keys(columns, key, texts, lists=False)
            self.session.filters_lists = False
            return found

    def _of_keys(
        self, columns: Sequence[TargetColumn], key: Sequence[str], texts: pa.Table, *, lists: bool
    ) -> Existing:
        conditions = filters(key, texts, self.about.types, self.session.metadata, lists=lists)
        asked = [self.asked(columns, condition) for condition in conditions]
        rows: Rows = []
        with ThreadPoolExecutor(_AT_A_TIME) as pool:
            for found in pool.map(self._whole, asked):
                rows += found
        return self.existing(rows, columns, complete=False)

    def _whole(self, path: str) -> Rows:
        """All records that a path gives, also where these are several pages."""
        return [row for answer in self.answers(path) for row in answer["value"]]

    def existing(self, rows: Rows, columns: Sequence[TargetColumn], *, complete: bool) -> Existing:
        """Records as they are compared, with where each is and its ETag."""
        values, unreadable = table_of(rows, columns)
        shape = self.about.shape
        keys, _ = table_of(rows, [shape.column(name).as_stored() for name in shape.primary_key])
        if any(keys[name].null_count for name in keys.column_names):
            raise TargetUnreadable(f"{self.session.place} gives records of {self._name} without their keys.")
        etags = pa.array([said(row, "etag") for row in rows], pa.string())
        places = pa.table({ETAG: etags, **{KEY + name: keys[name] for name in keys.column_names}})
        if not columns:
            values = pa.table({"": np.zeros(len(rows))}).select([])
        return Existing(values, places, complete=complete, unreadable=unreadable)


def said(found: dict[str, Any], name: str) -> str | None:
    """An annotation of OData's own; since 4.01 services may leave `odata.` out."""
    value = found.get(f"@odata.{name}", found.get(f"@{name}"))
    return value if isinstance(value, str) else None
