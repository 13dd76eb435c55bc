"""A Parquet file, or a folder of them, as rows that can be written: files without touched rows stay as they are."""

from base64 import b64decode, b64encode
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import partial
from io import BytesIO
from mmap import ACCESS_READ, mmap
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import parquet

from tidymerge.address import Address
from tidymerge.core.infer.told import declared
from tidymerge.core.tidy.cells import as_array, mask_of, valid
from tidymerge.errors import TargetChanged, TargetUnreadable
from tidymerge.formats.content import Edits, Found, NewFile
from tidymerge.formats.parquet.footer import MAGIC, RowGroups, finish, layout
from tidymerge.formats.parquet.types import column_of, exact, in_file, stored, typed
from tidymerge.formats.records import parquet_files
from tidymerge.formats.swap import signature, unfinished
from tidymerge.model import Definition, Indices, Kind, NewColumn, TargetColumn

# More keys than this share of the rows: all rows are read, rather than those looked up that may match.
_LOOK_UP_SHARE = 0.3
# Where more than this share of a file's row groups hold touched rows, copying the others no longer pays. Measured in
# benchmarks/patch_parquet.py.
_MOST_PATCHED = 0.9


class ParquetRows:
    """The rows of all files, one after the other in the order of their names.

    `instead` are files to read in place of others. Raises TargetUnreadable.
    """

    marks_text = False
    types_told = False
    fragment = None
    notes: tuple[str, ...] = ()

    def __init__(self, address: Address, instead: Mapping[Path, Path] | None = None) -> None:
        self._address = address
        path = address.path.resolve()
        self.name = path.name
        folder = path if path.is_dir() else path.parent
        self.paths = parquet_files(path) if path.is_dir() else [path]
        self._instead = {**unfinished(folder), **(instead or {})}
        if path.is_dir() and any(one.is_dir() and list(one.rglob("*.parquet")) for one in path.iterdir()):
            raise TargetUnreadable(f"{path} has folders with Parquet files in it; name one of them as the target.")
        self._seen = [signature(self._instead.get(one, one)) for one in self.paths]
        self._files = [self._opened(self._instead.get(one, one)) for one in self.paths]
        self._schema: pa.Schema = self._files[0].schema_arrow
        for one, file in zip(self.paths, self._files, strict=True):
            if not file.schema_arrow.equals(self._schema):
                raise TargetUnreadable(f"{one} does not have the columns, or the types, of {self.paths[0].name}.")
        if len(set(self._schema.names)) < len(self._schema.names):
            raise TargetUnreadable(f"{address} has two columns of the same name; a target's names must differ.")
        self.columns: tuple[TargetColumn, ...] = tuple(column_of(field) for field in self._schema)
        self._kept: tuple[Indices, pa.Table] | None = None
        # Where each file starts, and where the last one ends.
        self._starts = np.cumsum([0, *(file.metadata.num_rows for file in self._files)])

    def _opened(self, path: Path) -> parquet.ParquetFile:
        try:
            return parquet.ParquetFile(path)
        except (pa.ArrowException, OSError) as error:
            reason = str(error).partition("\n")[0]
            raise TargetUnreadable(f"{path} can't be read as a Parquet file ({reason}).") from None

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return int(self._starts[-1])

    def _groups(self) -> Iterator[tuple[int, int, int, int]]:
        """File, row group, and the first row of each and of the next one."""
        for index, file in enumerate(self._files):
            start = int(self._starts[index])
            for group in range(file.metadata.num_row_groups):
                end = start + file.metadata.row_group(group).num_rows
                yield index, group, start, end
                start = end

    def _read(self, index: int, group: int, names: Sequence[str]) -> pa.Table:
        there = self._files[index].schema_arrow.names
        rows = self._files[index].metadata.row_group(group).num_rows
        try:
            table = self._files[index].read_row_group(group, columns=[name for name in names if name in there])
        except (pa.ArrowException, OSError) as error:
            path = self.paths[index]
            if signature(self._instead.get(path, path)) != self._seen[index]:
                raise TargetChanged(f"Another program changed {path} while it was read.") from None
            raise TargetUnreadable(f"{path} can't be read ({str(error).partition(chr(10))[0]}).") from None
        fields = [self._schema.field(name) for name in names]
        columns = [table[field.name] if field.name in there else pa.nulls(rows, field.type) for field in fields]
        return pa.table(columns, schema=pa.schema(fields))

    def unseen(self) -> list[str]:
        """Nothing: there are no formulas."""
        return []

    def find(self, columns: Sequence[TargetColumn], key: Sequence[TargetColumn], keys: pa.Table) -> Found:
        """The columns of the rows that may match; of all rows, if the keys are many."""
        if keys.num_rows > _LOOK_UP_SHARE * self.rows:
            return self.values(columns)
        wanted = {column: as_array(keys[column.name]).unique().drop_null() for column in key}
        rows = [np.zeros(0, np.int64)]
        for index, group, start, _ in self._groups():
            if not self._may_match(index, group, wanted):
                continue
            there = self._read(index, group, [column.name for column in key])
            mask = np.ones(there.num_rows, bool)
            for column, values in wanted.items():
                mask &= mask_of(pc.is_in(typed(as_array(there[column.name]), column), values))
            rows.append(start + np.flatnonzero(mask))
        return self.values(columns, np.concatenate(rows))

    def _may_match(self, index: int, group: int, wanted: Mapping[TargetColumn, pa.Array]) -> bool:
        """Whether a row group may hold any of the keys, as far as its statistics tell."""
        metadata = self._files[index].metadata.row_group(group)
        for column, values in wanted.items():
            if not len(values):
                return False
            found = metadata.column(_leaf(self._files[index], column.name)).statistics
            unsure = column.type.as_stored or column.type.kind is Kind.FLOAT  # which may be no number
            if unsure or found is None or not found.has_min_max:
                continue
            low, high = pc.min(values).as_py(), pc.max(values).as_py()
            if type(found.min) is type(low) and (found.max < low or found.min > high):
                return False
        return True

    def values(self, columns: Sequence[TargetColumn], rows: Indices | None = None) -> Found:
        """The columns of some rows, or of all."""
        table = self._taken([column.name for column in columns], rows)
        found = {column.name: typed(as_array(table[column.name]), column) for column in columns}
        unreadable = {}
        for column in columns:  # such as a date that is out of the years that we can hold
            lost = valid(as_array(table[column.name])) & ~valid(found[column.name])
            if lost.any():
                unreadable[column.name] = lost
        return Found(pa.table(found), rows, unreadable)

    def batches(self, columns: Sequence[TargetColumn]) -> Iterator[Found]:
        """The columns of all rows, a file at a time."""
        for start, end in zip(self._starts, self._starts[1:], strict=False):
            yield self.values(columns, np.arange(start, end))

    def texts(self, names: Sequence[str], rows: Indices) -> pa.Table:
        """The exact text of some rows, which are kept: they are asked for again."""
        table = self._remembered(names, rows)
        return pa.table({name: exact(as_array(table[name])) for name in names})

    def _remembered(self, names: Sequence[str], rows: Indices) -> pa.Table:
        """Columns of some rows, which are kept until other rows are asked for; each is read once."""
        if self._kept is None or not np.array_equal(self._kept[0], rows):
            self._kept = (rows, pa.table({}))
        known = self._kept[1]
        lacking = [name for name in names if name not in known.column_names]
        if lacking:
            fresh = self._read_rows(lacking, rows)
            both = {name: known[name] for name in known.column_names} | {name: fresh[name] for name in lacking}
            self._kept = (rows, known := pa.table(both))
        return known.select(list(names))

    def _taken(self, names: Sequence[str], rows: Indices | None) -> pa.Table:
        """Columns of some rows, in the order given, or of all."""
        if rows is not None and self._kept is not None and np.array_equal(self._kept[0], rows):
            return self._remembered(names, rows)
        return self._read_rows(list(names), rows)

    def _read_rows(self, names: Sequence[str], rows: Indices | None) -> pa.Table:
        found = [self._schema.empty_table().select(names)]
        if rows is None:
            found += [self._read(index, group, names) for index, group, _, _ in self._groups()]
            return pa.concat_tables(found).combine_chunks()
        order = np.argsort(rows, kind="stable")
        ordered = rows[order]
        for index, group, start, end in self._groups():
            low, high = np.searchsorted(ordered, (start, end))
            if high > low:
                found.append(self._read(index, group, names).take(pa.array(ordered[low:high] - start)))
        back = np.empty(len(rows), np.int64)
        back[order] = np.arange(len(rows))
        return pa.concat_tables(found).combine_chunks().take(pa.array(back))

    def readable(self, texts: pa.Table) -> pa.Table:
        """Exact texts as they are: people can read them."""
        return texts

    def exact(self, texts: pa.Table) -> pa.Table:
        """Exact texts as they are."""
        return texts

    def spelled(self, values: pa.Array, column: TargetColumn) -> pa.Array:
        """New values as exact text."""
        if column.type.as_stored:
            return values
        return exact(in_file(values, self._schema.field(column.name).type))

    def unwritable(self, texts: pa.Array, rows: Indices | None, column: TargetColumn) -> Mapping[int, str]:
        """None: the column's type has said what it holds."""
        return {}

    def depending(self, names: Sequence[str]) -> list[str]:
        """Nothing: there are no formulas."""
        return []

    def definition(self, name: str) -> Definition:
        """The column's field, as the file's schema has it."""
        data = pa.schema([self._schema.field(name)]).serialize().to_pybytes()
        text = b64encode(data).decode("ascii")
        return Definition(text, text)

    def add(self, columns: Sequence[NewColumn]) -> None:
        """Have more columns at the end, blank in all rows."""
        for one in columns:
            if one.definition is None:
                field = pa.field(one.name, declared(one.type).arrow)
            else:
                field = pa.ipc.read_schema(pa.BufferReader(b64decode(one.definition.full))).field(0)
            self._schema = self._schema.append(field)
            self.columns = (*self.columns, column_of(field))

    def taken_away(self) -> Iterable[tuple[Path, NewFile]]:
        """All of the file goes."""
        return ()

    def without(self, names: Sequence[str]) -> Iterable[tuple[Path, NewFile]]:
        """All files without some columns."""
        schema = self._schema
        for name in names:
            schema = schema.remove(schema.get_field_index(name))
        nothing = np.zeros(0, np.int64)
        edits = Edits(nothing, pa.table({}), nothing, pa.table({}), 0)
        return [(path, partial(self._write, index, edits, schema)) for index, path in enumerate(self.paths)]

    def joint(self, touched: Indices) -> int:
        """The end of the last file that is written anyway, or of the last of all."""
        index = self._file_of(touched)[-1] if len(touched) else len(self._files) - 1
        return int(self._starts[index + 1])

    def _file_of(self, rows: Indices) -> Indices:
        found: Indices = np.searchsorted(self._starts, rows, side="right") - 1
        return found

    def edited(self, edits: Edits) -> Iterable[tuple[Path, NewFile]]:
        """The files that hold touched rows, and the one that new rows go to."""
        if len(self._schema) > len(self._files[0].schema_arrow):
            return [(path, partial(self._write, index, edits, self._schema)) for index, path in enumerate(self.paths)]
        touched = set(self._file_of(np.union1d(edits.rows, edits.leaving)).tolist())
        if edits.added.num_rows:
            touched.add(int(np.searchsorted(self._starts[1:], edits.added_at)))
        return [(self.paths[index], partial(self._write, index, edits, self._schema)) for index in sorted(touched)]

    def anew(self, edits: Edits) -> Collection[str]:
        """The columns of which cells change; all where rows come or go, or the files get more columns."""
        widened = len(self._schema) > len(self._files[0].schema_arrow)
        every = widened or edits.added.num_rows or len(edits.leaving)
        names: list[str] = self._schema.names if every else edits.cells.column_names
        return names

    def written(self, files: Mapping[Path, Path]) -> "ParquetRows":
        """The same, with some files read from elsewhere."""
        return ParquetRows(self._address, files)

    def _write(self, index: int, edits: Edits, schema: pa.Schema, file: BinaryIO) -> None:
        """A file anew, row group by row group, in the way it was written before."""
        old = self._files[index]
        receives = edits.added.num_rows > 0 and int(np.searchsorted(self._starts[1:], edits.added_at)) == index
        added = schema.empty_table()
        if receives:
            columns = [stored(as_array(edits.added[field.name]), field.type) for field in schema]
            added = pa.table(columns, schema=schema)
        groups = [(group, start, end) for at, group, start, end in self._groups() if at == index]
        last = groups[-1][0] if groups else None  # the row group that new rows go to: others may end there, if empty

        def edited(group: int, start: int, end: int, names: Sequence[str] = schema.names) -> pa.Table:
            table = self._edited_group(self._read(index, group, names), start, end, edits)
            return pa.concat_tables([table, added]) if receives and group == last else table

        anew = {at: _columns_anew(at[1], at[2], edits, schema, receives=receives and at[0] == last) for at in groups}
        share = sum(map(len, anew.values())) / max(len(schema) * len(groups), 1)
        if share <= _MOST_PATCHED and schema.equals(old.schema_arrow):
            with suppress(ValueError):  # not a file that we can take apart
                self._patch(index, file, {at[0]: partial(edited, *at, names) for at, names in anew.items() if names})
                return
            file.seek(0)
            file.truncate()
        with parquet.ParquetWriter(file, schema, **settings(old)) as writer:
            for at in groups:
                table = edited(*at)
                writer.write_table(table, max(table.num_rows, 1))
            if receives and not groups:
                writer.write_table(added)

    def _patch(self, index: int, file: BinaryIO, edited: Mapping[int, Callable[[], pa.Table]]) -> None:
        """A file anew in which only the `edited` row groups are other ones. Raises ValueError."""
        path = self.paths[index]
        with self._instead.get(path, path).open("rb") as old:
            found = RowGroups(memoryview(mmap(old.fileno(), 0, access=ACCESS_READ)))
            file.write(MAGIC)
            groups = []
            for number, group in enumerate(found.groups):
                if number not in edited:
                    groups.append(found.copy(group, file))
                    continue
                table, made = edited[number](), BytesIO()
                parquet.write_table(
                    table, made, max(table.num_rows, 1), **settings(self._files[index], table.column_names)
                )
                fresh = RowGroups(made.getvalue())
                if table.num_columns < len(self._schema):
                    groups.append(found.copy_with(group, fresh, file))
                    continue
                if layout(fresh.footer) != layout(found.footer):
                    raise ValueError("another program wrote the file, and other types for its columns")
                groups += [fresh.copy(one, file) for one in fresh.groups]
            finish(file, found.footer, groups)

    def _edited_group(self, table: pa.Table, start: int, end: int, edits: Edits) -> pa.Table:
        """The rows of a row group as they are to be."""
        low, high = np.searchsorted(edits.rows, (start, end))
        if high > low:
            mask = np.zeros(end - start, bool)
            mask[edits.rows[low:high] - start] = True
            for name in edits.cells.column_names:
                at, field = table.column_names.index(name), self._schema.field(name)
                new = stored(as_array(edits.cells[name].slice(low, high - low)), field.type)
                table = table.set_column(at, field, _replaced(as_array(table[name]), mask, new))
        leaving = edits.leaving[slice(*np.searchsorted(edits.leaving, (start, end)))]
        if len(leaving):
            stays = np.ones(end - start, bool)
            stays[leaving - start] = False
            table = table.filter(pa.array(stays))
        return table


def _columns_anew(start: int, end: int, edits: Edits, schema: pa.Schema, *, receives: bool) -> Sequence[str]:
    """The columns of a row group to encode again: all where rows come or go, else those of which cells change."""
    if receives or _meets(edits.leaving, start, end):
        return list(schema.names)
    return list(edits.cells.column_names) if _meets(edits.rows, start, end) else ()


def _meets(rows: Indices, start: int, end: int) -> bool:
    """Whether any of the ascending rows is from `start` to before `end`."""
    low, high = np.searchsorted(rows, (start, end))
    return bool(high > low)


def _replaced(old: pa.Array, mask: np.ndarray, new: pa.Array) -> pa.Array:
    """The values with new ones where the mask says so."""
    if pa.types.is_dictionary(old.type):
        decoded = pc.replace_with_mask(old.dictionary_decode(), pa.array(mask), new.dictionary_decode())
        return pc.cast(decoded.dictionary_encode(), old.type)
    at = np.arange(len(old))
    at[mask] = len(old) + np.arange(len(new))
    return pa.concat_arrays([old, new]).take(pa.array(at))


def _leaf(file: parquet.ParquetFile, name: str) -> int:
    """The number of a plain column among the leaves of the schema."""
    schema = file.metadata.schema
    return next(at for at in range(len(schema)) if schema.column(at).path == name)


def settings(file: parquet.ParquetFile, names: Collection[str] | None = None) -> dict[str, Any]:
    """How a file was written: its compression, encodings and statistics, as far as they can be told.

    With `names`, of those columns only.
    """
    metadata = file.metadata
    if not metadata.num_row_groups:
        return {}
    group = metadata.row_group(0)
    leaves = [group.column(at) for at in range(group.num_columns)]
    if names is not None:
        leaves = [
            leaf for leaf in leaves if leaf.path_in_schema.partition(".")[0] in names or leaf.path_in_schema in names
        ]
    dictionary = [leaf.path_in_schema for leaf in leaves if leaf.has_dictionary_page]
    return {
        "compression": {leaf.path_in_schema: _codec(leaf.compression) for leaf in leaves},
        "use_dictionary": dictionary or False,
        "write_statistics": [leaf.path_in_schema for leaf in leaves if leaf.is_stats_set] or False,
        "version": metadata.format_version if metadata.format_version in ("1.0", "2.4", "2.6") else "2.6",
        "store_schema": b"ARROW:schema" in (metadata.metadata or {}),
        "write_page_index": leaves[0].has_column_index,
    }


def _codec(name: str) -> str:
    return {"UNCOMPRESSED": "none", "LZ4": "lz4"}.get(name, name.lower())
