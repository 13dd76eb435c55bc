"""What a run changed, or how two sides differ, a line for each field, as CSV, JSON Lines or Parquet."""

import csv
import json
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from tidymerge.core.explain.wording import SIDE_WORDS
from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.core.tidy.tidying import guard
from tidymerge.core.undo.reverse import unmarked
from tidymerge.errors import BadOption
from tidymerge.model.changes import Logged, Outcome
from tidymerge.model.run import Run
from tidymerge.on_disk import replacing
from tidymerge.reports.ours import DIFFERENCE
from tidymerge.reports.text_file import opened

_WORDS = np.array([outcome.name.lower() for outcome in Outcome])
_SIDES = np.array([SIDE_WORDS[outcome.name.lower()] for outcome in Outcome])
_Writer = Callable[[Iterable[Any], Path], int]


def write_changes(logs: Iterable[tuple[Run, Logged]], run: Run, path: Path) -> int:
    """Write the file, in the form of its ending; how many lines it has. Raises BadOption.

    `logs` are the parts of each table of the run, which stands for itself in the place of `run` there. Where those are
    several, lines begin with the table's name, and have the key columns of all.
    """
    write = _writer(path)
    with _translated(path), replacing(path) as draft:
        return write((_line_up(_fields_of(log, own), own, run) for own, log in logs), draft)


def changes_table(logs: Iterable[tuple[Run, Logged]], run: Run) -> pa.Table:
    """The same lines as one table."""
    tables = [_line_up(_fields_of(log, own), own, run) for own, log in logs]
    return pa.concat_tables(tables) if tables else pa.table({})


def write_differences(log: Logged, key: Sequence[str], path: Path) -> int:
    """Write how two sides differ, in the form of the file's ending; how many lines it has. Raises BadOption.

    Row numbers are those of the second side.
    """
    lines = fields(log, key, _SIDES)
    names = {"outcome": DIFFERENCE[0], "before": "first", "after": "second"}
    rows = pc.if_else(pc.equal(lines["row"], 0), pa.scalar(None, pa.int64()), lines["row"])
    lines = lines.set_column(1, "row", rows).rename_columns([names.get(name, name) for name in lines.column_names])
    with _translated(path), replacing(path) as draft:
        return _writer(path)(iter([lines]), draft)


def _writer(path: Path) -> _Writer:
    write = next((one for ending, one in _WRITERS.items() if path.name.lower().endswith(ending)), None)
    if write is None:
        raise BadOption(f"Changes are written as {', '.join(_WRITERS)}; {path} has another ending.")
    return write


def _line_up(lines: pa.Table, own: Run, run: Run) -> pa.Table:
    """The lines of one of a run's tables, with the columns that those of all its tables have."""
    if not run.others:
        return lines
    nothing = pa.nulls(lines.num_rows, pa.string())
    keys = dict.fromkeys(f"key: {name}" for one in run.each for name in one.key)
    table = pa.array([own.called]).take(pa.array(np.zeros(lines.num_rows, np.int64)))
    columns = {"table": table, "outcome": lines["outcome"], "row": lines["row"]}
    columns |= {name: lines[name] if name in lines.column_names else nothing for name in keys}
    return pa.table(columns | {name: lines[name] for name in ("column", "before", "after")})


def _fields_of(log: Logged, run: Run) -> pa.Table:
    """The changes of a part of a run, in a form that people can read."""
    lines = fields(log, run.key)
    if not run.marked:
        return lines
    texts = [
        at for at, name in enumerate(lines.column_names) if name in ("before", "after") or name.startswith("key: ")
    ]
    for at in texts:
        lines = lines.set_column(at, lines.column_names[at], unmarked(as_array(lines.column(at))))
    return lines


def fields(log: Logged, key: Sequence[str], words: np.ndarray = _WORDS) -> pa.Table:
    """The changes of a part: outcome, incoming row, key columns, then column, before and after, record by record."""
    rows, names, before, after = [], [], [], []
    for name in log.after.column_names:
        old, new = as_array(log.before[name]), as_array(log.after[name])
        at = np.flatnonzero(log.changed[name] | valid(old) | valid(new))
        rows.append(at)
        names.append(pa.array([name]).take(pa.array(np.zeros(len(at), np.int64))))
        before.append(old.take(pa.array(at)))
        after.append(new.take(pa.array(at)))
    bare = np.setdiff1d(np.flatnonzero(log.outcomes != Outcome.UPDATED), np.concatenate(rows) if rows else [])
    rows.append(bare)  # records that hold nothing but their key: a line without a column
    for texts in (names, before, after):
        texts.append(pa.nulls(len(bare), pa.string()))
    record = np.concatenate(rows)
    order = np.argsort(record, kind="stable")
    record, at = pa.array(record[order]), pa.array(order)
    columns = {"outcome": pa.array(words[log.outcomes]).take(record), "row": pa.array(log.rows).take(record)}
    columns |= {f"key: {name}": as_array(log.keys[name].take(record)) for name in key}
    columns |= {
        title: pa.concat_arrays(arrays).take(at)
        for title, arrays in (("column", names), ("before", before), ("after", after))
    }
    return pa.table(columns)


@contextmanager
def _translated(path: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise BadOption(f"The changes can't be written to {path}: {error.strerror or error}.") from None


def _as_csv(tables: Iterable[pa.Table], path: Path) -> int:
    count = 0
    with opened(path) as file:
        writer = csv.writer(file)
        for table in tables:
            if not count:
                writer.writerow(table.column_names)
            guarded = [
                guard(as_array(column)) if pa.types.is_string(column.type) else column for column in table.columns
            ]
            writer.writerows(zip(*(column.to_pylist() for column in guarded), strict=True))
            count += table.num_rows
    return count


def _as_json_lines(tables: Iterable[pa.Table], path: Path) -> int:
    count = 0
    with path.open("w", encoding="utf-8") as file:
        for table in tables:
            file.writelines(json.dumps(row, ensure_ascii=False) + "\n" for row in table.to_pylist())
            count += table.num_rows
    return count


def _as_parquet(tables: Iterable[pa.Table], path: Path) -> int:
    count, writer = 0, None
    try:
        for table in tables:
            writer = writer or pq.ParquetWriter(str(path), table.schema, compression="zstd")
            writer.write_table(table)
            count += table.num_rows
    finally:
        if writer is not None:
            writer.close()
    return count


_WRITERS: dict[str, _Writer] = {
    ".csv": _as_csv,
    ".csv.gz": _as_csv,
    ".jsonl": _as_json_lines,
    ".parquet": _as_parquet,
}
