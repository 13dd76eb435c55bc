"""Databases: how each is connected to, described, read and written. One folder a database, imported when needed."""

from collections.abc import Callable, Mapping
from functools import partial
from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING

from tidymerge.address import SERVERS, Address, is_server, parse

if TYPE_CHECKING:
    from tidymerge.databases.contract.database import Database

SQLITE_ENDINGS = (".db", ".sqlite", ".sqlite3", ".db3")
_SQLITE_MAGIC = b"SQLite format 3\0"  # https://www.sqlite.org/fileformat.html, 1.3
_SERVERS: Mapping[str, tuple[str, str]] = MappingProxyType(
    {
        "postgresql": ("tidymerge.databases.postgres.database", "PostgresDatabase"),
        "mariadb": ("tidymerge.databases.mariadb.database", "MariaDatabase"),
    }
)


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
    if path.suffix.lower() in SQLITE_ENDINGS:
        return True
    if not path.is_file():  # opening a pipe would wait for somebody to write
        return False
    try:
        with path.open("rb") as file:
            return file.read(len(_SQLITE_MAGIC)) == _SQLITE_MAGIC
    except OSError:
        return False
