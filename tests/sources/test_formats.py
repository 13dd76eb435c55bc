"""The other places that rows come from: each gives the same load."""

import bz2
import gzip
import json
import lzma
import sqlite3
import zipfile
from contextlib import closing
from decimal import Decimal

import pyarrow as pa
import pytest
from openpyxl import Workbook
from openpyxl.worksheet.table import Table
from pyarrow import feather, parquet

import tidymerge
from conftest import database, sheet, stored, text_file
from tidymerge.errors import BrokenFile, NoSuchSheet

TABLE = "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER, kg DECIMAL(8,2), seen DATE, note TEXT)"
ROWS = [["k", "n", "kg", "seen", "note"], ["a", "1", "12.5", "2026-05-04", "x"], ["b", "2", "", "", ""]]
WANTED = [(b"a", 1, 12.5, b"2026-05-04", b"x"), (b"b", 2, None, None, None)]
OBJECTS = [
    {"k": "a", "n": 1, "kg": 12.5, "seen": "2026-05-04", "note": "x"},
    {"n": 2, "k": "b", "kg": None},
]


def make(folder, name):
    """A file of that name with the rows in it; its address and options."""
    path = folder / name
    csv_bytes = "\n".join(",".join(row) for row in ROWS).encode()
    match name:
        case "in.csv.gz":
            path.write_bytes(gzip.compress(csv_bytes))
        case "in.csv.zst":
            with pa.output_stream(str(path), compression="zstd") as stream:
                stream.write(csv_bytes)
        case "in.csv.bz2":
            path.write_bytes(bz2.compress(csv_bytes))
        case "in.csv.xz":
            path.write_bytes(lzma.compress(csv_bytes))
        case "in.csv.zip":
            with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
                archive.mkdir("week")
                archive.writestr("week/in.csv", csv_bytes)
                archive.writestr("__MACOSX/._in.csv", b"\0")
        case "in.jsonl":
            path.write_text("\n".join(map(json.dumps, OBJECTS)) + "\n\n")
        case "in.json":
            path.write_text(json.dumps(OBJECTS))
        case "in.parquet" | "in.feather" | "in.arrow":
            columns = {name: [row.get(name) for row in OBJECTS] for name in ("k", "n", "note")}
            decimals = pa.array([Decimal("12.50"), None], pa.decimal128(10, 4))
            dates = pa.array(["2026-05-04", None]).cast(pa.date32())
            table = pa.table({**columns, "kg": decimals, "seen": dates})
            if name == "in.parquet":
                parquet.write_table(table, path)
            elif name == "in.feather":
                feather.write_feather(table, path, compression="zstd")
            else:
                with pa.ipc.new_stream(path, table.schema) as stream:
                    stream.write_table(table)
        case "in.db":
            database(
                path,
                TABLE.replace(" t ", " staging "),
                "staging",
                [("a", 1, 12.5, "2026-05-04", "x"), ("b", 2, None, None, None)],
            )
        case "in.ods":
            ods(path, ROWS)
    return str(path)


def ods(path, rows):
    """The least that is an ODS file (ISO 26300): a zip with the content in it."""
    cells = "".join(
        "<table:table-row>"
        + "".join(
            f'<table:table-cell office:value-type="string"><text:p>{cell}</text:p></table:table-cell>' for cell in row
        )
        + "</table:table-row>"
        for row in rows
    )
    spaces = " ".join(
        f'xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"' for name in ("office", "table", "text")
    )
    content = f'<?xml version="1.0"?><office:document-content {spaces} office:version="1.3"><office:body><office:spreadsheet><table:table table:name="S">{cells}</table:table></office:spreadsheet></office:body></office:document-content>'
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    manifest = f'<?xml version="1.0"?><manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><manifest:file-entry manifest:full-path="/" manifest:media-type="{kind}"/><manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>'
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("mimetype", kind)
        archive.writestr("META-INF/manifest.xml", manifest)
        archive.writestr("content.xml", content)


@pytest.mark.parametrize("name", [
    *("in.csv.gz", "in.csv.zst", "in.csv.bz2", "in.csv.xz", "in.csv.zip", "in.jsonl", "in.json", "in.parquet"),
    *("in.feather", "in.arrow", "in.db", "in.ods"),
])  # fmt: skip
def test_every_format_gives_the_same_load(run, folder, name):
    target = database(folder / "coop.db", TABLE, "t", ())
    address = make(folder, name)
    receipt = tidymerge.load(address, target)
    assert receipt.rows.inserted == 2
    assert stored(target) == WANTED
    assert tidymerge.load(address, target).rows.unchanged == 2
    assert run("look", address + ("#staging" if name == "in.db" else "")).status == 0


def test_a_query_gives_exact_values_of_mixed_columns(run, folder):
    target = database(folder / "coop.db", TABLE, "t", ())
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.execute("CREATE TABLE staging (key, amount)")
        connection.executemany("INSERT INTO staging VALUES (?, ?)", [("a", 1.25), ("b", "3.5"), ("c", 7), ("d", "x")])
    query = "SELECT key AS k, amount AS kg, 5 AS n FROM staging WHERE key <> 'z';"
    ended = run("load", "coop.db", "--query", query, "--into", target, "--json")
    assert (ended.status, ended.receipt["rejects"]["reasons"]) == (3, {"not a number": 1})
    assert [row[:3] for row in stored(target)] == [(b"a", 5, 1.25), (b"b", 5, 3.5), (b"c", 5, 7)]
    for wrong in ("DELETE FROM staging", "SELECT 1 AS k; DROP TABLE staging", "SELECT nothing"):
        ended = run("load", "coop.db", "--query", wrong, "--into", target)
        assert ended.status in (1, 2), ended.out
        assert "Traceback" not in ended.err
    assert len(stored(f"{folder}/coop.db#staging")) == 4


def test_ranges_and_named_tables_of_a_workbook(folder):
    target = database(folder / "coop.db", TABLE, "t", ())
    book = Workbook()
    cells = [["x", "x", "x", "x"], ["x", "k", "n", "note"], ["x", "a", 1, "p"], ["x", "b", 2, "q"], ["x", "c", 3, "r"]]
    for row in cells:
        book.active.append(row)
    book.active.add_table(Table(displayName="Hives", ref="B2:D4"))
    book.save(folder / "in.xlsx")
    receipt = tidymerge.preview("in.xlsx#hives", target)
    assert (receipt.rows.inserted, receipt.header_row, receipt.sheet) == (2, 2, "Sheet")
    (folder / "job.toml").write_text(
        f'[incoming]\nat = "in.xlsx"\ncells = "B2:C5"\nheader_row = 2\n[target]\nat = "{target}"'
    )
    receipt = tidymerge.preview(job="job.toml")
    assert (receipt.rows.inserted, receipt.tables[0].left_alone) == (3, ("kg", "seen", "note"))
    with pytest.raises(NoSuchSheet, match="tables Hives"):
        tidymerge.preview("in.xlsx#Bees", target)


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("in.json", b'{"k": 1}', "array of objects"), ("in.json", b"[1]", "record 1"), ("in.json", b"[", "not JSON"),
        ("in.jsonl", b'{"k": 1}\n{', "line 2"), ("in.parquet", b"PAR1", "Parquet"), ("in.ods", b"PK", "save it again"),
        ("in.csv.gz", b"not gzip", "in.csv.gz"), ("in.csv.xz", b"not xz", "can't be unpacked"),
        ("in.csv.xz", lzma.compress(b"k,n")[:-9], "can't be unpacked"), ("in.csv.bz2", b"not bz2", "in.csv.bz2"),
        ("in.csv.zip", b"PK", "can't be unpacked"), ("in.arrow", b"ARROW1", "Arrow"), ("in.feather", b"", "Arrow"),
        ("in.csv.zip", b"PK\5\6" + bytes(18), "holds 0 files"),
    ],
)  # fmt: skip
def test_broken_files_are_named(folder, name, data, words):
    target = database(folder / "coop.db", TABLE, "t", ())
    (folder / name).write_bytes(data)
    with pytest.raises((BrokenFile, tidymerge.SourceError), match=words):
        tidymerge.preview(name, target)


def test_options_for_another_format_are_refused(run, folder):
    target = database(folder / "coop.db", TABLE, "t", ())
    text_file(folder / "in.csv", ROWS)
    sheet(folder / "in.xlsx", ROWS)
    for arguments, words in (
        (["in.csv", "--cells", "A1:B2"], "for workbooks"), (["in.csv", "--query", "select 1"], "for databases"),
        (["in.xlsx", "--cells", "nonsense"], "B4:H40"), (["in.csv", "--rows", "x"], "3,7-12"), (["in.csv", "--rows", "²"], "3,7-12"), (["in.csv", "--rows", "0"], "from 1"), (["in.csv", "--rows", "9-3"], "a range goes up"), (["week*.csv"], "No file fits"),
    ):  # fmt: skip
        ended = run("preview", *arguments, "--into", target)
        assert ended.status in (1, 2)
        assert words in ended.err
