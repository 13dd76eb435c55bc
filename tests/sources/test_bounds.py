"""Files that are larger than they look, or never end, are refused in time; those that are only large are read."""

import gzip
import json
import lzma
import os
import zipfile
from pathlib import Path
from typing import Self

import pytest

import tidymerge
from conftest import database, sheet, stored, text_file
from tidymerge.run.checksums import Checksums

TABLE = "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER)"


@pytest.fixture
def target(folder):
    return database(folder / "coop.db", TABLE, "t", [("a", 1)])


def test_what_unpacks_to_more_than_is_allowed_is_refused_by_name(run, folder, target):
    (folder / "bomb.csv.gz").write_bytes(gzip.compress(b"k,n\n" + b"a,1\n" * 500_000))
    sheet(folder / "bomb.xlsx", [["k", "n"], *([f"key {at}", at] for at in range(2000))])
    (folder / "bomb.csv.xz").write_bytes(lzma.compress(b"k,n\n" + b"a,1\n" * 500_000))
    for given, stdin in (
        ("bomb.csv.gz", b""),
        ("bomb.csv.xz", b""),
        ("bomb.xlsx", b""),
        ("-", b"k,n\n" + b"a,1\n" * 500_000),
    ):
        ended = run("preview", given, "--into", target, stdin=stdin, TIDYMERGE_MOST_UNPACKED="50000")
        assert (ended.status, "TIDYMERGE_MOST_UNPACKED" in ended.err) == (1, True), ended.err
        assert run("preview", given, "--into", target, stdin=stdin).status == 0


@pytest.mark.parametrize("name", ["device.csv", "pipe.csv", "pipe.db", "pipe.xlsx", "pipe.toml"])
def test_special_files_are_refused_and_nothing_waits_for_them(run, folder, target, name):
    (folder / "device.csv").symlink_to("/dev/zero")
    for ending in ("csv", "db", "xlsx", "toml"):
        os.mkfifo(folder / f"pipe.{ending}")
    text_file(folder / "in.csv", [["k", "n"], ["a", 2]])
    way = {"pipe.db": ("in.csv", "--into", name), "pipe.toml": ("in.csv", "--job", name)}.get(
        name, (name, "--into", target)
    )
    ended = run("preview", *way)
    assert (ended.status, "no regular file" in ended.err) == (1, True), ended.err


def test_lines_that_never_end_and_lines_that_are_only_long(run, folder, target):
    (folder / "one.csv").write_bytes(b"k,n," + b"x" * 2_000_000)
    ended = run("preview", "one.csv", "--into", target, TIDYMERGE_LARGE_FILE="1000")
    assert (ended.status, "no line end" in ended.err) == (1, True), ended.err
    (folder / "long.csv").write_bytes(b'k,n\na,1\nb,"' + b"x" * 40_000_000 + b"\n")
    ended = run("preview", "long.csv", "--into", target, TIDYMERGE_LARGE_FILE="1000", TIDYMERGE_LONGEST_LINE="1000000")
    assert (ended.status, "TIDYMERGE_LONGEST_LINE" in ended.err) == (1, True), ended.err
    long = "y" * 1_500_000
    text_file(folder / "cells.csv", [["k", "n"], [long, 3], ["a", 2]])
    for large in ("1000", "100000000"):
        assert (
            run("preview", "cells.csv", "--into", target, "--json", TIDYMERGE_LARGE_FILE=large).receipt["rows"][
                "inserted"
            ]
            == 1
        )


def test_json_lines_may_hold_any_line_end_of_unicode(folder, target):
    rows = [{"k": "one\u2028two\u2029\x85\x0bend", "n": 1}, {"k": "b", "n": 2}]
    (folder / "in.jsonl").write_text("\n".join(json.dumps(row, ensure_ascii=False) for row in rows), "utf-8")
    assert tidymerge.load(folder / "in.jsonl", target, accept_warnings=True).rows.inserted == 2
    assert stored(target, "k, n")[-1][:1] == ("one\u2028two\u2029\x85\x0bend".encode(),)


@pytest.mark.parametrize("place", ["XFD1048576", "A4000000000", "ZZZ9", "CV1000000"])
def test_a_value_too_far_out_does_not_end_the_process(run, folder, target, place):
    """What reads sheets makes a rectangle of cells up to the last one."""
    file = sheet(folder / "far.xlsx", [["k", "n"], ["a", 2], ["b", 3]])
    with zipfile.ZipFile(file) as package:
        parts = {part: package.read(part) for part in package.namelist()}
    name = "xl/worksheets/sheet1.xml"
    row = "".join(sign for sign in place if sign.isdigit())
    written = {"A4000000000": "r='{}'", "CV1000000": 'r = "{}"'}.get(place, 'r="{}"')  # all of it is XML
    far = f"<row {written.format(row)}><c {written.format(place)}><v>7</v></c></row>".encode()
    parts[name] = parts[name].replace(b"</sheetData>", far + b"</sheetData>")
    with zipfile.ZipFile(file, "w") as package:
        for part, data in parts.items():
            package.writestr(part, data)
    ended = run("preview", "far.xlsx", "--into", target)
    assert (ended.status, "too far out to be read" in ended.err) == (1, True), ended.err
    styled = (
        parts[name]
        .replace(b"<v>7</v></c>", b"</c>")
        .replace(f'<c r="{place}"></c>'.encode(), f'<c r="{place}" s="0"/>'.encode())
    )
    if place == "XFD1048576":  # looks only: many a sheet has them to its very end
        with zipfile.ZipFile(file, "w") as package:
            for part, data in (parts | {name: styled}).items():
                package.writestr(part, data)
        assert run("preview", "far.xlsx", "--into", target).status == 0


class Endless:
    """A file that is read for long: of so many blocks."""

    def __init__(self) -> None:
        self.left = 1_000_000

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        pass

    def read(self, _: int) -> bytes:
        self.left -= 1
        return b"x" if self.left else b""


def test_an_interruption_does_not_wait_for_the_checksum_of_a_large_file(folder, monkeypatch):
    (folder / "in.csv").write_text("k\n1\n", "utf-8")
    monkeypatch.setattr(Path, "open", lambda *_: Endless())
    sums = Checksums([str(folder / "in.csv")])
    with pytest.raises(KeyboardInterrupt), sums:
        raise KeyboardInterrupt
    assert list(sums.values()) == [None]
