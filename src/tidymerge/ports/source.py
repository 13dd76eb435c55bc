"""Where rows come from."""

from collections.abc import Iterator
from typing import Protocol, runtime_checkable

from tidymerge.model import Incoming


class Source(Protocol):
    """Incoming rows in a file or a sheet. Opening one raises a SourceError if it can't be read.

    `above` counts the rows of the sheet over the first that `head` gives, where only a range is read.
    """

    address: str
    sheet: str | None
    above: int
    notes: tuple[str, ...]

    def sheets(self) -> tuple[tuple[str, int, int], ...]:
        """The sheets of a workbook: name, rows and columns of each; none for a file without parts."""

    def head(self, rows: int) -> list[list[str]]:
        """The cells of the first `rows` rows as text, blanks as ''."""

    def read(self, header_row: int) -> Incoming:
        """All rows below `header_row` (0 for the first row of `head`) that are not wholly blank."""


@runtime_checkable
class BatchedSource(Source, Protocol):
    """A source that can also give its rows some at a time. `rows_expected` is about how many there are."""

    rows_expected: int

    def sample(self, header_row: int) -> Incoming:
        """The first rows. Raises Irregular if only `read` can give any."""

    def batches(self, header_row: int) -> Iterator[Incoming]:
        """What `read` gives, in pieces. Raises Irregular if only `read` can."""


@runtime_checkable
class Tracking(Source, Protocol):
    """A source that gives what changed since it was read before. Once it is read, it tells where to go on from.

    That is `onward`, or nothing ('').
    """

    onward: str


class Irregular(Exception):
    """Rows that can't be read in pieces."""
