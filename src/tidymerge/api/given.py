"""Rows that a Python program has in its hands: tables of any library that gives Arrow streams, and open files.

They are put into a private folder and read from there as any file is. So they are tidied, told apart, counted and known
again as files are, whatever library they come from.
"""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from os import PathLike, fspath
from pathlib import Path
from typing import IO, Any, Protocol, runtime_checkable

from msgspec import Struct, field

from tidymerge.errors import BadOption

_PIECE = 1 << 22


@runtime_checkable
class ArrowTable(Protocol):
    """A table of pandas, polars, pyarrow, a relation of an embedded database: what gives a stream of Arrow data.

    Source: the Arrow PyCapsule interface, https://arrow.apache.org/docs/format/CDataInterface/PyCapsuleInterface.html
    """

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """The rows, as a capsule of Arrow's C stream."""


Incoming = str | PathLike[str] | ArrowTable | IO[bytes] | IO[str] | Sequence[str | PathLike[str]]


class Held(Struct, frozen=True):
    """Addresses of incoming rows, and what those of rows in memory are called, for people."""

    addresses: tuple[str, ...] = ()
    called: Mapping[str, str] = field(default_factory=dict)


@contextmanager
def given(incoming: Incoming | None, form: str | None = None) -> Iterator[Held]:
    """Where the rows are, while inside. Raises BadOption for what is neither an address, a table nor a file."""
    from tidymerge.on_disk import PrivateFolder

    if incoming is None:
        yield Held()
        return
    if isinstance(incoming, (str, PathLike)):
        yield Held((fspath(incoming),))
        return
    if isinstance(incoming, Sequence):
        yield Held(tuple(fspath(one) for one in incoming))
        return
    folder = PrivateFolder()
    try:
        if isinstance(incoming, ArrowTable):
            path, called = _table(incoming, folder.path), f"{_kind(incoming)} in memory"
        elif hasattr(incoming, "read"):
            path, called = _file(incoming, folder.path, form)
        else:
            raise BadOption(
                f"Rows are an address, a list of addresses, an open file, or a table that gives an Arrow stream, but "
                f"not a {_kind(incoming)}."
            )
        yield Held((str(path),), {str(path): called})
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


def _file(file: Any, folder: Path, form: str | None) -> tuple[Path, str]:
    """The rest of an open file, and what it is called. It is text of the `form`, or else what its name says."""
    from tidymerge.on_disk import no_room

    name = getattr(file, "name", None)
    own = Path(name) if isinstance(name, str) else Path("rows")
    path = folder / (own.name if own.suffix and form is None else f"{own.stem}.{form or 'csv'}")
    with no_room(), path.open("wb") as copy:
        while piece := file.read(_PIECE):
            copy.write(piece.encode() if isinstance(piece, str) else piece)
    return path, name if isinstance(name, str) else f"{_kind(file)} in memory"
