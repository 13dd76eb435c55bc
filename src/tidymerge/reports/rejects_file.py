"""The rejects file: the incoming columns of the rejected rows and why, to be corrected there and loaded again."""

import re
from pathlib import Path

import pyarrow as pa

from tidymerge.address import STANDARD_INPUT, is_server
from tidymerge.core.tidy.tidying import guard
from tidymerge.errors import BadOption
from tidymerge.on_disk import Placed, put
from tidymerge.reports.text_file import write_csv

_INNER = (".csv", ".tsv", ".tab", ".txt")  # endings that stand before that of a compressed file


def save_new(table: pa.Table, incoming: str, folder: Path) -> Placed:
    """Write the table to a file in `folder` that was not there: week32-rejects.csv, then week32-rejects-2.csv.

    Raises BadOption if it can't be written.
    """
    stem, number = _stem(incoming), 1
    while True:
        path = folder / f"{stem}-rejects{f'-{number}' if number > 1 else ''}.csv"
        try:
            if not path.exists() and not path.is_symlink():
                return save(table, path, fresh=True)
        except FileExistsError:
            pass  # somebody was faster
        number += 1


def _stem(incoming: str) -> str:
    """What the incoming rows are called: the file, or the table of a server without its schema."""
    name, _, part = incoming.partition("#")
    if is_server(incoming):
        name = part.rpartition(".")[2]
    elif incoming == STANDARD_INPUT:
        name = ""
    else:
        path = Path(name)
        name = Path(path.stem).stem if Path(path.stem).suffix.lower() in _INNER else path.stem
    return re.sub(r"[^\w.-]+", "-", name).strip("-.") or "incoming"


def save(table: pa.Table, path: Path, *, fresh: bool = False) -> Placed:
    """Write the table to `path`, whole or not at all. Raises BadOption if it can't be written, FileExistsError."""

    def write(draft: Path) -> None:
        names = guard(pa.array(table.column_names, pa.string())).to_pylist()
        write_csv(draft, names, zip(*(column.to_pylist() for column in table.columns), strict=True))

    try:
        return put(path, write, fresh=fresh)
    except FileExistsError:
        raise
    except OSError as error:
        raise BadOption(
            f"The rejected rows can't be written to {path}: {error.strerror or error}. Nothing was loaded. Name "
            "another file for them, or write none.",
            give=((("rejects", "FILE"),), (("no_rejects", ""),)),
        ) from None
