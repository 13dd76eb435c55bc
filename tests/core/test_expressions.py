"""Expressions: SQL's meaning, held against SQLite's own where the two agree, and errors that point at the place."""

import sqlite3
from datetime import UTC, date, datetime
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.expressions import Frame, Type, compile_expression
from tidymerge.errors import BadExpression

SCOPES = {
    "incoming": {"Apiary": Type.CELL, "Honey (kg)": Type.CELL, "n": Type.NUMBER, "kg": Type.NUMBER, "seen": Type.DATE, "note": Type.TEXT, "ok": Type.BOOLEAN, "x": Type.NUMBER},
    "existing": {"kg": Type.NUMBER, "seen": Type.DATE},
}  # fmt: skip
COLUMNS = {
    ("incoming", "Apiary"): pa.array(["L01 ", "Total x", None]),
    ("incoming", "Honey (kg)"): pa.array(["12.5", "about", None]),
    ("incoming", "n"): pa.array([3, None, -4]),
    ("incoming", "kg"): pa.array([Decimal("12.50"), Decimal("0.05"), None], pa.decimal128(38, 2)),
    ("incoming", "seen"): pa.array([date(2026, 5, 4), None, date(2024, 2, 29)]),
    ("incoming", "note"): pa.array(["50% off", "a_b", None]),
    ("incoming", "ok"): pa.array([True, None, False]),
    ("incoming", "x"): pa.array([0.5, 2.0, None]),
    ("existing", "kg"): pa.array([Decimal("12.5"), Decimal(1), Decimal(2)], pa.decimal128(38, 6)),
    ("existing", "seen"): pa.array([date(2026, 5, 1), date(2026, 5, 1), None]),
}
NOW = datetime(2026, 5, 4, 9, 30, tzinfo=UTC)


def work_out(text, **options):
    frame = Frame(COLUMNS, 3, NOW)
    return compile_expression(text, "test", SCOPES, **options).evaluate(frame).to_pylist(), frame


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("apiary is null or apiary like 'Total%'", [False, True, True]),
        ("n > 1", [True, None, False]), ("not n > 1", [False, None, True]), ("n > 1 or ok is not true", [True, True, True]),
        ("n > 1 and null", [None, None, False]), ("n in (3, 5)", [True, None, False]), ("n in (9, null)", [None, None, None]),
        ("n not between -5 and 0", [True, None, False]), ("incoming.kg = existing.kg", [True, False, None]),
        ("incoming.seen >= existing.seen", [True, None, None]), ("seen > '2026-01-01'", [True, None, False]),
        ("kg * 3", [Decimal("37.50"), Decimal("0.15"), None]), ("kg + 0.005", [Decimal("12.505"), Decimal("0.055"), None]),
        ("1 - kg", [Decimal("-11.50"), Decimal("0.95"), None]), ("kg / 3", [Decimal("4.1666666667"), Decimal("0.0166666667"), None]),
        ("round(kg, 1)", [Decimal("12.5"), Decimal("0.1"), None]), ("round(-kg, 1)", [Decimal("-12.5"), Decimal("-0.1"), None]),
        ("abs(n)", [3, None, 4]), ("x * 2", [1.0, 4.0, None]), ("kg * 99999999999999999999", [Decimal("1249999999999999999987.50"), Decimal("4999999999999999999.95"), None]),
        ('"Honey (kg)" + 1', [Decimal("13.5"), None, None]), ("honey_kg > 10", [True, None, None]),
        ("coalesce(n, 7)", [Decimal(3), Decimal(7), Decimal(-4)]), ("nullif(n, 3)", [None, None, -4]),
        ("coalesce(note, 'none') || '!'", ["50% off!", "a_b!", "none!"]), ("upper(note)", ["50% OFF", "A_B", None]),
        ("trim(both 'L' from apiary)", ["01", "Total x", None]), ("substring(note from 2 for 2)", ["0%", "_b", None]),
        ("note like '50!% %' escape '!'", [True, False, None]), ("note like 'a_b'", [False, True, None]), ("note not like '%b'", [True, False, None]),
        ("case when n > 0 then 'up' when n < 0 then 'down' else 'none' end", ["up", "none", "down"]),
        ("case n when 3 then 1 else 0.5 end", [Decimal("1.0"), Decimal("0.5"), Decimal("0.5")]),
        ("cast(apiary as varchar(20))", ["L01", "Total x", None]), ("cast(kg as integer)", [13, 0, None]), ("cast('7' as decimal(8,2))", [Decimal("7.00")] * 3),
        ("extract(year from seen)", [2026, None, 2024]), ("extract(day from seen) = 4", [True, None, False]),
        ("current_date = date '2026-05-04'", [True] * 3), ("current_timestamp > '2026-05-04 09:00'", [True] * 3),
        ("(n = 3) is true", [True, False, False]), ("'it''s'", ["it's"] * 3), ("-n", [-3, None, 4]), ("(n + 1) * 2", [8, None, -6]),
    ],
)  # fmt: skip
def test_meaning(text, wanted):
    assert work_out(text)[0] == wanted


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("incoming.honney_kg > 1", "did you mean 'Honey (kg)'"), ("target.kg > 1", "incoming or existing"),
        ("uper(note) = 'X'", "did you mean upper"), ("eval('1') = 1", "'eval' is not known"), ("note + 1 > 2", "note is text, but a number is needed"),
        ("note > 1", "these can't be put together"), ("note = 'a' and kg", "kg is a number, but a condition is needed"), ("n >", "something is missing near '>' (position 3)"),
        ("n = 1\nand kg kg kg", "'kg' does not fit there (line 2, position 11)"), ("note = 'x", "a quote is not closed"), ("case when n", "missing"), ("case when n then 1", "expected END"),
        ("1 = 1; drop table hives", "not one expression"), ("(select 1) = 1", "is not known here"), ("n in (select 1)", "list of values"),
        ("note like note", "single quotes"), ("cast(n as blob) = 1", "no type to cast to"), ("seen > 'yesterday'", None), ("ok = 'yes'", "put together"),
        ("__import__('os').system('x')", "is not known"), ("n.real > 1", "incoming or existing"), ("extract(dow from seen) = 1", "can't be extracted"), ("n between symmetric 1 and 2", "says more"), ("round(n, 1, 2) = 1", "says more"),
    ],
)  # fmt: skip
def test_errors_say_where_and_what(text, words):
    if words is None:  # a text that is no date has no value, and fails its rows
        assert work_out(text, condition=True)[1].failed().all()
        return
    with pytest.raises(BadExpression) as error:
        work_out(text, condition=True)
    assert str(error.value).startswith("test")
    assert words in str(error.value)


def test_rows_that_fail_are_noted():
    values, frame = work_out('"Honey (kg)" * 2 / (n - 3)')
    assert values == [None, None, None]
    assert frame.failed().tolist() == [True, True, False]
    assert {failure.words for failure in frame.failures} == {"can't be read as a number", "is divided by zero"}


NUMBERS = st.one_of(st.none(), st.integers(-50, 50))
CONDITIONS = st.recursive(
    st.one_of(
        st.builds("{} {} {}".format, st.sampled_from("abc"), st.sampled_from(["=", "<>", "<", ">="]), st.sampled_from(["a", "b", "c", "0", "7", "null"])),
        st.builds("{} {} between {} and {}".format, st.sampled_from("abc"), st.sampled_from(["", "not"]), st.sampled_from(["a", "-9"]), st.sampled_from(["b", "9"])),
        st.builds("{} {} in ({}, {})".format, st.sampled_from("abc"), st.sampled_from(["", "not"]), st.sampled_from("abc"), st.sampled_from(["1", "null"])),
        st.builds("{} is {} null".format, st.sampled_from("abc"), st.sampled_from(["", "not"])),
        st.builds("coalesce({} + {}, {}) * 2 > abs({} - 3)".format, *[st.sampled_from("abc")] * 4),
        st.builds("case when {} > 0 then {} else nullif({}, 7) end < 5".format, *[st.sampled_from("abc")] * 3),
    ),
    lambda inner: st.one_of(st.builds("({} and {})".format, inner, inner), st.builds("({} or {})".format, inner, inner), st.builds("(not {})".format, inner)),
    max_leaves=5,
)  # fmt: skip


@PROPERTY
@given(CONDITIONS, st.lists(st.tuples(NUMBERS, NUMBERS, NUMBERS), min_size=1, max_size=8))
def test_logic_is_that_of_a_database(text, rows):
    scope = {"incoming": dict.fromkeys("abc", Type.NUMBER)}
    columns = {
        ("incoming", name): pa.array(values, pa.int64())
        for name, values in zip("abc", zip(*rows, strict=True), strict=True)
    }
    found = compile_expression(text, "test", scope, condition=True).evaluate(Frame(columns, len(rows), NOW)).to_pylist()
    connection = sqlite3.connect(":memory:")
    wanted = [
        connection.execute(f"SELECT {text} FROM (SELECT ? AS a, ? AS b, ? AS c)", row).fetchone()[0] for row in rows
    ]
    connection.close()
    assert found == [None if value is None else bool(value) for value in wanted]
