"""Large loads in bounded memory: both sides are divided by key on disk, and decided a part at a time.

Rows with equal keys are in one part, so each part can be decided by itself. The parts
lie in files of Arrow's stream format in a private temporary folder.
"""

import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Self

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.match.buckets import BUCKETS, buckets_of
from tidymerge.core.tidy.cells import as_array
from tidymerge.model import Existing, Fold, Incoming, IncomingColumn, Pairing, Sample, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet
from tidymerge.on_disk import no_room
from tidymerge.ports.source import Irregular
from tidymerge.ports.target import Target
from tidymerge.settings import rows_at_once

_NUMBER = "row number"


class Gathered(Struct, frozen=True):
    """The incoming rows: a sample by which columns are told, and `rows`, which gives all of them.

    Of very many rows `batches` gives all some at a time, again each time, and `folder` is a private place to divide
    them in. `expected` is about how many rows there are. Where to go `onward` from is told by the incoming addresses.
    """

    sample: Sample
    rows: Callable[[], Incoming]
    expected: int
    batches: Callable[[], Iterator[Incoming]] | None = None
    folder: Path | None = None
    onward: Mapping[str, str] = {}

    @classmethod
    def all(cls, incoming: Incoming) -> "Gathered":
        """All rows, in memory."""
        return cls(Sample(incoming), lambda: incoming, len(incoming.row_numbers))

    def together(self) -> "Gathered":
        """All rows in memory, however many."""
        return self if self.batches is None else Gathered.all(self.rows())


class Piece(Struct, frozen=True):
    """Rows of both sides that share no key with other pieces. Without `existing`, the target is asked."""

    incoming: Callable[[], Incoming]
    existing: Callable[[], Existing] | None = None
    folder: Path | None = None

    def known_keys(self, existing: Existing, key: Sequence[str]) -> Callable[[], pa.Table]:
        """The keys of the piece's records, to be looked at again."""
        again = self.existing
        if again is not None:
            return lambda: again().values.select(key)
        keys = existing.values.select(key)
        return lambda: keys

    def kept(self, changes: ChangeSet) -> ChangeSet:
        """The changes as they are kept until they are written: their values on disk, if the rows are."""
        if self.folder is None:
            return changes
        tables = {}
        updates, inserts = changes.updates, changes.inserts
        for name, table in (("before", updates.before), ("after", updates.after), ("new", inserts.after)):
            path = self.folder / name
            with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, table.schema) as writer:
                writer.write_table(table)
            tables[name] = pa.ipc.open_file(pa.memory_map(str(path))).read_all()
        return replace(
            changes,
            updates=replace(updates, before=tables["before"], after=tables["after"]),
            inserts=replace(inserts, after=tables["new"]),
        )


def can_split(pairing: Pairing, shape: TableShape) -> bool:
    """Whether equal keys can be told without the database, and no row needs another of the same load.

    Rows need each other where a rule looks up in the target itself, and where records refer to records of their table.
    """
    loaded = {column.name for column in pairing.columns}
    looks_inside = any(pair.rule.find is not None and pair.rule.find.table == shape.name for pair in pairing.pairs)
    refers_inside = any(key.table == shape.name and loaded.issuperset(key.columns) for key in shape.foreign_keys)
    return bool(_divided_by(pairing)) and not looks_inside and not refers_inside


def _divided_by(pairing: Pairing) -> list[str]:
    return [column.name for column in pairing.key_columns if column.fold is not Fold.DATABASE]


def split(
    gathered: Gathered,
    keys_of: Callable[[Incoming], pa.Table],
    pairing: Pairing,
    target: Target,
    columns: Sequence[TargetColumn],
    *,
    everything: bool = False,
) -> Iterator[Piece]:
    """All rows as one piece, or divided by key where they are many. `keys_of` gives the typed keys of rows.

    With `everything`, all records of the target are needed, not just those that the rows may mean.
    """
    if gathered.batches is None:
        yield Piece(gathered.rows)
        return
    reads = everything or target.worth_reading(gathered.expected)
    count = -(-max(gathered.expected, target.about_how_many if reads else 0) // rows_at_once())
    parts = int(min(max(count, 1), BUCKETS))
    folder = Path(tempfile.mkdtemp(dir=gathered.folder))
    for part in range(parts):
        (folder / str(part)).mkdir()
    divided = _divided_by(pairing)
    try:
        with _Spill(folder, "incoming", parts) as spill:
            for batch in gathered.batches():
                with no_room():
                    spill.add(_incoming_table(batch), buckets_of(keys_of(batch).select(divided)))
    except Irregular:
        whole = gathered.together()
        yield Piece(whole.rows)
        return
    places: list[str] = []
    if reads:
        with _Spill(folder, "existing", parts) as spill:
            for found in target.read_in_batches(columns, pairing.key_columns):
                places = found.places.column_names
                with no_room():
                    spill.add(_existing_table(found), buckets_of(found.values.select(divided)))
    for part in range(parts):
        own = folder / str(part)
        existing = _existing_reader(own, columns, places) if reads else None
        yield Piece(_reader(own, gathered.sample.rows), existing, own)


class _Spill:
    """One file a part, to which the rows of batches are added."""

    def __init__(self, folder: Path, name: str, parts: int) -> None:
        self._paths = [folder / str(part) / name for part in range(parts)]
        self._writers: list[pa.RecordBatchStreamWriter] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        for writer in self._writers:
            with no_room():
                writer.close()

    def add(self, rows: pa.Table, buckets: np.ndarray) -> None:
        """Write each row to the part of its bucket."""
        if not self._writers:
            self._writers = [pa.ipc.new_stream(str(path), rows.schema) for path in self._paths]
        part = buckets.astype(np.int64) * len(self._paths) // BUCKETS
        order = np.argsort(part, kind="stable")
        ordered = rows.take(pa.array(order))
        ends = np.searchsorted(part[order], np.arange(len(self._paths)), side="right")
        start = 0
        for writer, end in zip(self._writers, ends.tolist(), strict=True):
            if end > start:
                writer.write_table(ordered.slice(start, end - start))
            start = end


def _read(path: Path) -> pa.Table:
    with pa.OSFile(str(path)) as file:
        return pa.ipc.open_stream(file).read_all().combine_chunks()


def _incoming_table(batch: Incoming) -> pa.Table:
    """Rows as one table: each part of each column, and the row number."""
    arrays = [as_array(part) for column in batch.columns for part in column.arrays]
    names = [f"{index} {at}" for index, column in enumerate(batch.columns) for at in range(len(column.arrays))]
    return pa.Table.from_arrays([*arrays, pa.array(batch.row_numbers)], [*names, _NUMBER])


def _reader(folder: Path, sample: Incoming) -> Callable[[], Incoming]:
    def incoming() -> Incoming:
        table = _read(folder / "incoming")
        columns = tuple(
            IncomingColumn(column.name, tuple(as_array(table[f"{index} {at}"]) for at in range(len(column.arrays))))
            for index, column in enumerate(sample.columns)
        )
        return replace(sample, columns=columns, row_numbers=as_array(table[_NUMBER]).to_numpy(), flaws=())

    return incoming


def _existing_table(found: Existing) -> pa.Table:
    """Records as one table: values, places, and which values could not be read, each column named by its number."""
    nothing = np.zeros(found.values.num_rows, bool)
    marks = [pa.array(found.unreadable.get(name, nothing)) for name in found.values.column_names]
    arrays = [*found.values.columns, *found.places.columns, *marks]
    return pa.Table.from_arrays(arrays, [str(at) for at in range(len(arrays))])


def _existing_reader(folder: Path, columns: Sequence[TargetColumn], places: Sequence[str]) -> Callable[[], Existing]:
    names = [column.name for column in columns]

    def existing() -> Existing:
        table = _read(folder / "existing")
        first, last = len(names), len(names) + len(places)
        marks = [as_array(column).to_numpy(zero_copy_only=False) for column in table.columns[last:]]
        return Existing(
            table.select(range(first)).rename_columns(names),
            table.select(range(first, last)).rename_columns(list(places)),
            complete=True,
            unreadable={name: mask for name, mask in zip(names, marks, strict=True) if mask.any()},
        )

    return existing
