"""Values that a target can't keep, and files that are not what they seem: a reject or a warning, never a rollback."""

import json
import random
import sqlite3
from contextlib import closing
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
from openpyxl import Workbook
from pyarrow import parquet

import tidymerge
from conftest import NO_LIMITS, database, sheet, stored, text_file
from tidymerge import errors
from tidymerge.core.expressions import Cells, Frame, Type, compile_expression
from tidymerge.core.tidy.documents import one_document
from tidymerge.errors import BadExpression
from tidymerge.run.gather import addresses


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("12345678901234567890.123", "12345678901234567890.123"), ("1e20", "100000000000000000000"), ("15e-1", "1.5"), ("1.50", "1.5"), ("-0.0", "0"),
        ('{"b":1,"a":[1,2.0]}', '{"a":[1,2],"b":1}'), ("1e400", "1e400"), ("10e399", "1e400"), ('"\\u00e9"', '"é"'),
        ('{"a":1,"a":2}', None), ('"\\ud800"', None), ("NaN", None), ("[1,]", None), ("[" * 300 + "]" * 300, None), ("[" * 9999, None),
    ],
)  # fmt: skip
def test_documents_have_one_spelling_to_the_last_digit(text, wanted):
    found = one_document(text)
    assert found == wanted if wanted else found.reason == "not JSON"


def test_numbers_of_json_files_keep_their_digits(folder):
    lines = [
        '{"k": 1, "n": 12345678901234567890.123, "d": {"x": [0.1, 12345678901234567890.123]}}',
        '{"k": 2, "n": NaN, "d": "a\u2028b"}',
    ]
    (folder / "in.jsonl").write_text("\n".join(lines), "utf-8")
    target = database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n TEXT, d TEXT)", "t", ())
    tidymerge.load(folder / "in.jsonl", target)
    rows = [tuple(cell.decode() for cell in row[1:]) for row in stored(target)]
    assert rows == [("12345678901234567890.123", '{"x": [0.1, 12345678901234567890.123]}'), ("NaN", "a\u2028b")]


def test_what_a_parquet_file_cannot_keep_is_rejected_by_row(folder):
    parquet.write_table(
        pa.table({"k": pa.array([1], pa.int64()), "u": pa.array([1], pa.uint64()), "f": pa.array([1.0], pa.float32())}),
        folder / "t.parquet",
    )
    parquet.write_table(
        pa.table({"k": [1, 2, 3, 4, 5], "u": [-1, 5, 6, 7, 8], "f": [1.0, np.nan, 1e300, np.inf, 2.0]}),
        folder / "in.parquet",
    )
    receipt = tidymerge.load(
        folder / "in.parquet", folder / "t.parquet", key="k", accept_warnings=True, limits=NO_LIMITS
    )
    assert [(cell.row, cell.reason) for cell in receipt.rejects.first] == [
        (1, "out of range"),
        (2, "not a number"),
        (3, "out of range"),
        (4, "out of range"),
    ]
    assert parquet.read_table(folder / "t.parquet")["k"].to_pylist() == [1, 5]


def test_nanoseconds_are_not_cut_off_unseen(folder):
    moments = pa.array([1_777_887_000_000_000_000, 1_777_887_000_000_000_001], pa.timestamp("ns"))
    clocks = pa.array([34_200_000_000_001, 34_200_000_000_000], pa.time64("ns"))
    parquet.write_table(pa.table({"k": [1, 2], "at": moments}), folder / "in.parquet")
    parquet.write_table(pa.table({"k": [1, 2], "clock": clocks}), folder / "clocks.parquet")
    target = database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, at TIMESTAMP, clock TIME)", "t", ())
    for name, row in (("in", 2), ("clocks", 1)):
        receipt = tidymerge.preview(folder / f"{name}.parquet", target)
        assert [cell.row for cell in receipt.rejects.first] == [row]
        assert receipt.rows.inserted == 1


def test_long_numbers_of_a_sheet_are_rejected_and_seen(folder):
    target = database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n BIGINT, a TEXT)", "t", ())
    receipt = tidymerge.load(
        sheet(folder / "in.xlsx", [["k", "n", "a"], [1, 123456789012345678, "x"], [2, 5, 123456789012345678]]), target
    )
    assert [(cell.row, cell.value, cell.reason) for cell in receipt.rejects.first] == [
        (2, "1.23456789012346e+17", "digits lost"), (3, "1.23456789012346e+17", "digits lost"),
    ]  # fmt: skip
    assert "1.23456789012346e+17" in Path(receipt.rejects.file).read_text("utf-8")
    again = tidymerge.load(receipt.rejects.file, target)  # as it is, it still says nothing that would be believed
    assert (again.rows.rejected, again.rows.inserted) == (1, 1)  # in a column of texts it is one


def test_error_cells_are_rejects_where_their_column_counts_and_formulas_without_results_a_warning(folder):
    book = Workbook()
    for row in (
        ["k", "n", "other", "total"],
        [1, 5, 7, "=B2*2"],
        [2, "#DIV/0!", 8, "=B3*2"],
        [3, 6, "#N/A", "=B4*2"],
        ["#REF!", 7, 1, "=B5*2"],
    ):
        book.active.append(row)
    for place in ("B3", "C4", "A5"):
        book.active[place].data_type = "e"
    book.save(folder / "in.xlsx")
    target = database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, total INTEGER)", "t", ())
    preview = tidymerge.preview(folder / "in.xlsx", target)
    assert [(cell.row, cell.column, cell.value, cell.reason) for cell in preview.rejects.first] == [
        (3, "n", "#DIV/0!", "a formula error"), (5, "k", "#REF!", "a formula error"),
    ]  # fmt: skip
    assert preview.rows.inserted == 2  # nobody asked for the column with #N/A
    assert any("4 formulas in total have no stored result" in warning for warning in preview.warnings)


def test_rows_of_several_files_say_which_and_come_in_the_order_of_people(folder):
    for week in (10, 2, 1):
        text_file(folder / f"week{week}.csv", [["k", "n"], [week, week]])
    (folder / "job.toml").write_text(
        '[incoming]\nat = "week*.csv"\n[target]\nat = "a.db#t"\n[columns]\nk = "k"\nn = "n"\nsource = { stamp = "file" }\n'
    )
    target = database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, source TEXT)", "t", ())
    assert addresses(["week*.csv"]) == ["week1.csv", "week2.csv", "week10.csv"]
    tidymerge.load(job=folder / "job.toml")
    assert [row[2].decode() for row in stored(target)] == ["week1.csv", "week2.csv", "week10.csv"]


def test_the_story_of_a_record_names_its_own_file(folder, run):
    for week in (1, 2):
        text_file(folder / f"week{week}.csv", [["k", "n"], [week, week]])
    database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER)", "t", ())
    (folder / "job.toml").write_text('[incoming]\nat = "week*.csv"\n[target]\nat = "a.db#t"\n')
    assert run("load", "--job", "job.toml").status == 0
    told = json.loads(run("runs", "--record", "2", "--json").out)["changes"]
    assert [Path(name).name for name in told[-1]["incoming"]] == ["week2.csv"]


def test_a_file_that_changes_while_it_is_read_is_not_loaded(folder, monkeypatch):
    from tidymerge.run import stage_load as flow

    target = database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER)", "t", ())
    incoming = Path(text_file(folder / "in.csv", [["k"], [1]]))
    sum_up = flow.sum_up

    def meanwhile(*arguments):
        found = sum_up(*arguments)
        incoming.write_text("k\n1\n2\n")
        return found

    monkeypatch.setattr(flow, "sum_up", meanwhile)
    with pytest.raises(errors.SourceChanged):
        tidymerge.load(incoming, target)
    assert stored(target) == []


def test_headers_that_differ_by_case_find_the_columns_that_do(folder):
    target = folder / "t.csv"
    target.write_text("k,a,A\n1,x,y\n")
    receipt = tidymerge.load(
        text_file(folder / "in.csv", [["k", "A", "a"], [1, "2", "3"]]), target, key="k", accept_warnings=True
    )
    assert receipt.tables[0].mapping == {"k": "k", "a": "a", "A": "A"}
    with pytest.raises(errors.AmbiguousColumn):
        tidymerge.load(
            text_file(folder / "in.csv", [["k", "a", "A"], [1, "2", "3"]]),
            text_file(folder / "u.csv", [["k", "a"], [1, "x"]]),
            key="k",
        )


@pytest.mark.parametrize(
    ("text", "natures", "cells", "wanted"),
    [
        ("a > b", (Type.NUMBER, Type.NUMBER), [("5", "10"), ("10", "9")], [False, True]),
        ("a = b", (Type.NUMBER, Type.NULL), [("5.0", None), ("5", "5.00")], [None, True]),
        ("a < b", (Type.DATE, Type.DATE), [("2026-05-04", "2026-05-10")], [True]),
        ("nullif(a, b) is null", (Type.NUMBER, Type.NUMBER), [("5.0", "5"), ("5", "6")], [True, False]),
        ("a in ('5', 'x')", (None, None), [("5.0", ""), ("x", "")], [False, True]),
        ("cast(a as varchar) < cast(b as varchar)", (None, None), [("10", "9")], [True]),
        ("coalesce(a, b) > 5", (None, Type.NUMBER), [(None, "10"), ("9", "1")], [True, True]),
        ("a > b", (None, Type.NUMBER), None, "cast"), ("a = b", (None, None), None, "cast"), ("a between b and b", (Type.DATE, Type.NUMBER), None, "cast"),
    ],
)  # fmt: skip
def test_two_cells_meet_as_what_all_of_their_columns_are(text, natures, cells, wanted):
    scopes = {"incoming": dict(zip("ab", map(Cells, natures), strict=True))}
    if cells is None:
        with pytest.raises(BadExpression, match=wanted):
            compile_expression(text, "incoming.skip_when", scopes)
        return
    columns = {
        ("incoming", name): pa.array(side, pa.string())
        for name, side in zip("ab", zip(*cells, strict=True), strict=True)
    }
    assert (
        compile_expression(text, "incoming.skip_when", scopes).evaluate(Frame(columns, len(cells), None)).to_pylist()
        == wanted
    )


def test_products_of_cells_do_not_overflow_and_columns_of_numbers_compare_so(folder):
    (folder / "job.toml").write_text(
        '[incoming]\nat = "in.csv"\nskip_when = "low > high"\n[target]\nat = "a.db#t"\n[columns]\nk = "k"\n'
        'n = { compute = "price * qty * rate" }\n'
    )
    text_file(
        folder / "in.csv",
        [["k", "price", "qty", "rate", "low", "high"], [1, "2.50", 3, 1.2, 5, 10], [2, "2.50", 3, 1.2, 10, 9]],
    )
    target = database(folder / "a.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n DECIMAL(8,2))", "t", ())
    assert tidymerge.load(job=folder / "job.toml").rows.skipped == 1
    with closing(sqlite3.connect(folder / "a.db")) as connection, connection:
        assert connection.execute("SELECT * FROM t").fetchall() == [(1, 9)]
    text_file(folder / "in.csv", [["k", "price", "qty", "rate", "low", "high"], [1, "2.50", 3, 1.2, "five", 10]])
    with pytest.raises(BadExpression, match="cells of low and high"):
        tidymerge.load(job=folder / "job.toml")
    assert target


def test_records_may_change_in_more_columns_than_a_number_has_bits(folder):
    """Each record in columns of its own: sets of columns were taken for the same that were not."""
    names = [f"c{at}" for at in range(140)]
    before = [(key, *[0] * 140) for key in range(300)]
    target = database(folder / "t.db", f"CREATE TABLE t (k INTEGER PRIMARY KEY, {', '.join(names)})", "t", before)
    chance = random.Random(3)
    after = [(key, *(1 if chance.random() < 0.5 else 0 for _ in names)) for key in range(300)]
    incoming = text_file(folder / "in.csv", [["k", *names], *after])
    receipt = tidymerge.load(incoming, target, accept_warnings=True, limits=NO_LIMITS)
    assert (receipt.rows.updated, stored(target)) == (300, after)
    tidymerge.undo(receipt.run)
    assert stored(target) == before
