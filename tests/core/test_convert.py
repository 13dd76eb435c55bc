"""What each kind of column makes of each kind of cell."""

from datetime import UTC, date, datetime, time
from decimal import Decimal

import pyarrow as pa
import pytest

from tidymerge.core.tidy.convert import cast_cells, tidy_arrays
from tidymerge.formats.table import arrays_of
from tidymerge.model import ColumnType, Kind

KG = ColumnType(Kind.DECIMAL, "DECIMAL(8,2)", precision=8, scale=2, digits=15)
SMALL = ColumnType(Kind.INTEGER, "SMALLINT", minimum=-32768, maximum=32767)
INTEGER, FLOAT, TEXT = (ColumnType(kind, kind.name) for kind in (Kind.INTEGER, Kind.FLOAT, Kind.TEXT))
CODE = ColumnType(Kind.TEXT, "VARCHAR(4)", length=4)
STRING = ColumnType(Kind.TEXT, "STRING", numeric_text=True)
DATE, TIME, STAMP = (ColumnType(kind, kind.name) for kind in (Kind.DATE, Kind.TIME, Kind.TIMESTAMP))
ZONED = ColumnType(Kind.TIMESTAMP, "TIMESTAMPTZ", zone=True)
TRUTH, UUID, JSON, BINARY = (ColumnType(kind, kind.name) for kind in (Kind.BOOLEAN, Kind.UUID, Kind.JSON, Kind.BINARY))
ID = "550e8400-e29b-41d4-a716-446655440000"


@pytest.mark.parametrize(
    ("to", "cell", "wanted"),
    [
        (INTEGER, "007", 7), (INTEGER, "-3", -3), (INTEGER, "+3", 3), (INTEGER, "12.0", 12), (INTEGER, 12.0, 12),
        (INTEGER, "12.5", "not a whole number"), (INTEGER, 12.5, "not a whole number"), (INTEGER, "0x1A", "not a number"),
        (INTEGER, "1e3", "digits lost"), (INTEGER, "1,000", "not a number"), (INTEGER, "٣", "not a number"),
        (INTEGER, str(2**63 - 1), 2**63 - 1), (INTEGER, str(2**63), "out of range"), (INTEGER, 1e15, "digits lost"),
        (INTEGER, True, "not a number"), (INTEGER, date(2026, 5, 4), "not a number"), (INTEGER, Decimal("4.0"), 4),
        (SMALL, "32768", "out of range"), (SMALL, 40000, "out of range"), (SMALL, "-32768", -32768),
        (KG, "12.5", Decimal("12.50")), (KG, "12.500", Decimal("12.50")), (KG, ".5", Decimal("0.50")), (KG, "5.", Decimal("5.00")),
        (KG, "12.505", "too many decimals"), (KG, "12,5", "not a number"), (KG, "1e2", "digits lost"), (KG, "nan", "not a number"),
        (KG, 201.98999999999998, Decimal("201.99")), (KG, 12.505, "too many decimals"), (KG, float("inf"), "not a number"),
        (KG, "999999.99", Decimal("999999.99")), (KG, "1000000", "out of range"), (KG, 1e6, "out of range"), (KG, 7, Decimal(7)),
        (KG, Decimal("1.500"), Decimal("1.50")), (KG, Decimal("1.505"), "too many decimals"),
        (FLOAT, "1e-3", 0.001), (FLOAT, "12", 12.0), (FLOAT, "inf", "not a number"), (FLOAT, 3, 3.0), (FLOAT, ".5", 0.5), (FLOAT, "1e400", "out of range"), (FLOAT, float("nan"), "not a number"),
        (TEXT, 1001.0, "1001"), (TEXT, 0.1 + 0.2, "0.3"), (TEXT, 12.5, "12.5"), (TEXT, 1e15, "digits lost"), (TEXT, True, "true"),
        (TEXT, date(2026, 5, 4), "2026-05-04"), (TEXT, datetime(2026, 5, 4, 9, 30), "2026-05-04 09:30:00"), (TEXT, 7, "7"),
        (TEXT, "  a b\N{NO-BREAK SPACE}", "a b"), (TEXT, "e\N{COMBINING ACUTE ACCENT}", "é"), (TEXT, " \t", None), (TEXT, "", None),
        (CODE, "abcd", "abcd"), (CODE, "abcde", "too long"), (CODE, "éèüß", "éèüß"),
        (STRING, "0012", "text that would be stored as a number"), (STRING, "12.50", "text that would be stored as a number"),
        (STRING, "12", "12"), (STRING, "A12", "A12"),
        (DATE, "2026-05-04", date(2026, 5, 4)), (DATE, "2026-05-04 00:00:00", date(2026, 5, 4)), (DATE, "04/05/2026", "not a date"),
        (DATE, "2026-02-30", "not a date"), (DATE, "2026-05-04 09:30", "not a date"), (DATE, datetime(2026, 5, 4), date(2026, 5, 4)),
        (DATE, datetime(2026, 5, 4, 9), "not a date"), (DATE, 46146.0, "not a date"), (DATE, date(1899, 1, 1), date(1899, 1, 1)),
        (TIME, "09:30", time(9, 30)), (TIME, "25:00", "not a time"), (TIME, time(9, 30), time(9, 30)), (TIME, 0.5, "not a time"),
        (STAMP, "2026-05-04T09:30", datetime(2026, 5, 4, 9, 30)), (STAMP, "2026-05-04", datetime(2026, 5, 4)),
        (STAMP, "2026-05-04 09:30:15.25", datetime(2026, 5, 4, 9, 30, 15, 250000)), (STAMP, "2026-05-04 09:30Z", "not a timestamp"),
        (STAMP, "2026-05-04 24:30", "not a timestamp"), (STAMP, date(2026, 5, 4), datetime(2026, 5, 4)), (STAMP, 1.5, "not a timestamp"),
        (ZONED, "2026-05-04 09:30+02:00", datetime(2026, 5, 4, 7, 30, tzinfo=UTC)), (ZONED, "2026-05-04 09:30", "not a timestamp"),
        (TRUTH, "Yes", True), (TRUTH, "0", False), (TRUTH, 1.0, True), (TRUTH, "maybe", "not true or false"), (TRUTH, False, False),
        (UUID, ID.upper(), ID), (UUID, ID.replace("-", ""), ID), (UUID, "123", "not a UUID"),
        (JSON, '{"b": 1, "a": [1, 2]}', '{"a":[1,2],"b":1}'), (JSON, "{", "not JSON"),
        (BINARY, "0x0aFF", b"\n\xff"), (BINARY, "xyz", "not binary"),
    ],
)  # fmt: skip
def test_a_cell_becomes_the_value_or_says_why_not(to, cell, wanted):
    others = ["", None]  # a cell reads the same beside blanks, and odd ones beside regular ones
    parts = (pa.array([None, None, cell]),) if isinstance(cell, Decimal) else arrays_of([*others, cell])
    cast = cast_cells(tidy_arrays(parts), to, 3)
    assert cast.values.type == to.arrow
    assert cast.values[:2].null_count == 2
    if cast.bad:
        assert [(bad.rows.tolist(), str(bad.reason)) for bad in cast.bad] == [([2], wanted)]
        assert cast.values[2].as_py() is None
        assert cast.bad[0].expected
    else:
        assert cast.values[2].as_py() == wanted


def test_many_digits_are_neither_rounded_nor_too_many_for_us():
    open_ended, eight = ColumnType(Kind.DECIMAL, "numeric"), ColumnType(Kind.DECIMAL, "numeric(38,8)", scale=8)
    floats = cast_cells([pa.array([99999999999999.5, 0.1 + 0.2, 123456789012345.0, 1e16, 1 / 3])], open_ended, 5)
    assert floats.values.to_pylist() == ["99999999999999.5", "0.3", "123456789012345", None, "0.333333333333333"]
    assert [(str(bad.reason), bad.rows.tolist()) for bad in floats.bad] == [("digits lost", [3])]
    texts = ["99999999999999999999.1234567891", "99999999999999999999.12345678", "+1"]  # the first has thirty digits
    cast = cast_cells([pa.array(texts)], eight, 3)
    assert cast.values.to_pylist() == [None, Decimal("99999999999999999999.12345678"), Decimal(1)]
    assert [(str(bad.reason), bad.rows.tolist()) for bad in cast.bad] == [("too many decimals", [0])]


def test_odd_texts_among_regular_ones_are_told_apart():
    cast = cast_cells([pa.array(["1.5", None, "x", "2.25", "2.255", "+3", "x"])], KG, 7)
    assert cast.values.to_pylist() == [Decimal("1.50"), None, None, Decimal("2.25"), None, Decimal("3.00"), None]
    assert {(str(bad.reason), tuple(bad.rows.tolist())) for bad in cast.bad} == {
        ("not a number", (2, 6)),
        ("too many decimals", (4,)),
    }


def test_noise_is_counted_as_rounded():
    cast = cast_cells([pa.array([0.1 + 0.2, 0.3, 201.98999999999998, None])], KG, 4)
    assert cast.values.to_pylist() == [Decimal("0.30"), Decimal("0.30"), Decimal("201.99"), None]
    assert cast.rounded == 2


def test_a_column_that_mixes_types_keeps_every_cell():
    cells = [1.0, "2", "", True, date(2026, 5, 4), "#N/A"]
    cast = cast_cells(tidy_arrays(arrays_of(cells)), KG, 6)
    assert cast.values.to_pylist() == [Decimal("1.00"), Decimal("2.00"), None, None, None, None]
    assert {str(bad.reason) for bad in cast.bad} == {"not a number", "a formula error"}


def test_a_date_among_codes_is_not_taken_for_a_code():
    cast = cast_cells(tidy_arrays(arrays_of(["3-5", date(2026, 4, 3), "B2"])), TEXT, 3)
    assert cast.values.to_pylist() == ["3-5", None, "B2"]
    assert [str(bad.reason) for bad in cast.bad] == ["a date among text"]


def test_minus_nothing_is_the_key_nothing():
    for cells in (pa.array(["-0", "0"]), pa.array([-0.0, 0.0])):
        assert str(cast_cells([cells], FLOAT, 2).values.to_pylist()) == "[0.0, 0.0]"
