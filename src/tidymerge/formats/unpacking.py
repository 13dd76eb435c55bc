"""Unpacking: what a compressed file holds, and how much that may be."""

import lzma
import zipfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import IO, Any

import pyarrow as pa

from tidymerge.errors import BrokenFile
from tidymerge.settings import most_unpacked

_PIECE = 1 << 24  # bytes


def check_unpacked(path: Path) -> None:
    """Refuse an archive that says it holds more than may be unpacked. Raises BrokenFile."""
    most = most_unpacked()
    try:
        with zipfile.ZipFile(path) as archive:
            size = sum(part.file_size for part in archive.infolist())
    except (zipfile.BadZipFile, OSError, NotImplementedError, ValueError):
        return  # what reads it says what is wrong
    if size > most:
        raise BrokenFile(too_much(str(path), most))


@contextmanager
def unpacked(path: Path) -> Iterator["IO[bytes] | pa.NativeFile"]:
    """The text in a compressed file, to be read; a zip archive has one file in it. Raises BrokenFile and OSError."""
    try:
        with ExitStack() as stack:
            yield stack.enter_context(_opened(path, stack))
    except (lzma.LZMAError, zipfile.BadZipFile, EOFError, RuntimeError, NotImplementedError) as error:
        raise BrokenFile(f"{path} can't be unpacked ({error}).") from None


def _opened(path: Path, stack: ExitStack) -> Any:
    match path.suffix.lower():
        case ".xz":
            return lzma.open(path)
        case ".zip":
            archive = stack.enter_context(zipfile.ZipFile(path))
            # What a system adds for itself, and folders, are no data.
            names = [name for name in archive.namelist() if name[-1] != "/" and not name.startswith("__MACOSX/")]
            if len(names) != 1:
                raise BrokenFile(f"{path} holds {len(names)} files; one is read, so unpack it and name the one.")
            return archive.open(names[0])
        case _:
            return pa.input_stream(str(path), compression="detect")


def all_of(stream: "IO[bytes] | pa.NativeFile", name: str) -> bytes:
    """All that a stream gives, but no more than may be unpacked. Raises BrokenFile."""
    most, data = most_unpacked(), bytearray()
    while piece := stream.read(_PIECE):
        data += piece
        if len(data) > most:
            raise BrokenFile(too_much(name, most))
    return bytes(data)


def too_much(name: str, most: int) -> str:
    """What is said of a file that holds more than may be unpacked."""
    return (
        f"{name} holds more than {most:,} bytes when it is unpacked, which is more than is allowed. If it is "
        "as large as that, let TIDYMERGE_MOST_UNPACKED say more."
    )
