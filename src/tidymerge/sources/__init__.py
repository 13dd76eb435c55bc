"""Where incoming rows come from: one file a format, imported when it is needed."""

from collections.abc import Mapping
from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING, Protocol, runtime_checkable

from tidymerge.address import STANDARD_INPUT, Address, is_server, is_service, parse, without_password
from tidymerge.errors import BadAddress, BadOption
from tidymerge.formats.files import (
    ARROW,
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
from tidymerge.model.access import NO_SERVICES, access_to

if TYPE_CHECKING:
    from tidymerge.databases.contract.database import Database
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
        ARROW: ("tidymerge.formats.records", "ArrowSource"),
    }
)


@runtime_checkable
class Connected(Protocol):
    """What has a connection to a server, in whose transaction other tables of the server can be read."""

    @property
    def server(self) -> str | None:
        """The URL of the server's database."""

    @property
    def database(self) -> "Database":
        """The connection."""


def shared(text: str, options: ReadOptions, other: object) -> "Database | None":
    """The connection that `other` has to the server of an address, if rows can be read over it.

    A query has a transaction of its own, which only reads.
    """
    if not is_server(text) or is_service(text) or options.query is not None or not isinstance(other, Connected):
        return None
    return other.database if other.server == parse(text).server else None


def open_source(text: str, options: ReadOptions, over: "Database | None" = None) -> "Source":
    """The source at an address. Rows of a server's table are read `over` a connection, or over one of their own.

    Raises BadAddress, BadOption, NoSuchFile and what the format raises.
    """
    if is_service(text):
        return _open_service(text, options)
    if is_server(text):
        return _open_server(parse(text), options, over)
    address = Address(parse(text).path) if text == STANDARD_INPUT else parse(text)
    folder = text != STANDARD_INPUT and is_parquet_folder(address)
    if text != STANDARD_INPUT and not folder:
        check_file(address)
    ending = ".csv" if text == STANDARD_INPUT else ".parquet" if folder else ending_of(address)
    ending = ending if options.format is None or folder else f".{options.format}"
    if ending not in FORMATS:
        known = ", ".join(FORMATS)
        raise BadAddress(f"Rows can't be read from {text!r}: its ending is {ending or 'missing'}; known are {known}.")
    module, name = _READERS[FORMATS[ending]]
    for option, given, wanted in (("query", options.query, DATABASE), ("cells", options.cells, WORKBOOK)):
        if given is not None and FORMATS[ending] != wanted:
            what = "A query is for databases" if option == "query" else "A range of cells is for workbooks"
            raise BadOption(f"{what}, not for {text!r}.")
    source: Source = getattr(import_module(module), name)(address, options)
    return source


def _open_service(text: str, options: ReadOptions) -> "Source":
    from tidymerge.sources.service import ServiceSource, TrackedSource

    if options.cells is not None or options.query is not None:
        what = "A range of cells is for workbooks" if options.query is None else "A query is for databases"
        raise BadOption(f"{what}, not for {without_password(text)}.")
    address = parse(text)
    access = access_to(address, options.services or NO_SERVICES)
    if options.tracked is not None:
        return TrackedSource(address, access, options.tracked.get(without_password(text)))
    return ServiceSource(address, access, options.newer)


def _open_server(address: Address, options: ReadOptions, over: "Database | None") -> "Source":
    from tidymerge.databases import connect
    from tidymerge.sources.query import QuerySource
    from tidymerge.sources.server import OwnServerSource, ServerSource

    if options.cells is not None:
        raise BadOption(f"A range of cells is for workbooks, not for {address}.")
    if options.query is not None:
        return QuerySource(connect(address), address, options.query, options.newer)
    if over is not None:
        return ServerSource(over, address, options.newer)
    return OwnServerSource(connect(address), address, options.newer)
