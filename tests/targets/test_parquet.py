"""Parquet files as targets: row groups without touched rows are copied as they are, whatever the types."""

from datetime import UTC, date, datetime, time
from decimal import Decimal
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import parquet

import tidymerge
from chance import PROPERTY, some
from conftest import NO_LIMITS, text_file
from strategies import any_text
from tidymerge import errors
from tidymerge.formats.parquet.footer import RowGroups, decode, encode

ALL = {
    "id": (pa.int32(), 7, "8"), "u8": (pa.uint8(), 200, "201"), "u64": (pa.uint64(), 2**63, str(2**63 + 1)),
    "f32": (pa.float32(), 0.1, "0.3"), "f64": (pa.float64(), 1e300, "2.5"), "dec": (pa.decimal128(20, 3), Decimal("1.250"), "7.125"),
    "text": (pa.large_string(), "käse", "wax"), "word": (pa.dictionary(pa.int8(), pa.string()), "red", "blue"),
    "day": (pa.date32(), date(2026, 5, 1), "2026-06-01"), "ns": (pa.timestamp("ns"), datetime(2026, 5, 1, 1, 2, 3, 4), "2026-05-02 01:00:00"),
    "ms": (pa.timestamp("ms", "UTC"), datetime(2026, 5, 1, tzinfo=UTC), "2026-05-02 01:00:00.125Z"), "at": (pa.time32("s"), time(9, 30), "10:00:01"),
    "ok": (pa.bool_(), True, "no"), "raw": (pa.binary(), b"\x00\xff", "0x0102"), "tags": (pa.list_(pa.int64()), [1, 2], None),
    "part": (pa.struct({"a": pa.int64()}), {"a": 1}, None), "five": (pa.binary(5), b"12345", None),
}  # fmt: skip
NAMES = [name for name, (_, _, new) in ALL.items() if new is not None]


def table(rows):
    columns = {
        name: pa.array([at if name == "id" else None if at % 5 == 4 else value for at in range(rows)], kind)
        for name, (kind, value, _) in ALL.items()
    }
    return pa.table(columns)


@pytest.mark.parametrize(
    "options", [{}, {"use_deprecated_int96_timestamps": True}, {"store_schema": False}, {"version": "1.0"}]
)
def test_every_type_is_written_and_comes_back_and_other_row_groups_stay(folder, options):
    path = folder / "t.parquet"
    parquet.write_table(table(100), path, row_group_size=5, compression={"id": "zstd"}, **options)
    before, start = path.read_bytes(), parquet.read_table(path)
    zone = "Z" if start.schema.field("ms").type.tz else ""
    cells = [ALL[name][2].replace("Z", zone) for name in NAMES[1:]]
    news = [NAMES, ["42", *cells], ["200", *cells]]
    done = tidymerge.load(
        text_file(folder / "in.csv", news), str(path), key="id", accept_warnings=True, limits=NO_LIMITS
    )
    assert (done.rows.updated, done.rows.inserted) == (1, 1), done.rejects
    after = parquet.read_table(path)
    assert after.schema == start.schema
    assert after.num_rows == 101
    assert after.slice(0, 42).to_pylist() == start.slice(0, 42).to_pylist()  # dictionaries may be other ones
    assert after.slice(43, 57).to_pylist() == start.slice(43, 57).to_pylist()
    assert after["u64"][42].as_py() == after["u64"][100].as_py() == 2**63 + 1
    assert after["ms"][42].as_py().replace(tzinfo=UTC) == datetime(2026, 5, 2, 1, 0, 0, 125000, tzinfo=UTC)
    assert after["at"][100].as_py() == time(10, 0, 1)
    assert (after["tags"][42].as_py(), after["tags"][100].as_py()) == ([1, 2], None)
    if not options.get("use_deprecated_int96_timestamps") and "version" not in options:
        old, new = RowGroups(before), RowGroups(path.read_bytes())
        assert [group not in {8, 19} for group in range(20)] == [
            before[slice(*old.extent(old.groups[at]))] in path.read_bytes() for at in range(20)
        ]
        assert len(new.groups) == 20
        compression = parquet.ParquetFile(path).metadata.row_group(8).column(0).compression
        assert compression == "ZSTD"
    assert tidymerge.preview(str(folder / "in.csv"), str(path), key="id").changed == 0
    tidymerge.undo(done.run)
    assert parquet.read_table(path).to_pylist() == start.to_pylist()


def chunks(path, group):
    """The bytes of each column of a row group, and the sizes that the row group tells."""
    data, metadata = path.read_bytes(), parquet.ParquetFile(path).metadata.row_group(group)
    found = {}
    for column in (metadata.column(at) for at in range(metadata.num_columns)):
        start = column.dictionary_page_offset or column.data_page_offset
        found[column.path_in_schema] = data[start : start + column.total_compressed_size]
    columns = [metadata.column(at) for at in range(metadata.num_columns)]
    assert metadata.total_byte_size == sum(column.total_uncompressed_size for column in columns)
    return found


def test_within_a_row_group_only_the_columns_that_change_are_encoded_again(folder):
    path = folder / "t.parquet"
    sorting = [parquet.SortingColumn(0)]
    parquet.write_table(table(100), path, row_group_size=5, write_page_index=True, sorting_columns=sorting)
    before, start = chunks(path, 8), parquet.read_table(path)
    done = tidymerge.load(text_file(folder / "in.csv", [["id", "u8", "text"], [42, 7, ""]]), str(path), key="id")
    after = chunks(path, 8)
    assert {name for name in before if before[name] != after[name]} == {"u8"}
    wanted = start.to_pylist()
    wanted[42]["u8"] = 7
    assert parquet.read_table(path).to_pylist() == wanted
    tidymerge.undo(done.run)
    assert parquet.read_table(path).to_pylist() == start.to_pylist()


VALUES = st.fixed_dictionaries({
    "f": st.none() | st.floats(width=32, allow_nan=False), "s": st.none() | any_text(4), "n": st.none() | st.integers(-(2**63), 2**63 - 1),
    "t": st.none() | st.datetimes(datetime(1700, 1, 1), datetime(2200, 1, 1)), "b": st.none() | st.binary(max_size=3),
})  # fmt: skip
KINDS = {"f": pa.float32(), "s": pa.string(), "n": pa.int64(), "t": pa.timestamp("ns"), "b": pa.binary()}


@settings(PROPERTY, max_examples=some(60))
@given(st.lists(VALUES, min_size=1, max_size=9), st.sets(st.integers(0, 8)), st.integers(1, 4))
def test_an_undo_gives_back_every_value_to_the_last_bit(tmp_path_factory, rows, touched, each):
    folder = tmp_path_factory.mktemp("t")
    path = folder / "t.parquet"
    columns = {name: pa.array([row[name] for row in rows], kind) for name, kind in KINDS.items()}
    start = pa.table({"k": np.arange(len(rows)), **columns})
    parquet.write_table(start, path, row_group_size=each)
    sheet = [["k", *KINDS], *([at, "1.5", "x", at, "2020-01-01 00:00:00", "0x00"] for at in touched)]
    done = tidymerge.load(
        text_file(folder / "in.csv", sheet), str(path), key="k", accept_warnings=True, limits=NO_LIMITS
    )
    assert parquet.read_table(path).num_rows == len(rows) + done.rows.inserted
    if done.changed:
        tidymerge.undo(done.run)
    assert parquet.read_table(path).equals(start)


def test_a_footer_put_together_again_is_the_same(folder):
    parquet.write_table(
        table(100),
        folder / "t.parquet",
        row_group_size=5,
        write_page_index=True,
        sorting_columns=[parquet.SortingColumn(0)],
    )
    footer = RowGroups((folder / "t.parquet").read_bytes()).footer
    again = decode(encode(footer))
    assert again == footer
    assert len(footer) > 5
    for data in (b"PAR1", b"PARE" * 4, b"PAR1" + b"\x19" * 40 + (40).to_bytes(4, "little") + b"PAR1"):
        with pytest.raises(ValueError, match=r"."):
            RowGroups(data)


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda path: (path / "part-1.parquet").write_bytes(b"PAR1"), "can't be read as a Parquet file"),
        (lambda path: parquet.write_table(pa.table({"k": ["1"]}), path / "part-1.parquet"), "does not have the columns"),
        (lambda path: ((path / "more").mkdir(), parquet.write_table(pa.table({"k": [1]}), path / "more" / "a.parquet")), "has folders"),
        (lambda path: [file.unlink() for file in path.glob("*")], "is a folder; name a file in it"),
    ],
)  # fmt: skip
def test_what_is_no_table_is_refused(folder, spoil, words):
    path = folder / "hives"
    path.mkdir()
    for part in range(2):
        parquet.write_table(pa.table({"k": [part]}), path / f"part-{part}.parquet")
    spoil(path)
    before = {file: file.read_bytes() for file in path.rglob("*") if file.is_file()}
    with pytest.raises(tidymerge.TidyMergeError, match=words):
        tidymerge.load(text_file(folder / "in.csv", [["k"], [1]]), str(path), key="k")
    assert before == {file: file.read_bytes() for file in path.rglob("*") if file.is_file()}


def test_nested_columns_take_no_rows_and_types_are_the_files_own(folder):
    path = folder / "t.parquet"
    parquet.write_table(table(5), path)
    incoming = text_file(folder / "in.csv", [["id", "tags"], [1, "[3]"]])
    with pytest.raises(errors.UnloadableColumn, match="list"):
        tidymerge.load(incoming, str(path), key="id", columns={"tags": "tags"})
    job = folder / "j.toml"
    job.write_text(
        f"[incoming]\nat = '{incoming}'\n[target]\nat = '{path}'\nkey = 'id'\ntypes = {{ text = 'integer' }}\n", "utf-8"
    )
    with pytest.raises(tidymerge.UsageError, match="types of its own"):
        tidymerge.preview(job=job)
    assert Path(path).exists()
