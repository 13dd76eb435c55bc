"""Rows that look like totals: their key is a word for it, or their numbers are the sums of the rows above."""

import re
from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import mask_of
from tidymerge.core.tidy.convert import as_text
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import Incoming, Indices, Mask

# As spreadsheet programs and people write it under their columns, in the languages that we know of.
_WORDS = (
    "total", "totals", "subtotal", "grand total", "sum", "sums", "summe", "gesamt", "gesamtsumme", "zwischensumme",
    "insgesamt", "somme", "sous-total", "totale", "totaux", "subtotale", "suma", "razem", "soma", "totaal", "subtotaal",
    "summa", "yhteensä", "součet", "celkem", "ukupno", "toplam", "итого", "всего", "合計", "小計", "总计", "合计",
)  # fmt: skip
_LONGEST_FIRST = sorted(map(re.escape, _WORDS), key=len, reverse=True)
_BEGINS = re.compile(rf"^\W*({'|'.join(_LONGEST_FIRST)})(?:\W|$)", re.IGNORECASE)
_FEWEST = 3  # summands: the sum of two numbers stands in a third by chance


def is_total(text: str) -> bool:
    """Whether a text is, or begins with, a word for a total."""
    return _BEGINS.match(text) is not None


def word_of(text: str) -> str:
    """The word for a total with which a text begins, in lower case, and what stands before it."""
    found = _BEGINS.match(text)
    return text[: found.end(1)].lower() if found else ""


def named_totals(incoming: Incoming, columns: Sequence[str]) -> dict[str, Indices]:
    """For each of the columns that has any, the rows whose text is a word for a total."""
    found = {}
    for name in columns:
        texts = tidy(as_text(incoming.column(name)))
        words = {text for text in texts.unique().to_pylist() if text is not None and is_total(text)}
        if words:
            found[name] = np.flatnonzero(mask_of(pc.is_in(texts, value_set=pa.array(sorted(words)))))
    return found


def sums(columns: Sequence[pa.Array]) -> Mask:
    """The rows in which every number is the sum of those above it, from the top or from the last such row on.

    `columns` are exact numbers in the order of the sheet; a row must have one that is not 0.
    """
    numbers = [column.to_pylist() for column in columns]
    rows = len(numbers[0]) if numbers else 0
    mask = np.zeros(rows, bool)
    summands, array, whole = 0, [0] * len(numbers), [0] * len(numbers)
    for row in range(rows):
        values = [column[row] for column in numbers]
        given = [at for at, value in enumerate(values) if value is not None]
        if summands >= _FEWEST and any(values[at] for at in given):
            sums_up = all(values[at] == array[at] for at in given) or all(values[at] == whole[at] for at in given)
            if sums_up:
                mask[row], summands, array = True, 0, [0] * len(numbers)
                continue
        summands += bool(given)
        array = [before + (value or 0) for before, value in zip(array, values, strict=True)]
        whole = [before + (value or 0) for before, value in zip(whole, values, strict=True)]
    return mask
