"""How the incoming rows are to be read."""

from collections.abc import Mapping
from datetime import datetime

from msgspec import Struct

from tidymerge.model.access import Services


class ReadOptions(Struct, frozen=True):
    """What the person said about how to read; None means: find out.

    `delimiter`, `quote` and `encoding` are for text files, `cells` (B4:H40) for workbooks, `query` for databases. A
    server may leave out rows whose column `newer` is less than a value. Of lists behind HTTP only records are read that
    changed since the links in `tracked` were given, by address; all records of those that it lacks, or has '' for. The
    `format` is one of text (csv, tsv, json, jsonl), which else follows from the file's name. `services` say how those
    behind HTTP are reached.
    """

    delimiter: str | None = None
    quote: str | None = None
    encoding: str | None = None
    cells: str | None = None
    query: str | None = None
    tracked: Mapping[str, str] | None = None
    newer: tuple[str, int | datetime] | None = None
    format: str | None = None
    services: Services | None = None
