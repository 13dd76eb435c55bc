"""Where incoming rows come from: one file a format, imported when it is needed."""

from collections.abc import Mapping
from dataclasses import dataclass
from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING

from tidymerge.address import STANDARD_INPUT, Address, parse
from tidymerge.errors import BadAddress, NoSuchFile

if TYPE_CHECKING:
    from tidymerge.ports import Source


@dataclass(frozen=True, slots=True)
class ReadOptions:
    """What the person said about a text file; None means: find out."""

    delimiter: str | None = None
    quote: str | None = None
    encoding: str | None = None


# ending: (module, class). Read-only, so that nothing changes it behind another's back.
FORMATS: Mapping[str, tuple[str, str]] = MappingProxyType(
    {
        ".csv": ("tidymerge.sources.csv", "CsvSource"),
        ".tsv": ("tidymerge.sources.csv", "CsvSource"),
        ".tab": ("tidymerge.sources.csv", "CsvSource"),
        ".txt": ("tidymerge.sources.csv", "CsvSource"),
        ".xlsx": ("tidymerge.sources.xlsx", "XlsxSource"),
        ".xlsm": ("tidymerge.sources.xlsx", "XlsxSource"),
    }
)


def open_source(text: str, options: ReadOptions) -> "Source":
    """The source at an address. Raises BadAddress, NoSuchFile and what the format raises."""
    address = Address(parse(text).path) if text == STANDARD_INPUT else parse(text)
    ending = ".csv" if text == STANDARD_INPUT else address.path.suffix.lower()
    if text != STANDARD_INPUT:
        check_file(address)
    if ending not in FORMATS:
        raise BadAddress(
            f"Rows can't be read from {text!r}: its ending is {ending or 'missing'}; known are {', '.join(FORMATS)}."
        )
    module, name = FORMATS[ending]
    source: Source = getattr(import_module(module), name)(address, options)
    return source


def check_file(address: Address) -> None:
    """Raise NoSuchFile unless the address leads to a file."""
    if address.path.is_dir():
        raise NoSuchFile(f"{address.path} is a folder; name a file in it.")
    if not address.path.exists():
        folder = address.path.parent
        where = f"the folder {folder} has no such file" if folder.is_dir() else f"there is no folder {folder} either"
        raise NoSuchFile(f"There is no file {address.path}: {where}.")
