"""Keys and values as they stand in URLs: quoted, and percent-encoded, in this one place.

Rules: OData URL Conventions 4.01, 4.3.1 (keys), 5.1.1.14 (literals) and OData ABNF.
"""

from collections.abc import Iterator, Mapping, Sequence
from urllib.parse import quote

import pyarrow as pa

from tidymerge.core.tidy.cells import as_array
from tidymerge.services.odata.metadata import Metadata

_PLAIN = "'"  # some services do not decode what need not be encoded
_OR = "%20or%20"
_BETWEEN = len(_OR)
LONGEST = 7000  # bytes of a filter as it is sent: many servers take no more than 8 kB of URL and headers


def literal(text: str, kind: str, metadata: Metadata) -> str:
    """Exact text as a literal, not percent-encoded yet."""
    if kind in metadata.enums:
        return f"{kind}'{text}'"
    if kind == "Edm.Binary":
        return f"binary'{text}'"
    if kind == "Edm.String" or not kind.startswith("Edm."):
        doubled = text.replace("'", "''")
        return f"'{doubled}'"
    return text


def key_text(key: Mapping[str, str | None], types: dict[str, str], metadata: Metadata) -> str:
    """The key of a record, given as exact texts, as it stands behind the name of its set."""
    said = {name: quote(literal(text or "", types[name], metadata), safe=_PLAIN) for name, text in key.items()}
    if len(said) == 1:
        return f"({next(iter(said.values()))})"
    return f"({','.join(f'{quote(name)}={text}' for name, text in said.items())})"


def filters(
    key: Sequence[str], texts: pa.Table, types: dict[str, str], metadata: Metadata, *, lists: bool
) -> Iterator[str]:
    """Conditions that find records by some columns, percent-encoded, each short enough.

    Records that differ in the last column only are one term. With `lists` that is compared by `in`, which OData has
    since 4.01. Rows with a null find nothing.
    """
    groups: dict[tuple[str, ...], dict[str, None]] = {}
    for row in zip(*(as_array(texts[name]).to_pylist() for name in key), strict=True):
        if None not in row:
            groups.setdefault(row[:-1], {})[row[-1]] = None
    last, kind = quote(key[-1]), types[key[-1]]
    terms: list[str] = []
    for group, values in groups.items():
        before = "".join(
            f"{quote(name)}%20eq%20{quote(literal(text, types[name], metadata), safe=_PLAIN)}%20and%20"
            for name, text in zip(key[:-1], group, strict=True)
        )
        room = LONGEST - sum(map(len, terms)) - len(before)
        some: list[str] = []
        for value in values:
            said = quote(literal(value, kind, metadata), safe=_PLAIN)
            said = said if lists else f"{last}%20eq%20{said}"
            if (terms or some) and room < len(said) + _BETWEEN:
                terms += [_term(before, some, last, lists=lists)] if some else []
                yield _OR.join(terms)
                terms, some, room = [], [], LONGEST - len(before)
            some.append(said)
            room -= len(said) + _BETWEEN
        terms.append(_term(before, some, last, lists=lists))
    if terms:
        yield _OR.join(terms)


def _term(before: str, values: Sequence[str], last: str, *, lists: bool) -> str:
    """The records of one group: all that is the same, and one of some values in the last column."""
    either = f"{last}%20in%20({','.join(values)})" if lists else f"({_OR.join(values)})"
    return f"({before}{either})" if before else either
