"""Where incoming rows come from: one file a format, imported when it is needed."""

from collections.abc import Mapping
from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING

from tidymerge.address import STANDARD_INPUT, Address, is_server, parse
from tidymerge.errors import BadAddress, BadOption
from tidymerge.formats.files import (
    DATABASE,
    FORMATS,
    JSON,
    JSON_LINES,
    PARQUET,
    TEXT,
    WORKBOOK,
    check_file,
    ending_of,
    is_parquet_folder,
)
from tidymerge.model import ReadOptions

if TYPE_CHECKING:
    from tidymerge.ports.source import Source


# What each format's rows are read by. Read-only, so that nothing changes it behind another's back.
_READERS: Mapping[str, tuple[str, str]] = MappingProxyType(
    {
        TEXT: ("tidymerge.formats.csv.blocks", "open_csv"),
        WORKBOOK: ("tidymerge.formats.sheet.reading", "WorkbookSource"),
        DATABASE: ("tidymerge.sources.database", "DatabaseSource"),
        JSON_LINES: ("tidymerge.formats.records", "JsonLinesSource"),
        JSON: ("tidymerge.formats.records", "JsonSource"),
        PARQUET: ("tidymerge.formats.records", "ParquetSource"),
    }
)


def open_source(text: str, options: ReadOptions) -> "Source":
    """The source at an address. Raises BadAddress, BadOption, NoSuchFile and what the format raises."""
    if is_server(text):
        return _open_server(parse(text), options)
    address = Address(parse(text).path) if text == STANDARD_INPUT else parse(text)
    folder = text != STANDARD_INPUT and is_parquet_folder(address)
    if text != STANDARD_INPUT and not folder:
        check_file(address)
    ending = ".csv" if text == STANDARD_INPUT else ".parquet" if folder else ending_of(address)
    if ending not in FORMATS:
        known = ", ".join(FORMATS)
        raise BadAddress(f"Rows can't be read from {text!r}: its ending is {ending or 'missing'}; known are {known}.")
    module, name = _READERS[FORMATS[ending]]
    for option, given, wanted in (("query", options.query, DATABASE), ("cells", options.cells, WORKBOOK)):
        if given is not None and FORMATS[ending] != wanted:
            raise BadOption(f"--{option} is for {'databases' if option == 'query' else 'workbooks'}, not for {text!r}.")
    source: Source = getattr(import_module(module), name)(address, options)
    return source


def _open_server(address: Address, options: ReadOptions) -> "Source":
    from tidymerge.databases import connect
    from tidymerge.sources.query import QuerySource
    from tidymerge.sources.server import OwnServerSource

    if options.cells is not None:
        raise BadOption(f"--cells is for workbooks, not for {address}.")
    if options.query is not None:
        return QuerySource(connect(address), address, options.query)
    return OwnServerSource(connect(address), address)
