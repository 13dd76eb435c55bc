"""Records that go, in a new file of their own: written, synced and read again before the commit."""

import csv
import os
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

from tidymerge.core.tidy.cells import as_array
from tidymerge.core.tidy.tidying import guard
from tidymerge.errors import BadOption, ProofFailed
from tidymerge.job.model import ARCHIVE_FILES
from tidymerge.on_disk import Placed, put, sync_folder
from tidymerge.reports.text_file import write_csv
from tidymerge.run.decided import Copy, Decided

_CSV, _PARQUET = ARCHIVE_FILES


def check_files(archives: Sequence[str]) -> None:
    """Raise BadOption for files that can't be made."""
    for archive in archives:
        _check_file(Path(archive))
        if archives.count(archive) > 1:
            raise BadOption(f"Each archive takes the records of one table: {archive} is named twice.")


def _check_file(path: Path) -> None:
    if path.suffix.lower() not in (_CSV, _PARQUET):
        raise BadOption(f"{path} can't be an archive: a file for it ends in {_CSV} or {_PARQUET}.")
    if path.exists() or path.is_symlink():
        raise BadOption(f"{path} is there already: an archive is a new file.")
    if not path.absolute().parent.is_dir():
        raise BadOption(f"There is no folder {path.parent} to write the archive to.")


def copy_of(removed: Decided, archive: str, stamps: Sequence[str], now: datetime) -> Copy:
    """The records that go, as the file is to have them: all columns as text, and stamps."""
    found = pa.concat_tables([removed.shown(part.changes).removals.before for part in removed.parts])
    for stamp in stamps:
        if stamp in found.column_names:
            raise BadOption(f"{removed.shape.name} has a column {stamp} itself: stamp another one.")
        found = found.append_column(stamp, pa.array([f"{now:%Y-%m-%d %H:%M:%S}"] * found.num_rows, pa.string()))
    return Copy(archive, found)


def save(copy: Copy) -> Placed:
    """Write the file, and read it again. Raises BadOption and ProofFailed."""
    path, is_csv = Path(copy.file), copy.file.lower().endswith(_CSV)
    # A spreadsheet must not run what a record holds, nor a column's name.
    names = guard(pa.array(copy.records.column_names, pa.string())).to_pylist()
    texts = [guard(as_array(column)) if is_csv else as_array(column) for column in copy.records.columns]

    def write(draft: Path) -> None:
        if is_csv:
            write_csv(draft, names, zip(*(column.to_pylist() for column in texts), strict=True))
        else:
            parquet.write_table(copy.records, draft, compression="zstd")
        with draft.open("rb") as file:
            os.fsync(file.fileno())

    placed = None
    try:
        placed = put(path, write, fresh=True)
        sync_folder(path.absolute().parent)
        _prove(path, _as_written(path, names, texts) if is_csv else parquet.read_table(path).equals(copy.records))
    except BaseException as error:
        if placed is not None:
            placed.back()
        if isinstance(error, OSError):
            said = f"The archive {path} can't be written: {error.strerror or error}. Nothing was removed."
            raise BadOption(said) from None
        raise
    return placed


def _prove(path: Path, same: bool) -> None:
    if not same:
        raise ProofFailed(f"The archive {path} does not read as it was written, so all was rolled back.")


def _as_written(path: Path, names: Sequence[str], texts: Sequence[pa.Array]) -> bool:
    """Whether a CSV file reads as it was written; a blank is an empty cell."""
    with path.open(encoding="utf-8-sig", newline="") as file:
        found = list(csv.reader(file))
    rows = [
        ["" if cell is None else cell for cell in row]
        for row in zip(*(text.to_pylist() for text in texts), strict=True)
    ]
    return found == [list(names), *rows]
