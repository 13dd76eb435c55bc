"""Where rows go: one folder a kind of target, imported when it is needed."""

from collections.abc import Callable, Mapping
from functools import partial
from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING

from tidymerge.address import SERVERS, Address, is_server, parse, without_password
from tidymerge.errors import BadAddress
from tidymerge.sources import check_file, is_parquet_folder

if TYPE_CHECKING:
    from tidymerge.ports import Target
    from tidymerge.targets.sql.database import Database

_NONE: Mapping[str, str] = MappingProxyType({})
_TEXT_ENDINGS = (".csv", ".tsv", ".tab")
_PARQUET = ".parquet"
_WORKBOOK_ENDINGS = (".xlsx", ".xlsm")
_FILES: Mapping[str, tuple[str, str]] = MappingProxyType(
    {
        **dict.fromkeys(_TEXT_ENDINGS, ("tidymerge.targets.files.csv", "CsvFile")),
        **dict.fromkeys(_WORKBOOK_ENDINGS, ("tidymerge.targets.files.workbook", "WorkbookRows")),
    }
)
_SQLITE_ENDINGS = (".db", ".sqlite", ".sqlite3", ".db3")
_SQLITE_MAGIC = b"SQLite format 3\0"  # https://www.sqlite.org/fileformat.html, 1.3
_SERVERS = {
    "postgresql": ("tidymerge.targets.postgres.database", "PostgresDatabase"),
    "mariadb": ("tidymerge.targets.mariadb.database", "MariaDatabase"),
}


def open_target(text: str, *, write: bool, types: Mapping[str, str] = _NONE, firmly: bool = False) -> "Target":
    """The target at an address, not yet entered. Raises BadAddress, NoSuchFile and MissingPackage.

    `types` of columns are heeded for files that have none of their own. `firmly` keeps all others from writing.
    """
    from tidymerge.targets.sql import SqlTarget

    address = parse(text)
    if address.server is not None:
        return SqlTarget(connect(address), address.part, write=write, server=address.server, firmly=firmly)
    if is_parquet_folder(address):
        return _parquet_target(address, write=write)
    check_file(address)
    ending = address.path.suffix.lower()
    if ending == _PARQUET and not is_database(text):
        return _parquet_target(address, write=write)
    if not is_database(text) and ((ending in _TEXT_ENDINGS and address.part is None) or ending in _WORKBOOK_ENDINGS):
        return _file_target(address, types, write=write)
    if not is_database(text):
        raise BadAddress(
            f"{text!r} is not a table that rows can be loaded into; known are SQLite files "
            f"({', '.join(_SQLITE_ENDINGS)}), as in coop.db#hives, servers, as in postgresql://user@host/coop#hives, "
            f"workbooks ({', '.join(_WORKBOOK_ENDINGS)}), as in coop.xlsx#Hives, text files "
            f"({', '.join(_TEXT_ENDINGS)}), and Parquet files or folders of them."
        )
    from tidymerge.targets.sqlite.database import SqliteDatabase

    return SqlTarget(partial(SqliteDatabase, address.path, write=write), address.part, write=write)


def _file_target(address: Address, types: Mapping[str, str], *, write: bool) -> "Target":
    from tidymerge.core.told import declared
    from tidymerge.targets.files.target import FileTarget

    module, name = _FILES[address.path.suffix.lower()]
    known = {name: declared(text) for name, text in types.items()}
    return FileTarget(address, partial(getattr(import_module(module), name), types=known), write=write)


def _parquet_target(address: Address, *, write: bool) -> "Target":
    from tidymerge.targets.files.parquet import ParquetRows
    from tidymerge.targets.files.target import FileTarget

    return FileTarget(address, ParquetRows, write=write)


def reopened(text: str) -> str:
    """The address to open a target by again from anywhere, without a password that was written out in it."""
    if is_server(text):
        return without_password(text)
    address = parse(text)
    path = address.path.absolute()
    return f"{path}#{address.part}" if address.part else str(path)


def connect(address: Address) -> "Callable[[], Database]":
    """What connects to the server at an address. Raises MissingPackage."""
    scheme = (address.server or "").partition("://")[0].lower()
    module, name = _SERVERS[SERVERS[scheme]]
    return partial(getattr(import_module(module), name), address)


def is_database(text: str) -> bool:
    """Whether an address leads to a database: a server, or a file by its ending or its first bytes."""
    if is_server(text):
        return True
    path = parse(text).path
    if path.suffix.lower() in _SQLITE_ENDINGS:
        return True
    if not path.is_file():  # opening a pipe would wait for somebody to write
        return False
    try:
        with path.open("rb") as file:
            return file.read(len(_SQLITE_MAGIC)) == _SQLITE_MAGIC
    except OSError:
        return False
