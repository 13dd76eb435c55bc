"""JSON documents (RFC 8259) in one spelling: names in order, no spaces, every number to its last digit."""

import json
from collections.abc import Callable
from decimal import Decimal, InvalidOperation

from tidymerge.core.tidy import digits
from tidymerge.core.tidy.cells import Wrong
from tidymerge.model import Reason

_DEEPEST = 200  # levels: far more than people write, far fewer than Python's own stack holds
_LONGEST = 40  # digits of a number that is written out rather than with an exponent
_ESCAPED = json.encoder.encode_basestring
_WANTED = "a JSON document"


class Number(str):
    """A number as it stands in the document."""

    __slots__ = ()


class _Refused(ValueError):
    """What no database's JSON can be sure to hold."""


def one_document(text: str) -> str | Wrong:
    """The document in its one spelling: equal documents are equal texts. `1.50` and `15e-1` are one number."""
    try:
        found = json.loads(
            text, parse_int=Number, parse_float=Number, parse_constant=_refuse, object_pairs_hook=_object
        )
        return _written(found, 0)
    except _Refused as refused:
        return Wrong(Reason.NOT_JSON, str(refused))
    except RecursionError:
        return Wrong(Reason.NOT_JSON, _too_deep())
    except ValueError:
        return Wrong(Reason.NOT_JSON, _WANTED)


def as_it_is(value: object) -> str:
    """Parsed JSON as text again, with the names in their order and every `Number` as it stood there."""
    match value:
        case Number():
            return str(value)
        case dict():
            return "{" + ", ".join(f"{_ESCAPED(name)}: {as_it_is(inner)}" for name, inner in value.items()) + "}"
        case list():
            return "[" + ", ".join(map(as_it_is, value)) + "]"
        case _:
            return json.dumps(value, ensure_ascii=False, default=str)


def _too_deep() -> str:
    return f"a JSON document of at most {_DEEPEST} levels"


def _refuse(name: str) -> object:
    raise _Refused(f"{_WANTED}; {name} is no number there")


def _object(pairs: list[tuple[str, object]]) -> dict[str, object]:
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise _Refused(f"{_WANTED} in which each name stands once; {twice!r} stands there twice")
    return found


def _written(value: object, level: int) -> str:
    if level > _DEEPEST:
        raise _Refused(_too_deep())
    within: Callable[[object], str] = lambda inner: _written(inner, level + 1)  # noqa: E731
    match value:
        case Number():
            return _number(value)
        case str():
            return _text(value)
        case dict():
            return "{" + ",".join(f"{_text(name)}:{within(value[name])}" for name in sorted(value)) + "}"
        case list():
            return "[" + ",".join(map(within, value)) + "]"
        case _:
            return json.dumps(value)


def _text(text: str) -> str:
    try:
        text.encode()
    except UnicodeEncodeError:
        raise _Refused(f"{_WANTED} without half of a pair of surrogates") from None
    return _ESCAPED(text)


def _number(text: str) -> str:
    try:
        value = Decimal(text)
    except InvalidOperation:
        raise _Refused(f"{_WANTED} with numbers of a bearable size") from None
    sign, figures, exponent = value.as_tuple()
    assert isinstance(exponent, int)  # noqa: S101 - JSON's numbers are finite
    written = "".join(map(str, figures)).lstrip("0")
    kept = written.rstrip("0")
    if not kept:
        return "0"
    first = len(written) + exponent - 1  # the power of ten of the first digit
    if max(first + 1, 1) + max(len(kept) - first - 1, 0) <= _LONGEST:
        return digits.spelled(value)
    return f"{'-' if sign else ''}{kept[0]}{'.' if kept[1:] else ''}{kept[1:]}e{first}"
