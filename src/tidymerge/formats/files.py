"""Which file an address leads to, and in which format."""

from collections.abc import Mapping
from types import MappingProxyType

from tidymerge.address import Address
from tidymerge.errors import BadOption, NoSuchFile

TEXT, WORKBOOK, DATABASE, JSON, JSON_LINES = "text", "workbook", "database", "json", "json lines"
PARQUET, ARROW = "parquet", "arrow"
FORMATS: Mapping[str, str] = MappingProxyType(
    {
        **dict.fromkeys((".csv", ".tsv", ".tab", ".txt"), TEXT),
        **dict.fromkeys((".xlsx", ".xlsm", ".ods", ".xls", ".xlsb"), WORKBOOK),
        **dict.fromkeys((".db", ".sqlite", ".sqlite3", ".db3"), DATABASE),
        ".jsonl": JSON_LINES,
        ".ndjson": JSON_LINES,
        ".json": JSON,
        ".parquet": PARQUET,
        ".arrow": ARROW,
        ".feather": ARROW,
    }
)
COMPRESSED = (".gz", ".zst", ".bz2", ".xz", ".zip")


def ending_of(address: Address) -> str:
    """The ending that says the format: a compressed text file's inner one."""
    suffixes = [suffix.lower() for suffix in address.path.suffixes]
    if len(suffixes) > 1 and suffixes[-1] in COMPRESSED and FORMATS.get(suffixes[-2]) == TEXT:
        return suffixes[-2]
    return suffixes[-1] if suffixes else ""


def says_format(address: Address) -> bool:
    """Whether a file's name says what it holds; .txt may be any text."""
    return ending_of(address) in FORMATS.keys() - {".txt"}


def is_parquet_folder(address: Address) -> bool:
    """Whether the address leads to a folder of Parquet files, which are one table."""
    return address.fragment is None and address.path.is_dir() and any(address.path.glob("*.parquet"))


def check_new_file(address: Address, *, is_database: bool) -> None:
    """Raise BadOption where no file can be made; a database or a workbook that is there takes a new table or sheet."""
    takes_more = is_database or (FORMATS.get(ending_of(address)) == WORKBOOK and address.fragment is not None)
    if address.path.exists() and not (takes_more and address.path.is_file()):
        raise BadOption(f"{address.path} is there already: it can be loaded into as it is.")
    if not address.path.absolute().parent.is_dir():
        raise NoSuchFile(f"There is no folder {address.path.parent} to make {address.path.name} in.")


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
