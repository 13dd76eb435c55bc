"""The types of columns that the naive model knows: what a cell of each becomes, by the guide, and values to try."""

import json
import re
import unicodedata
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

BAD = "\0bad"
_SPACES = "".join(
    map(
        chr,
        (
            9,
            10,
            11,
            12,
            13,
            28,
            29,
            30,
            31,
            32,
            0x85,
            0xA0,
            0x1680,
            *range(0x2000, 0x200B),
            0x2028,
            0x2029,
            0x202F,
            0x205F,
            0x3000,
        ),
    )
)


def tidy(cell: str | None) -> str | None:
    """A cell's text without spaces around it, composed; None if nothing is left."""
    return unicodedata.normalize("NFC", (cell or "").strip(_SPACES)) or None


def plain(text: str) -> Decimal | str:
    return Decimal(text) if re.fullmatch(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)", text) else BAD


def whole(low: int, high: int) -> Callable[[str], Any]:
    def read(text: str) -> Any:
        value = plain(text)
        return BAD if value == BAD or value % 1 or not low <= value <= high else int(value)

    return read


def decimal(precision: int | None, scale: int | None) -> Callable[[str], Any]:
    def read(text: str) -> Any:
        value = plain(text)
        if value == BAD or precision is None:
            return value
        _sign, digits, exponent = value.as_tuple()
        figures = "".join(map(str, digits)).rjust(1 - exponent, "0")
        before, after = (figures[:exponent], figures[exponent:]) if exponent else (figures, "")
        fits = len(before.lstrip("0")) <= precision - scale and len(after.rstrip("0")) <= scale
        return value if fits else BAD

    return read


def real(text: str) -> Any:
    if not re.fullmatch(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?", text):
        return BAD
    value = float(text)
    return BAD if value in (float("inf"), -float("inf")) else value + 0.0


def text(longest: int | None = None) -> Callable[[str], Any]:
    return lambda cell: BAD if longest is not None and len(cell) > longest else cell


def truth(cell: str) -> Any:
    word = cell.lower()
    return True if word in ("true", "t", "yes", "y", "1") else False if word in ("false", "f", "no", "n", "0") else BAD


def day(cell: str) -> Any:
    found = re.fullmatch(r"([0-9]{4}-[0-9]{2}-[0-9]{2})([T ]00:00(:00(\.0+)?)?)?", cell)
    return _made(date.fromisoformat, found[1]) if found else BAD


def moment(cell: str) -> Any:
    form = r"[0-9]{4}-[0-9]{2}-[0-9]{2}([T ][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?)?"
    return _made(datetime.fromisoformat, cell) if re.fullmatch(form, cell) else BAD


def clock(cell: str) -> Any:
    return (
        _made(time.fromisoformat, cell) if re.fullmatch(r"[0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?", cell) else BAD
    )


def identity(cell: str) -> Any:
    form = r"\{?[0-9a-fA-F]{8}(-?[0-9a-fA-F]{4}){3}-?[0-9a-fA-F]{12}\}?"
    return str(uuid.UUID(cell)) if re.fullmatch(form, cell) else BAD


def document(cell: str) -> Any:
    """A JSON document as Python objects, numbers as decimals."""
    try:
        found = json.loads(cell, parse_float=Decimal, parse_int=Decimal, parse_constant=_no, object_pairs_hook=_once)
        json.dumps(found, default=str, ensure_ascii=False).encode()
    except ValueError:
        return BAD
    return ("json", found)


def _no(_: str) -> None:
    raise ValueError


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    if len({name for name, _ in pairs}) < len(pairs):
        raise ValueError
    return dict(pairs)


def octets(cell: str) -> Any:
    found = re.fullmatch(r"(?:0x|\\x)?((?:[0-9a-fA-F]{2})+)", cell)
    return bytes.fromhex(found[1]) if found else BAD


def _made(make: Callable[[str], Any], text: str) -> Any:
    try:
        return make(text)
    except ValueError:
        return BAD


@dataclass(frozen=True)
class Type:
    """A type: how a cell is read; cells to try; values to store; its name in each kind of target that has it."""

    name: str
    read: Callable[[str], Any]
    cells: tuple[str, ...]
    stored: tuple[Any, ...]
    names: dict[str, Any]
    key: bool = False
    fold: bool = False


def _names(
    sqlite: Any, postgresql: Any, mariadb: Any, declared: Any, parquet: Any, sheet: bool = True
) -> dict[str, Any]:
    found = {"sqlite": sqlite, "postgresql": postgresql, "mariadb": mariadb, "csv": declared, "parquet": parquet}
    found["xlsx"] = declared if sheet else None
    return {place: name for place, name in found.items() if name is not None}


LONG = "12345678901234567890123456789012345678901234567890.1234567891"
E_ACUTE = "e\N{COMBINING ACUTE ACCENT}"
TEXTS = (
    "calm", "Calm", " calm", "calm ", "é", E_ACUTE, "=1+1", "-5", "'quoted", 'a "b" c', "a,b;c", "two\nlines", "NULL", "0", "007", "1.50", "true", "2026-05-01",
    "\N{NO-BREAK SPACE}x", "x\u2028", "ß", "ẞ", "İ", "ﬁ", "日本語", "\N{HONEYBEE}", "a\tb", "\\N", "\\", "%s", "N/A", "a  b",
)  # fmt: skip
TYPES = (
    Type("int", whole(-(2**63), 2**63 - 1),
         ("1", "2", "007", "+5", "12.0", "-3", "9223372036854775807", "-9223372036854775808", "9223372036854775808", "1e3", "x", "5.5", "-0", " 4 ", "٣"),
         (0, 1, 2, 5, -3, 12, 2**62), _names("INTEGER", "bigint", "bigint", None, "int64"), key=True),
    Type("count", whole(-(10**15) + 1, 10**15 - 1), ("1", "2", "3", "4", "5", "30", "x", "1.5", "999999999999999"), (1, 2, 3, 4, 5, 30),
         _names("INTEGER", "bigint", "bigint", "integer", None), key=True),
    Type("small", whole(-32768, 32767), ("32767", "32768", "-32768", "7", "8", "7.0", "x"), (0, 7, 8, 32767, -32768), _names("SMALLINT", "smallint", "smallint", None, "int16")),
    Type("money", decimal(8, 2), ("12.5", "12.50", "0", "-0.00", "999999.99", "1000000", "1.005", ".5", "5.", "1e2", "1,5", "007.10"),
         tuple(map(Decimal, ("12.50", "0", "-7.25", "999999.99", "3"))), _names("DECIMAL(8,2)", "numeric(8,2)", "decimal(8,2)", "decimal(8, 2)", ("decimal", 8, 2))),
    Type("exact", decimal(38, 10), ("8619800305964002096373513308.1715173001", "9999999999999999999999999999.9999999999", LONG, "1.5", "0.00000000001", "340282366920938463463374607431768211461", "+1"),
         tuple(map(Decimal, ("1.5", "1234567890123456789012345678.0123456789", "-1"))), _names(None, "numeric(38,10)", "decimal(38,10)", None, ("decimal", 38, 10))),
    Type("wide", decimal(60, 20), (LONG, "1.5", "-" + "9" * 40, "1" * 41, "0.000000000000000000001", "1.50"), tuple(map(Decimal, ("1.5", "-" + "9" * 40 + ".5"))),
         _names(None, "numeric(60,20)", "decimal(60,20)", None, None)),
    Type("open", decimal(None, None), (LONG, "1.50", "8", "8.000", "0.00000000000000000000000000001", "-0", "1e5", "x"), tuple(map(Decimal, ("8", "1.5", LONG))),
         _names(None, "numeric", None, "decimal", None, sheet=False), key=True),
    Type("real", real, ("0.1", "1e-3", "1e300", "1e400", "-0", "12", "x", "0.30000000000000004", "5e-324"), (0.0, 0.1, 1e300, -2.5), _names("REAL", "double precision", "double", None, "float64")),
    Type("text", text(), TEXTS, (*TEXTS[:14], ""), _names("TEXT", "text", "text COLLATE utf8mb4_nopad_bin", "text", "string"), key=False),
    Type("code", text(6), ("L01", "L1", "l01", "M2", "toolong", "abcdef", "éèüßaé", " L01 ", "L01\N{NO-BREAK SPACE}", E_ACUTE * 6), ("L01", "M2", "x", "é", "abcdef"),
         _names("VARCHAR(6)", "varchar(6)", "varchar(6) COLLATE utf8mb4_nopad_bin", "text(6)", None), key=True),
    Type("nocase", text(6), ("L01", "l01", "L1", "m2", "M2", "é1", "x"), ("L01", "m2", "é1", "q"),
         _names("VARCHAR(6) COLLATE NOCASE", "public.citext", "varchar(6) COLLATE utf8mb4_general_nopad_ci", None, None), key=True, fold=True),
    Type("truth", truth, ("true", "NO", "1", "0", "maybe", "Y", "f"), (True, False), _names("BOOLEAN", "boolean", "boolean", "boolean", "bool")),
    Type("day", day, ("2026-05-01", "2026-05-02", "2026-02-30", "01/05/2026", "2026-05-03 00:00:00", "2026-05-03 09:00", "9999-12-31", "1900-03-01"),
         (date(2026, 5, 1), date(2026, 5, 2), date(1999, 12, 31)), _names("DATE", "date", "date", "date", "date32"), key=True),
    Type("moment", moment, ("2026-05-01", "2026-05-01 09:30", "2026-05-01T09:30:15.25", "2026-05-01 24:30", "2026-05-01 09:30Z", "x"),
         (datetime(2026, 5, 1), datetime(2026, 5, 1, 9, 30, 15, 250000)), _names("TIMESTAMP", "timestamp", "datetime(6)", "timestamp", "timestamp")),
    Type("clock", clock, ("09:30", "09:30:15.5", "23:59:59", "23:61", "9:30"), (time(9, 30), time(23, 59, 59)), _names("TIME", "time", "time(6)", None, "time64")),
    Type("uuid", identity, ("550E8400-e29b-41d4-a716-446655440000", "550e8400e29b41d4a716446655440001", "123"),
         ("550e8400-e29b-41d4-a716-446655440000", "00000000-0000-0000-0000-000000000000"), _names("UUID", "uuid", "uuid", None, None), key=True),
    Type("json", document, ('{"b": 1, "a": [1, 2]}', '{"a":[1,2.0],"b":1}', "12345678901234567890.123", "1e20", '{"a":1,"a":2}', '"\\ud800"', "NaN", "{", "null", '"é"', "[0.1, -0.0]"),
         (("json", {"a": [1, 2], "b": 1}), ("json", Decimal("0.1"))), _names("JSON", "jsonb", "json", None, None)),
    Type("bytes", octets, ("00ff", "0x0a0B", "xyz", "a", "0" * 34), (b"\x00\xff", b"\n"), _names("BLOB", "bytea", "varbinary(40)", None, "binary")),
)  # fmt: skip
