"""Where rows go: one folder a kind of target, imported when it is needed."""

from collections.abc import Mapping
from functools import partial
from types import MappingProxyType
from typing import TYPE_CHECKING

from tidymerge.address import Address, is_service, parse
from tidymerge.databases import SQLITE_ENDINGS, connect, is_database
from tidymerge.errors import BadAddress
from tidymerge.formats.files import check_file, check_new_file, is_parquet_folder
from tidymerge.model.access import NO_SERVICES, Services, access_to

if TYPE_CHECKING:
    from tidymerge.ports.target import Target

_NONE: Mapping[str, str] = MappingProxyType({})
_TEXT_ENDINGS = (".csv", ".tsv", ".tab")
_PARQUET = ".parquet"
_WORKBOOK_ENDINGS = (".xlsx", ".xlsm")


def is_workbook(text: str) -> bool:
    """Whether an address leads to a workbook, whose sheets can be targets."""
    return not is_database(text) and parse(text).path.suffix.lower() in _WORKBOOK_ENDINGS


def open_target(
    text: str,
    *,
    write: bool,
    types: Mapping[str, str] = _NONE,
    firmly: bool = False,
    create: bool = False,
    services: Services = NO_SERVICES,
) -> "Target":
    """The target at an address, not yet entered. Raises BadAddress, NoSuchFile, BadOption and MissingPackage.

    `types` of columns are used for files that have none of their own. `firmly` keeps all others from writing. A target
    to `create` is not there yet. `services` say how those behind HTTP are reached.
    """
    address = parse(text)
    if is_service(text):
        from tidymerge.targets.services import ServiceTarget

        return ServiceTarget(address, access_to(address, services), write=write, create=create)
    if address.server is not None:
        from tidymerge.targets.sql import SqlTarget

        return SqlTarget(
            connect(address), address.fragment, write=write, server=address.server, firmly=firmly, create=create
        )
    return _of_file(text, address, types, write=write, create=create)


def _of_file(text: str, address: Address, types: Mapping[str, str], *, write: bool, create: bool) -> "Target":
    """The table in a file, whatever its kind."""
    if create:
        check_new_file(address, is_database=is_database(text))
    elif is_parquet_folder(address):
        return _parquet_target(address, write=write)
    else:
        check_file(address)
    ending = address.path.suffix.lower()
    if ending == _PARQUET and not is_database(text):
        return _parquet_target(address, write=write, create=create)
    if not is_database(text) and (
        (ending in _TEXT_ENDINGS and address.fragment is None) or ending in _WORKBOOK_ENDINGS
    ):
        return _file_target(address, types, write=write, create=create)
    if not is_database(text):
        raise BadAddress(
            f"{text!r} is not a table that rows can be loaded into; known are SQLite files "
            f"({', '.join(SQLITE_ENDINGS)}), as in coop.db#hives, servers, as in postgresql://user@host/coop#hives, "
            "services behind HTTP, as in https://lists.example.org/coop/#Hives, "
            f"workbooks ({', '.join(_WORKBOOK_ENDINGS)}), as in coop.xlsx#Hives, text files "
            f"({', '.join(_TEXT_ENDINGS)}), and Parquet files or folders of them."
        )
    from tidymerge.databases.sqlite.database import SqliteDatabase
    from tidymerge.targets.sql import SqlTarget

    new = create and not address.path.exists()
    connecting = partial(SqliteDatabase, address.path, write=write, new=new)
    return SqlTarget(connecting, address.fragment, write=write, create=create)


def _file_target(address: Address, types: Mapping[str, str], *, write: bool, create: bool) -> "Target":
    if address.path.suffix.lower() in _WORKBOOK_ENDINGS:
        from tidymerge.targets.sheets import SheetTarget

        return SheetTarget(address, types, write=write, create=create)
    from tidymerge.core.infer.told import declared
    from tidymerge.formats.csv.rows import CsvFile
    from tidymerge.targets.files import FileTarget

    known = {name: declared(text) for name, text in types.items()}
    return FileTarget(address, partial(CsvFile, types=known), write=write, create=create)


def _parquet_target(address: Address, *, write: bool, create: bool = False) -> "Target":
    from tidymerge.formats.parquet.rows import ParquetRows
    from tidymerge.targets.files import FileTarget

    return FileTarget(address, ParquetRows, write=write, create=create)
