"""Workbooks of other formats than XLSX say the same, and a formula error in them is never taken for a blank cell."""

import datetime as dt
import os
import shutil
import struct
import subprocess
import zipfile

import pytest
from openpyxl import Workbook

import tidymerge
from conftest import database, stored

NAMES = ["code", "n", "kg", "seen", "note"]
ROWS = [
    ["007", 1, 12.5, dt.datetime(2026, 5, 1), "calm"],
    ["L02", 2, None, dt.datetime(2026, 5, 1, 12, 30), "=1/0"],
    ["L03", 3, 0.1, None, '=A4&"x"'],
    ["L04", 4, "=NA()", None, None],
]
TABLE = "CREATE TABLE t (code TEXT PRIMARY KEY, n INTEGER, kg DECIMAL(8, 2), seen TIMESTAMP, note TEXT)"
GOOD = [(b"007", 1, 12.5, b"2026-05-01 00:00:00", b"calm"), (b"L03", 3, 0.1, None, b"007x")]


@pytest.mark.skipif(shutil.which("soffice") is None and "CI" not in os.environ, reason="needs a spreadsheet program")
def test_an_old_workbook_is_loaded_and_its_errors_are_rejected(run, folder):
    book = Workbook()
    book.active.append(["not this one"])
    rows = book.create_sheet("Hives")
    for row in (["A title"], [], [*NAMES], *ROWS):
        rows.append(row)
    book.save(folder / "in.xlsx")
    words = ["soffice", f"-env:UserInstallation=file://{folder}/office", "--headless", "--convert-to", "xls", "in.xlsx"]
    subprocess.run(words, cwd=folder, check=True, capture_output=True, timeout=240)
    check(run, folder, "in.xls#Hives", first=4)


def test_an_open_document_is_loaded_and_its_errors_are_rejected(run, folder, monkeypatch):
    """As a spreadsheet program writes it: an error has an empty text, blank rows and cells are repeated."""
    found = {float: "float", int: "float", str: "string"}

    def cell(value):
        if value in ("#DIV/0!", "#N/A"):
            return f'<table:table-cell table:formula="of:=1/0" office:value-type="string" office:string-value="" calcext:value-type="error"><text:p>{value}</text:p></table:table-cell>'
        if value is None:
            return "<table:table-cell/>"
        shown = f'office:value="{value}"' if not isinstance(value, str) else ""
        return f'<table:table-cell office:value-type="{found[type(value)]}" {shown}><text:p>{value}</text:p></table:table-cell>'

    body = [
        NAMES,
        ["007", 1, 12.5, None, "calm"],
        ["L02", 2, None, None, "#DIV/0!"],
        ["L03", 3, 0.1, None, "007x"],
        ["L04", 4, "#N/A", None, None],
    ]
    rows = "".join(f"<table:table-row>{''.join(map(cell, row))}</table:table-row>" for row in body)
    blank = '<table:table-row table:number-rows-repeated="2"><table:table-cell table:number-columns-repeated="5"/></table:table-row>'
    names = "".join(
        f' xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"' for name in ("office", "table", "text")
    )
    names += ' xmlns:calcext="urn:org:documentfoundation:names:experimental:calc:xmlns:calcext:1.0"'
    other = f'<table:table table:name="Other"><table:table-row>{cell("#N/A")}</table:table-row></table:table>'
    sheet = f'{other}<table:table table:name="Hives">{blank}{rows}</table:table>'
    with zipfile.ZipFile(folder / "in.ods", "w") as package:
        package.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        package.writestr(
            "META-INF/manifest.xml",
            '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"/>',
        )
        package.writestr(
            "content.xml",
            f"<office:document-content{names}><office:body><office:spreadsheet>{sheet}</office:spreadsheet></office:body></office:document-content>",
        )
    check(run, folder, "in.ods#Hives", first=4, seen=False)

    def lost(*_):
        raise KeyError("content.xml")

    monkeypatch.setattr("tidymerge.formats.sheet.other_faults._of_ods", lost)
    notes = tidymerge.preview("in.ods#Hives", "c.db#t").notes
    assert "Whether blank cells are formula errors could not be told in this workbook." in notes


def wide(text):
    return struct.pack("<I", len(text)) + text.encode("utf-16-le")


def part(*records):
    """Binary records: a type of one or two bytes, a size, what they hold."""
    made = b""
    for kind, body in records:
        made += bytes([kind]) if kind < 128 else bytes([kind & 0x7F | 0x80, kind >> 7])
        made += bytes([len(body)]) if len(body) < 128 else bytes([len(body) & 0x7F | 0x80, len(body) >> 7])
        made += body
    return made


def cell(at, value):
    place = struct.pack("<II", at, 0)
    if isinstance(value, bytes):
        return 11, place + value + b"\0\0"  # a formula whose value is an error
    return (6, place + wide(value)) if isinstance(value, str) else (5, place + struct.pack("<d", value))


def test_a_binary_workbook_is_loaded_and_its_errors_are_rejected(run, folder):
    rows = [
        NAMES,
        ["007", 1, 12.5, None, "calm"],
        ["L02", 2, None, None, b"\x07"],
        ["L03", 3, 0.1, None, "007x"],
        ["L04", 4, b"\x2a", None, None],
    ]
    records = [(129, b""), (148, struct.pack("<IIII", 0, 4, 0, 4)), (145, b"")]
    for number, row in enumerate(rows):
        records.append((0, struct.pack("<II", number, 0) + bytes(9)))
        records += [cell(at, value) for at, value in enumerate(row) if value is not None]
    sheet = part(*records, (146, b""), (130, b""))
    book = part(
        (131, b""), (143, b""), (156, struct.pack("<II", 0, 1) + wide("rId1") + wide("Hives")), (144, b""), (132, b"")
    )
    relation = "http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet"
    with zipfile.ZipFile(folder / "in.xlsb", "w") as package:
        package.writestr("xl/workbook.bin", book)
        package.writestr(
            "xl/_rels/workbook.bin.rels",
            f'<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="{relation}" Target="worksheets/sheet1.bin"/></Relationships>',
        )
        package.writestr("xl/worksheets/sheet1.bin", sheet)
    check(run, folder, "in.xlsb", first=2, seen=False)


def check(run, folder, incoming, *, first, seen=True):
    target = database(folder / "c.db", TABLE, "t", rows=())
    ended = run("load", incoming, "--into", target, "--json", "--yes", "--rejects", "r.csv", "--most-rejected", "90%")
    assert ended.status == 3, ended.err
    rejects = [(one["row"], one["column"], one["value"], one["reason"]) for one in ended.receipt["rejects"]["first"]]
    assert rejects == [(first + 1, "note", "#DIV/0!", "a formula error"), (first + 3, "kg", "#N/A", "a formula error")]
    assert stored(target) == [row if seen else (*row[:3], None, row[4]) for row in GOOD]
    looked = run("look", incoming)
    assert looked.status == 0
    assert "code" in looked.out
