"""Telling files that we wrote from all others: only those may be replaced."""

import gzip
import zipfile
import zlib
from pathlib import Path

from tidymerge.core.tidy.corrected import MARKS, WHY

SIGN = "Tidy Merge"  # in a page, a chart and a workbook, where their formats have a place for who made them
SIGNED, SCRIPT = f"<!-- {SIGN} -->", f"-- {SIGN}"  # how a summary and a script begin
_HEAD = 1 << 16
CONFLICT, FIELD, DIFFERENCE = "undo: reason", ("outcome", "row"), ("where", "row")
CLASH = "conflict: was"


def is_table(path: Path) -> bool:
    """Whether a file of text or Parquet has the columns of rejects, a marked copy, conflicts, or changed fields."""
    if path.suffix.lower() == ".parquet":
        return _is_parquet(path)
    head = _text(path).partition("\n")[0]
    return any(f"{name}" in head for name in (WHY, MARKS[0], CONFLICT, CLASH)) or _begins(head)


def _begins(head: str) -> bool:
    return any(head.startswith((",".join(one), f'{{"{one[0]}": ')) for one in (FIELD, DIFFERENCE))


def _is_parquet(path: Path) -> bool:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        return tuple(pq.read_schema(path).names[:2]) in (FIELD, DIFFERENCE)
    except (pa.ArrowException, OSError):
        return False


def is_page(path: Path) -> bool:
    """Whether a file is a page of a receipt."""
    return f'<meta name="generator" content="{SIGN}">' in _text(path)


def is_summary(path: Path) -> bool:
    """Whether a file is a receipt as Markdown."""
    return _text(path).startswith(SIGNED)


def is_script(path: Path) -> bool:
    """Whether a file is a script of decided changes."""
    return _text(path).startswith(SCRIPT)


def is_chart(path: Path) -> bool:
    """Whether a file is a picture of ours (PNG, section 11.3.3: textual information)."""
    return f"Software\0{SIGN}".encode() in _bytes(path)


def is_drawing(path: Path) -> bool:
    """Whether a file is a picture of tables and their relations, PNG or SVG."""
    return is_chart(path) if path.suffix.lower() == ".png" else SIGN in _text(path)


def is_workbook(path: Path) -> bool:
    """Whether a workbook is a marked copy: it has a property that says so (ECMA-376 part 1, 22.3)."""
    try:
        with zipfile.ZipFile(path) as package:
            return SIGN.encode() in package.read("docProps/custom.xml")
    except (OSError, KeyError, ValueError, NotImplementedError, zipfile.BadZipFile, zlib.error):
        return False


def _text(path: Path) -> str:
    return _bytes(path).decode("utf-8-sig", "replace")


def _bytes(path: Path) -> bytes:
    """How a file begins; of a compressed one, what is in it."""
    try:
        with gzip.open(path) if path.suffix.lower() == ".gz" else path.open("rb") as file:
            return file.read(_HEAD)
    except (OSError, EOFError, zlib.error):
        return b""
