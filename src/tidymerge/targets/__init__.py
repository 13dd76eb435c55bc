"""Where rows go: one folder a kind of target, imported when it is needed."""

from functools import partial
from typing import TYPE_CHECKING

from tidymerge.address import parse
from tidymerge.errors import BadAddress
from tidymerge.sources import check_file

if TYPE_CHECKING:
    from tidymerge.ports import Target

_SQLITE_ENDINGS = (".db", ".sqlite", ".sqlite3", ".db3")
_SQLITE_MAGIC = b"SQLite format 3\0"  # https://www.sqlite.org/fileformat.html, 1.3


def open_target(text: str, *, write: bool) -> "Target":
    """The target at an address, not yet entered. Raises BadAddress and NoSuchFile."""
    address = parse(text)
    check_file(address)
    if not is_database(text):
        raise BadAddress(
            f"{text!r} is not a table that rows can be loaded into; SQLite files "
            f"({', '.join(_SQLITE_ENDINGS)}) are known, as in coop.db#hives."
        )
    from tidymerge.targets.sql import SqlTarget
    from tidymerge.targets.sqlite.database import SqliteDatabase

    return SqlTarget(partial(SqliteDatabase, address.path, write=write), address.part, write=write)


def is_database(text: str) -> bool:
    """Whether an address leads to a database file, by its ending or its first bytes."""
    path = parse(text).path
    if path.suffix.lower() in _SQLITE_ENDINGS:
        return True
    try:
        with path.open("rb") as file:
            return file.read(len(_SQLITE_MAGIC)) == _SQLITE_MAGIC
    except OSError:
        return False
