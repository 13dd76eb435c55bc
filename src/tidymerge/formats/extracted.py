"""What a file says of the extract that it is of, and the rows as they were, if it carries them."""

import base64
import binascii
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

METADATA, CARRIED = b"tidymerge extract", b"tidymerge base"  # of a Parquet file's schema
_LONGEST = 30_000  # letters in a cell, which holds 32,767


def name_beside(column: str) -> str:
    """What the column is called that has readable names for the values of another one."""
    return f"{column} (name)"


def packed(base: bytes) -> list[str]:
    """The rows as texts that fit into cells."""
    text = base64.b64encode(base).decode()
    return [text[at : at + _LONGEST] for at in range(0, len(text), _LONGEST)]


def unpacked(text: str) -> bytes | None:
    """What was packed into texts, put together again; nothing if it is damaged."""
    try:
        return base64.b64decode(text, validate=True) or None
    except binascii.Error:
        return None


def named_in_parquet(path: Path) -> str | None:
    """The extract that a Parquet file is of."""
    return _metadata(path, METADATA)


def carried_in_parquet(path: Path) -> bytes | None:
    """The rows as they were, if a Parquet file carries them."""
    return unpacked(_metadata(path, CARRIED) or "")


def _metadata(path: Path, name: bytes) -> str | None:
    try:
        found = (pq.read_schema(path).metadata or {}).get(name)
    except (pa.ArrowException, OSError):
        return None
    return None if found is None else found.decode("utf-8", "replace")
