"""Reading text files: whatever the dialect, the same rows with the row numbers that a person sees."""

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY, fresh_folder
from tidymerge.model import ReadOptions
from tidymerge.sources import open_source


def read(path, header_row=0, **options):
    incoming = open_source(str(path), ReadOptions(**options)).read(header_row)
    columns = [column.arrays[0].to_pylist() for column in incoming.columns]
    return (
        [column.name for column in incoming.columns],
        incoming.row_numbers.tolist(),
        [list(row) for row in zip(*columns, strict=True)],
    )


@pytest.mark.parametrize(
    ("data", "encoding"),
    [
        (b"Code,Queen\nL01,gr\xc3\xbcn\n", None),
        (b"\xef\xbb\xbfCode,Queen\nL01,gr\xc3\xbcn\n", None),
        ("Code;Queen\r\nL01;grün\r\n".encode("utf-16"), None),
        ("Code\tQueen\nL01\tgrün\n".encode("cp1252"), "cp1252"),
        (b'"Code"|"Queen"\r"L01"|"gr\xc3\xbcn"\r', None),
        (b"'Code','Queen'\n'L01','gr\xc3\xbcn'", None),
    ],
)
def test_dialects_and_encodings_are_found(tmp_path, data, encoding):
    (tmp_path / "in.csv").write_bytes(data)
    assert read(tmp_path / "in.csv", encoding=encoding) == (["Code", "Queen"], [2], [["L01", "grün"]])


def test_a_guessed_encoding_is_said(tmp_path):
    text = "Kürzel;Bemerkung\n" + "".join(
        f"L{at:02};Die Königin wurde heute früh gesehen, schöne Völker\n" for at in range(40)
    )
    (tmp_path / "in.csv").write_bytes(text.encode("cp1252"))
    incoming = open_source(str(tmp_path / "in.csv"), ReadOptions()).read(0)
    assert "name the encoding" in incoming.notes[0]
    assert incoming.columns[1].arrays[0][0].as_py().startswith("Die Königin")


def test_rows_are_numbered_as_seen(tmp_path):
    (tmp_path / "in.csv").write_text('Title\n\nCode,Note\nA,"two\nlines, ""quoted"""\n,\n\n  ,\t\nB,x\n')
    names, numbers, rows = read(tmp_path / "in.csv", header_row=2)
    assert (names, numbers) == (["Code", "Note"], [4, 8])
    assert rows == [["A", 'two\nlines, "quoted"'], ["B", "x"]]


def test_columns_without_a_name_are_kept_if_they_hold_something(tmp_path):
    (tmp_path / "in.csv").write_text("Code,,\nA,,7\n")
    assert read(tmp_path / "in.csv") == (["Code", "column C"], [2], [["A", "7"]])


@PROPERTY
@given(
    st.lists(st.lists(st.text("ab,;\"'\n\r\t é", max_size=5), min_size=3, max_size=3), max_size=8),
    st.sampled_from(",;\t|"),
)
def test_any_cells_come_back_as_the_standard_library_reads_them(rows, delimiter):
    with fresh_folder() as folder:
        buffer = io.StringIO(newline="")
        csv.writer(buffer, delimiter=delimiter).writerows([["one", "two", "three"], *rows])
        (folder / "in.csv").write_bytes(buffer.getvalue().encode())
        _, numbers, found = read(folder / "in.csv", delimiter=delimiter, quote='"')
    kept = [(number, row) for number, row in enumerate(rows, start=2) if any(cell.strip() for cell in row)]
    assert numbers == [number for number, _ in kept]
    assert [[cell or "" for cell in row] for row in found] == [row for _, row in kept]
