"""CSV as we write it: UTF-8 with a byte-order mark, so that spreadsheets read it right; compressed where asked."""

import csv
import gzip
import io
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO


@contextmanager
def opened(path: Path) -> Iterator[TextIO]:
    """A new text file, compressed if its name ends in .gz. Raises OSError."""
    with path.open("wb") as file:
        if path.suffix.lower() == ".gz":
            # Without a name and a time inside: the same rows give the same bytes.
            with (
                gzip.GzipFile("", "wb", fileobj=file, mtime=0) as packed,
                io.TextIOWrapper(packed, "utf-8-sig", newline="") as text,
            ):
                yield text
        else:
            with io.TextIOWrapper(file, "utf-8-sig", newline="") as text:
                yield text


def write_csv(path: Path, names: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Write column names and rows. Raises OSError."""
    with opened(path) as file:
        writer = csv.writer(file)
        writer.writerow(names)
        writer.writerows(rows)
