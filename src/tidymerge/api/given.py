"""Rows that a Python program has in its hands: tables of any library that gives Arrow streams, and open files.

They are put into a private folder and read from there as any file is. So they are tidied, told apart, counted and known
again as files are, whatever library they come from.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from os import PathLike, fspath
from pathlib import Path
from types import MappingProxyType
from typing import IO, TYPE_CHECKING, Any, NamedTuple, Protocol, runtime_checkable

from tidymerge.errors import BadOption, TidyMergeError

if TYPE_CHECKING:
    from tidymerge.model import ReadOptions

_PIECE = 1 << 22
_PACKED = {".gz": b"\x1f\x8b", ".bz2": b"BZh", ".xz": b"\xfd7zXZ", ".zst": b"\x28\xb5\x2f\xfd", ".zip": b"PK"}
_NOT_ROWS = (
    "Rows are an address, a list of addresses, an open file, or a table that gives an Arrow stream, but not a {}."
)


@runtime_checkable
class ArrowTable(Protocol):
    """A table of pandas, polars, pyarrow, a relation of an embedded database: what gives a stream of Arrow data.

    Source: the Arrow PyCapsule interface, https://arrow.apache.org/docs/format/CDataInterface/PyCapsuleInterface.html
    """

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """The rows, as a capsule of Arrow's C stream."""


Incoming = str | PathLike[str] | ArrowTable | IO[bytes] | IO[str] | Sequence[str | PathLike[str]]


class Held(NamedTuple):
    """Addresses of incoming rows, and what those of rows in memory are called, for people."""

    addresses: tuple[str, ...] = ()
    called: Mapping[str, str] = MappingProxyType({})


@contextmanager
def given(incoming: Incoming | None, read: "ReadOptions") -> Iterator[Held]:
    """Where the rows are, while inside. Raises BadOption for what is neither an address, a table nor a file."""
    if incoming is None or isinstance(incoming, (str, PathLike)):
        yield Held(() if incoming is None else (fspath(incoming),))
        return
    if isinstance(incoming, Sequence):
        if isinstance(incoming, (bytes, bytearray)) or not all(isinstance(one, (str, PathLike)) for one in incoming):
            raise BadOption(_NOT_ROWS.format(_kind(incoming)))
        yield Held(tuple(fspath(one) for one in incoming))
        return
    from tidymerge.on_disk import PrivateFolder  # late, as all that takes time: importing the package must stay quick

    folder = PrivateFolder()
    try:
        if isinstance(incoming, ArrowTable):
            path, called = _table(incoming, folder.path), f"{_kind(incoming)} in memory"
        elif hasattr(incoming, "read"):
            path, called = _file(incoming, folder.path, read)
        else:
            raise BadOption(_NOT_ROWS.format(_kind(incoming)))
        try:
            yield Held((str(path),), {str(path): called})
        except TidyMergeError as error:  # whose words name a copy that nobody knows, and that is gone
            error.args = (str(error).replace(str(path), called), *error.args[1:])
            raise
    finally:
        folder.remove()


def _kind(value: object) -> str:
    kind = type(value)
    package = kind.__module__.partition(".")[0]
    return kind.__name__ if package == "builtins" else f"{package}.{kind.__name__}"


def _table(table: ArrowTable, folder: Path) -> Path:
    import pyarrow as pa

    from tidymerge.on_disk import no_room

    path = folder / "table.arrow"
    try:
        reader = pa.RecordBatchReader.from_stream(table)
        with no_room(), pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, reader.schema) as writer:
            for batch in reader:
                writer.write_batch(batch)
    except (pa.ArrowException, TypeError, ValueError) as error:
        reason = str(error).partition("\n")[0]
        raise BadOption(
            f"The {_kind(table)} can't be given as Arrow data ({reason}). A column whose values are of several types "
            "must be made one of texts."
        ) from None
    return path


def _file(file: Any, folder: Path, read: "ReadOptions") -> tuple[Path, str]:
    """The rest of an open file, and what it is called. It is of the format that is said, or that its name says."""
    from tidymerge.on_disk import no_room

    name = getattr(file, "name", None)
    own = (
        Path(re.sub(r"[^\w.-]", "_", Path(name).name)) if isinstance(name, str) else Path("rows")
    )  # no sign means more
    piece = _piece(file)
    if isinstance(piece, str) and read.encoding is not None:
        raise BadOption("The file gives text, not bytes, so it has no encoding: leave that out.")
    if own.suffix.lower() in _PACKED and not _bytes(piece).startswith(_PACKED[own.suffix.lower()]):
        own = own.with_suffix("")  # whoever opened it unpacks it
    path = folder / (own.name if own.suffix and read.format is None else f"{own.stem}.{read.format or 'csv'}")
    with no_room(), path.open("wb") as copy:
        while piece:
            copy.write(_bytes(piece))
            piece = _piece(file)
    return path, name if isinstance(name, str) else f"{_kind(file)} in memory"


def _piece(file: Any) -> str | bytes:
    """The next piece of a file. Raises BadOption where it can't be read."""
    try:
        piece: str | bytes = file.read(_PIECE)
    except (OSError, ValueError) as error:  # UnicodeDecodeError is one, and so is a file that is closed
        raise BadOption(f"The file can't be read ({error}). Give its address, or open it for reading.") from None
    return piece


def _bytes(piece: str | bytes) -> bytes:
    """A piece of a file. Raises BadOption for half a letter, which no text file can hold."""
    try:
        return piece.encode() if isinstance(piece, str) else piece
    except UnicodeEncodeError as error:
        raise BadOption(f"The file gives text that is none ({error.reason}): open it as bytes.") from None
