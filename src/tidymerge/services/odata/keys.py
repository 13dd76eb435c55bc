"""Keys and values as they stand in URLs: quoted, and percent-encoded, in this one place.

Rules: OData URL Conventions 4.01, 4.3.1 (keys), 5.1.1.14 (literals) and OData ABNF.
"""

from collections.abc import Iterator, Mapping, Sequence
from urllib.parse import quote

import pyarrow as pa

from tidymerge.core.tidy.cells import as_array
from tidymerge.services.odata.metadata import Metadata

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
    said = {name: quote(literal(text or "", types[name], metadata), safe="") for name, text in key.items()}
    if len(said) == 1:
        return f"({next(iter(said.values()))})"
    return f"({','.join(f'{quote(name)}={text}' for name, text in said.items())})"


def filters(
    key: Sequence[str], texts: pa.Table, types: dict[str, str], metadata: Metadata, *, lists: bool
) -> Iterator[tuple[str, int]]:
    """Conditions that find records by some columns, percent-encoded, each short enough; and how many it is for.

    With `lists` one column is compared by `in`, which OData has since 4.01. Rows with a null find nothing.
    """
    columns = [as_array(texts[name]).to_pylist() for name in key]
    rows = [row for row in zip(*columns, strict=True) if None not in row]
    use_list = lists and len(key) == 1
    terms: list[str] = []
    size = 0
    for row in dict.fromkeys(rows):
        said = [literal(value, types[name], metadata) for name, value in zip(key, row, strict=True)]
        term = said[0] if use_list else " and ".join(f"{name} eq {one}" for name, one in zip(key, said, strict=True))
        term = quote(term if use_list or len(key) == 1 else f"({term})", safe="")
        if terms and size + len(term) > LONGEST:
            yield _joined(terms, key[0], use_list=use_list), len(terms)
            terms, size = [], 0
        terms.append(term)
        size += len(term) + (3 if use_list else 8)
    if terms:
        yield _joined(terms, key[0], use_list=use_list), len(terms)


def _joined(terms: Sequence[str], name: str, *, use_list: bool) -> str:
    if use_list:
        return f"{quote(name)}%20in%20({','.join(terms)})"
    return "%20or%20".join(terms)
