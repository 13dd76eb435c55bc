"""Writing the rejects file: CSV in UTF-8 with a byte-order mark, so that spreadsheets read it right."""

import csv
from pathlib import Path

import pyarrow as pa

from tidymerge.address import is_server
from tidymerge.core.tidy import guard
from tidymerge.errors import BadOption


def default_path(incoming: str, folder: Path) -> Path:
    """A name in `folder` that no file has yet: week32-rejects.csv, then week32-rejects-2.csv and so on."""
    name, _, part = incoming.partition("#")
    stem = Path((part or "incoming") if is_server(incoming) else name).stem.replace(" ", "-") or "incoming"
    path, number = folder / f"{stem}-rejects.csv", 1
    while path.exists():
        number += 1
        path = folder / f"{stem}-rejects-{number}.csv"
    return path


def write_rejects(table: pa.Table, path: Path) -> None:
    """Write the table to `path`, which is replaced. Raises BadOption if it can't be written."""
    try:
        with path.open("w", encoding="utf-8-sig", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(guard(pa.array(table.column_names, pa.string())).to_pylist())
            writer.writerows(zip(*(column.to_pylist() for column in table.columns), strict=True))
    except OSError as error:
        raise BadOption(f"The rejects can't be written to {path}: {error.strerror}. Nothing was loaded.") from None
