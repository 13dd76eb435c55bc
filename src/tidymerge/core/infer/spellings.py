"""The different values of a column, and which of them are probably one in several spellings."""

import unicodedata
from collections import defaultdict
from collections.abc import Iterable, Sequence

import pyarrow as pa
from msgspec import Struct

_SHORT = 3  # letters of what may stand for a longer word


class ValueCount(Struct, frozen=True):
    """A value as text, and how many rows have it."""

    value: str
    rows: int


class Spelling(Struct, frozen=True):
    """Values that are probably one: the commonest, which the others would become, and by what they were told."""

    value: str
    others: tuple[ValueCount, ...]
    why: str


class Values(Struct, frozen=True):
    """All different values of a column, the commonest first; blank rows; and groups that are probably one value."""

    column: str
    rows: int
    blanks: int
    values: tuple[ValueCount, ...]
    spellings: tuple[Spelling, ...]


def values_of(column: str, texts: pa.Array, *, words: bool) -> Values:
    """What a column holds. Only `words` have spellings: numbers and dates that look alike are not one."""
    counts = texts.drop_null().value_counts()
    pairs = zip(counts.field("values").to_pylist(), counts.field("counts").to_pylist(), strict=True)
    found = sorted((ValueCount(value, rows) for value, rows in pairs), key=lambda one: (-one.rows, one.value))
    groups = tuple(_spellings(found)) if words else ()
    return Values(column, len(texts), texts.null_count, tuple(found), groups)


def _spellings(values: Sequence[ValueCount]) -> Iterable[Spelling]:
    """Groups told by case, spaces, accents and punctuation; and short forms that begin just one of the others."""
    groups: dict[str, list[ValueCount]] = defaultdict(list)
    for one in values:
        groups[_plain(one.value)].append(one)
    short = _short_forms(groups)
    for plain, members in groups.items():
        if plain in short:
            continue
        stand = [one for other, whole in short.items() if whole == plain for one in groups[other]]
        others = sorted([*members[1:], *stand], key=lambda one: (-one.rows, one.value))
        if others:
            ways = [_difference(members[0].value, one.value) for one in members[1:]]
            ways += ["a short form"] if stand else []
            yield Spelling(members[0].value, tuple(others), ", ".join(dict.fromkeys(ways)))


def _short_forms(groups: dict[str, list[ValueCount]]) -> dict[str, str]:
    """The values of few letters with which just one longer and commoner one begins, by that one."""
    found = {}
    for plain, members in groups.items():
        if 0 < len(plain) <= _SHORT and plain.isalpha():
            longer = [other for other in groups if other != plain and other.startswith(plain)]
            if len(longer) == 1 and _rows(groups[longer[0]]) > _rows(members):
                found[plain] = longer[0]
    return found


def _rows(values: Sequence[ValueCount]) -> int:
    return sum(one.rows for one in values)


def _plain(text: str) -> str:
    """The text without letter case, accents, spaces and punctuation; itself if nothing else is left."""
    letters = "".join(sign for sign in _bare(text) if unicodedata.category(sign)[0] in "LN")
    return letters or text


def _bare(text: str) -> str:
    """The text without letter case and accents."""
    return "".join(sign for sign in unicodedata.normalize("NFKD", text.casefold()) if not unicodedata.combining(sign))


def _difference(one: str, other: str) -> str:
    """By what two spellings differ."""
    if one.casefold() == other.casefold():
        return "letter case"
    if "".join(one.split()).casefold() == "".join(other.split()).casefold():
        return "spaces"
    return "accents" if "".join(_bare(one).split()) == "".join(_bare(other).split()) else "punctuation"


def as_map(values: Values) -> str | None:
    """The spellings as a line of a job file: a value map, which leaves all others as they are."""
    pairs = [(other.value, one.value) for one in values.spellings for other in one.others]
    if not pairs:
        return None
    inner = ", ".join(f"{_quoted(other)} = {_quoted(one)}" for other, one in pairs)
    name = _quoted(values.column)
    return f'{name} = {{ from = {name}, values = {{ {inner} }}, otherwise = "keep" }}'


def _quoted(text: str) -> str:
    """A TOML basic string (toml.io, 1.0.0)."""
    signs = (f"\\{sign}" if sign in '"\\' else sign if sign.isprintable() else f"\\U{ord(sign):08x}" for sign in text)
    return '"' + "".join(signs) + '"'
