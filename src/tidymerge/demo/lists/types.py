"""What the columns of a SQLite table are as properties of an entity, and their values in JSON, both ways."""

import base64
import re
from decimal import Decimal, InvalidOperation
from typing import Any

from msgspec import Struct

_DECLARED = re.compile(r"\s*([A-Za-z_ ]+?)\s*(?:\((\d+)(?:\s*,\s*(\d+))?\))?\s*")
_INTEGERS = {"INTEGER": "Int64", "INT": "Int32", "BIGINT": "Int64", "SMALLINT": "Int16", "TINYINT": "SByte"}
_SAME = {
    "DATE": "Date",
    "TIME": "TimeOfDay",
    "BOOLEAN": "Boolean",
    "UUID": "Guid",
    "BLOB": "Binary",
    "REAL": "Double",
    "DOUBLE": "Double",
    "FLOAT": "Double",
    "TIMESTAMP": "DateTimeOffset",
    "DATETIME": "DateTimeOffset",
}
_RANGES = {"SByte": 7, "Int16": 15, "Int32": 31, "Int64": 63}


class BadValue(ValueError):
    """A value that is not one of its property's type."""


class Property(Struct, frozen=True):
    """One property of an entity: its type without `Edm.`, and the bounds of what it takes.

    `default` is a constant that new records get; with `computed` nobody may give it, with `filled` the service gives
    one where the client does not.
    """

    name: str
    type: str
    nullable: bool = True
    length: int | None = None
    precision: int | None = None
    scale: int | None = None
    default: str | None = None
    computed: bool = False
    filled: bool = False


def property_of(name: str, declared: str, *, nullable: bool) -> Property:
    """The property that a column of a declared type is."""
    found = _DECLARED.fullmatch(declared or "TEXT")
    word = (found[1] if found else "TEXT").upper()
    first, second = (int(size) if size else None for size in (found[2], found[3])) if found else (None, None)
    if word in _INTEGERS:
        return Property(name, _INTEGERS[word], nullable)
    if word in ("DECIMAL", "NUMERIC", "DECIMAL_TEXT"):
        return Property(name, "Decimal", nullable, precision=first, scale=second or 0)
    if word in _SAME:
        digits = 6 if _SAME[word] in ("DateTimeOffset", "TimeOfDay") else None
        return Property(name, _SAME[word], nullable, length=first if word == "BLOB" else None, precision=digits)
    return Property(name, "String", nullable, length=first)


def to_json(value: Any, one: Property, *, as_text: bool) -> Any:
    """A stored value as JSON; long integers and decimals `as_text` where the client asks for it."""
    if value is None:
        return None
    match one.type:
        case "Decimal":
            text = str(value) if isinstance(value, str) else f"{Decimal(str(value)):.{one.scale or 0}f}"
            return text if as_text else float(text)
        case "Int64":
            return str(value) if as_text else value
        case "Boolean":
            return bool(value)
        case "Binary":
            return base64.urlsafe_b64encode(value).decode()
        case "Double":
            return float(value)
    return value


def to_stored(value: Any, one: Property) -> Any:
    """A value from JSON, or from a literal in a URL, as it is stored. Raises BadValue."""
    if value is None:
        if not one.nullable:
            raise BadValue(f"{one.name} must not be null")
        return None
    return _plain(value, one, BadValue(f"{one.name} takes a value of Edm.{one.type}, not {str(value)[:80]!r}"))


def _plain(value: Any, one: Property, wrong: BadValue) -> Any:
    match one.type:
        case "SByte" | "Int16" | "Int32" | "Int64":
            return _integer(value, one, wrong)
        case "Decimal":
            return _decimal(value, one, wrong)
        case "Boolean":
            if not isinstance(value, bool):
                raise wrong
            return int(value)
        case "Double":
            if isinstance(value, bool) or not isinstance(value, int | float):
                raise wrong
            return float(value)
    if not isinstance(value, str):
        raise wrong
    if one.type == "Binary":
        return base64.urlsafe_b64decode(value + "=" * (-len(value) % 4))
    if one.length is not None and len(value) > one.length:
        raise BadValue(f"{one.name} takes at most {one.length} signs")
    return value


def _integer(value: Any, one: Property, wrong: BadValue) -> int:
    is_text = one.type == "Int64" and isinstance(value, str) and re.fullmatch(r"-?\d+", value)
    if isinstance(value, bool) or not (isinstance(value, int) or is_text):
        raise wrong
    number = int(value)
    if not -(2 ** _RANGES[one.type]) <= number < 2 ** _RANGES[one.type]:
        raise wrong
    return number


def _decimal(value: Any, one: Property, wrong: BadValue) -> str:
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        raise wrong
    try:
        number = Decimal(str(value))
    except InvalidOperation:
        raise wrong from None
    scale, precision = one.scale or 0, one.precision
    exponent = number.as_tuple().exponent
    if not isinstance(exponent, int) or -exponent > scale:
        raise wrong
    if precision is not None and number and number.adjusted() + 1 > precision - scale:
        raise wrong
    return f"{number:.{scale}f}"
