"""What a run did to records, as a Parquet file: written part by part, read back row group by row group."""

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from tidymerge.core.tidy.cells import as_array
from tidymerge.errors import LogDamaged
from tidymerge.model import Mask
from tidymerge.model.changes import Logged, Outcome

_OUTCOME, _ROW, _FILE = "outcome", "row", "file"
_KEY, _BEFORE, _AFTER, _CHANGED = "key ", "before ", "after ", "changed "
_EARLIER = {"deleted": Outcome.REMOVED}  # words that were used before
_ROWS = 1_000_000  # in a row group: what an undo holds in memory at a time


def write_rows(path: Path, codes: pa.Array) -> None:
    """Write the codes of rows that may count only once. OSError where it can't be written."""
    pq.write_table(pa.table({_ROW: codes}), path, compression="zstd")


def read_rows(path: Path) -> pa.Array:
    """The codes in a file. Raises LogDamaged."""
    try:
        return as_array(pq.read_table(path)[_ROW])
    except (OSError, pa.ArrowException, KeyError) as error:
        raise LogDamaged(
            f"The run log's file {path} can't be read: {error}. Which rows were loaded before is not known without it.",
            file=str(path),
        ) from None


class ChangesWriter:
    """A file of changes; the columns of the first part are those of all. OSError where it can't be written."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._writer: pq.ParquetWriter | None = None

    def add(self, log: Logged) -> None:
        """Write the changes of one part."""
        table = _table(log)
        if self._writer is None:
            self._writer = pq.ParquetWriter(str(self._path), table.schema, compression="zstd")
        self._writer.write_table(table, row_group_size=_ROWS)

    def close(self) -> None:
        """Finish the file, if anything was written."""
        if self._writer is not None:
            self._writer.close()


def _table(log: Logged) -> pa.Table:
    outcomes = pa.DictionaryArray.from_arrays(
        pa.array(log.outcomes.astype(np.int8)), pa.array([outcome.name.lower() for outcome in Outcome])
    )
    columns: dict[str, pa.Array] = {_OUTCOME: outcomes, _ROW: pa.array(log.rows)}
    if log.files is not None:
        columns[_FILE] = log.files
    for prefix, table in ((_KEY, log.keys), (_BEFORE, log.before), (_AFTER, log.after)):
        columns |= {prefix + name: table[name] for name in table.column_names}
    columns |= {_CHANGED + name: pa.array(mask) for name, mask in log.changed.items()}
    return pa.table(columns)


def read_changes(
    path: Path, wanted: Callable[[pa.Table], Mask] | None = None, holds: Sequence[int] | None = None
) -> Iterator[Logged]:
    """The changes in a file, some at a time; only those that `wanted` picks by their keys. Raises LogDamaged.

    Where `holds` is given, only those at these places.
    """
    try:
        with path.open("rb") as opened, pq.ParquetFile(opened, pre_buffer=False) as file:
            before = 0
            for number in range(file.num_row_groups):
                rows = file.metadata.row_group(number).num_rows
                if holds is not None:
                    own = [at - before for at in holds if before <= at < before + rows]
                    before += rows
                    yield from _chosen(file.read_row_group(number).take(pa.array(own, pa.int64())), wanted)
                elif wanted is None:
                    yield _logged(file.read_row_group(number))
                else:
                    yield from _picked(file, number, wanted)
    except (OSError, pa.ArrowException, KeyError, ValueError) as error:
        raise LogDamaged(
            f"The run log's file {path} can't be read: {error}. What it kept can't be undone.", file=str(path)
        ) from None


def _chosen(table: pa.Table, wanted: Callable[[pa.Table], Mask] | None) -> Iterator[Logged]:
    """Some of the changes of one row group, if they are wanted."""
    picked = table if wanted is None else table.filter(pa.array(wanted(_those(table, _KEY))))
    if picked.num_rows:
        yield _logged(picked)


def _picked(file: pq.ParquetFile, number: int, wanted: Callable[[pa.Table], Mask]) -> Iterator[Logged]:
    """The changes of one row group that are wanted: first the keys are read, and of most only they."""
    names = [name for name in file.schema_arrow.names if name.startswith(_KEY)]
    picked = wanted(_those(file.read_row_group(number, names, use_threads=False), _KEY))
    if picked.any():
        yield _logged(file.read_row_group(number, use_threads=False).filter(pa.array(picked)))


def _those(table: pa.Table, prefix: str) -> pa.Table:
    names = [name for name in table.column_names if name.startswith(prefix)]
    return table.select(names).rename_columns([name.removeprefix(prefix) for name in names])


def _logged(table: pa.Table) -> Logged:
    masks = _those(table, _CHANGED)
    words = as_array(table[_OUTCOME]).cast(pa.string()).to_pylist()
    by_word = _EARLIER | {outcome.name.lower(): outcome for outcome in Outcome}
    return Logged(
        np.array([by_word[word] for word in words], np.uint8),
        as_array(table[_ROW]).to_numpy(),
        _those(table, _KEY),
        _those(table, _BEFORE),
        _those(table, _AFTER),
        {name: as_array(masks[name]).to_numpy(zero_copy_only=False) for name in masks.column_names},
        as_array(table[_FILE]) if _FILE in table.column_names else None,
    )
