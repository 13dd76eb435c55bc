"""Where incoming rows come from: one file a format, imported when it is needed."""

from collections.abc import Mapping
from dataclasses import dataclass
from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING

from tidymerge.address import STANDARD_INPUT, Address, is_server, parse
from tidymerge.errors import BadAddress, BadOption, NoSuchFile

if TYPE_CHECKING:
    from tidymerge.ports import Source


@dataclass(frozen=True, slots=True)
class ReadOptions:
    """What the person said about how to read; None means: find out.

    `delimiter`, `quote` and `encoding` are for text files, `cells` (B4:H40) for workbooks, `query` for databases.
    """

    delimiter: str | None = None
    quote: str | None = None
    encoding: str | None = None
    cells: str | None = None
    query: str | None = None


_CSV = ("tidymerge.sources.csv_blocks", "open_csv")
_WORKBOOK = ("tidymerge.sources.workbook", "WorkbookSource")
_DATABASE = ("tidymerge.sources.database", "DatabaseSource")
# ending: (module, class). Read-only, so that nothing changes it behind another's back.
FORMATS: Mapping[str, tuple[str, str]] = MappingProxyType(
    {
        **dict.fromkeys((".csv", ".tsv", ".tab", ".txt"), _CSV),
        **dict.fromkeys((".xlsx", ".xlsm", ".ods"), _WORKBOOK),
        **dict.fromkeys((".db", ".sqlite", ".sqlite3", ".db3"), _DATABASE),
        ".jsonl": ("tidymerge.sources.records", "JsonLinesSource"),
        ".ndjson": ("tidymerge.sources.records", "JsonLinesSource"),
        ".json": ("tidymerge.sources.records", "JsonSource"),
        ".parquet": ("tidymerge.sources.records", "ParquetSource"),
    }
)
COMPRESSED = (".gz", ".zst")


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
    module, name = FORMATS[ending]
    for option, given, wanted in (("query", options.query, _DATABASE), ("cells", options.cells, _WORKBOOK)):
        if given is not None and FORMATS[ending] != wanted:
            raise BadOption(f"--{option} is for {'databases' if option == 'query' else 'workbooks'}, not for {text!r}.")
    source: Source = getattr(import_module(module), name)(address, options)
    return source


def _open_server(address: Address, options: ReadOptions) -> "Source":
    from tidymerge.sources.query import QuerySource
    from tidymerge.sources.server import OwnServerSource
    from tidymerge.targets import connect

    if options.cells is not None:
        raise BadOption(f"--cells is for workbooks, not for {address}.")
    if options.query is not None:
        return QuerySource(connect(address), address, options.query)
    return OwnServerSource(connect(address), address)


def ending_of(address: Address) -> str:
    """The ending that says the format: a compressed text file's inner one."""
    suffixes = [suffix.lower() for suffix in address.path.suffixes]
    if len(suffixes) > 1 and suffixes[-1] in COMPRESSED and FORMATS.get(suffixes[-2]) == _CSV:
        return suffixes[-2]
    return suffixes[-1] if suffixes else ""


def is_parquet_folder(address: Address) -> bool:
    """Whether the address leads to a folder of Parquet files, which are one table."""
    return address.part is None and address.path.is_dir() and any(address.path.glob("*.parquet"))


def check_file(address: Address) -> None:
    """Raise NoSuchFile unless the address leads to a file."""
    if address.path.is_dir():
        raise NoSuchFile(f"{address.path} is a folder; name a file in it.")
    if address.path.exists() and not address.path.is_file():
        raise NoSuchFile(
            f"{address.path} is no regular file, but a pipe or a device, which could go on for ever. To read from a "
            "pipe, give - as the file."
        )
    if not address.path.exists():
        folder = address.path.parent
        where = f"the folder {folder} has no such file" if folder.is_dir() else f"there is no folder {folder} either"
        raise NoSuchFile(f"There is no file {address.path}: {where}.")
