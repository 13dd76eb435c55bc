"""Tidying text on the way in: outer spaces go, Unicode is composed (NFC), nothing inside changes.

Also the guard that keeps a spreadsheet from running a cell of ours as a formula, and its undoing.
"""

import re
import unicodedata
from collections.abc import Callable
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import by_distinct, text_bytes, text_offsets

# Unicode's White_Space property outside ASCII, as UTF-8 lead bytes, is left to Arrow's own trimming.
_ASCII_SPACE = np.zeros(256, bool)
_ASCII_SPACE[[9, 10, 11, 12, 13, 28, 29, 30, 31, 32]] = True
_LAST_ASCII = 127
_SIGNS, _SEPARATORS = r"[=+\-@]", r'[;,|\t\n\r]"*'  # what starts a formula; where another program may cut
_RUNS = re.compile(rf"'*{_SIGNS}")
_HIDES = re.compile(r"'*[\t\r]")  # what a spreadsheet cuts off before it looks
# Quotes that a text begins with go, too, where it is cut behind them.
_CUT = re.compile(rf'(\A"+(?=.*[;,|\t\n\r])|{_SEPARATORS})', re.DOTALL)
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$")
_MAY_RUN = rf"""(?:^"*|{_SEPARATORS})'*{_SIGNS}|^'*[\t\r]"""
_MAY_BE_GUARDED = rf"""(?:^"*|{_SEPARATORS})'+{_SIGNS}|^'+[\t\r]"""


def tidy(texts: pa.Array) -> pa.Array:
    """Trim outer white space (no-break spaces too) and compose to NFC; a text of nothing is blank (null)."""
    data = text_bytes(texts)
    if data.size and int(data.max()) > _LAST_ASCII:
        texts = composed(pc.utf8_trim_whitespace(texts), "NFC")
    elif _has_outer_space(texts):
        texts = pc.ascii_trim_whitespace(texts)
    offsets = text_offsets(texts) if len(texts) else np.zeros(1, np.int32)
    empty = offsets[1:] == offsets[:-1]
    if texts.null_count < int(empty.sum()):
        texts = pc.if_else(pa.array(~empty), texts, pa.scalar(None, texts.type))
    return texts


def composed(texts: pa.Array, form: Literal["NFC", "NFKC"]) -> pa.Array:
    """Unicode's normal form of each text (UAX 15). By Python's own tables: Arrow's compose only from version 26 on."""
    plain = pc.string_is_ascii(texts).fill_null(True)
    if pc.all(plain).as_py():
        return texts
    others = pc.if_else(plain, pa.scalar(None, texts.type), texts)
    return pc.if_else(plain, texts, by_distinct(others, lambda text: unicodedata.normalize(form, text), texts.type))


def _has_outer_space(texts: pa.Array) -> bool:
    """Whether any text (all ASCII) starts or ends with white space; looks at two bytes a text."""
    if len(texts) == 0 or texts.buffers()[2] is None:
        return False
    data = np.frombuffer(texts.buffers()[2], np.uint8)
    offsets = text_offsets(texts)
    filled = offsets[1:] > offsets[:-1]
    starts, ends = offsets[:-1][filled], offsets[1:][filled] - 1
    return bool(_ASCII_SPACE[data[starts]].any() or _ASCII_SPACE[data[ends]].any())


def guard(texts: pa.Array) -> pa.Array:
    """Put an apostrophe before what a spreadsheet would run as a formula; numbers stay numbers.

    That may stand at the start, and also behind a separator or a line end inside: a program that expects another
    separator than the comma cuts the text there, and no longer sees its quotes.
    """
    return _where(texts, _MAY_RUN, _guarded)


def is_guarded(texts: pa.Array) -> bool:
    """Whether all texts are such that a spreadsheet runs none of them, so that new ones are to be guarded too."""
    suspects = texts.filter(pc.match_substring_regex(texts, _MAY_RUN)).unique().drop_null()
    return all(_guarded(text, bare_only=True) == text for text in suspects.to_pylist())


def unguard(texts: pa.Array) -> pa.Array:
    """Take away what `guard` put there, so that a corrected rejects file loads as the sheet would have."""
    return _where(texts, _MAY_BE_GUARDED, _unguarded)


def _where(texts: pa.Array, pattern: str, work: Callable[[str], str]) -> pa.Array:
    """`work` done to each distinct text in which the pattern is found; the others stay."""
    found = pc.match_substring_regex(texts, pattern).fill_null(False)
    if not pc.any(found).as_py():
        return texts
    worked = by_distinct(pc.if_else(found, texts, pa.scalar(None, texts.type)), lambda text: work(text), texts.type)  # noqa: PLW0108
    return pc.if_else(found, worked, texts)


def _guarded(text: str, *, bare_only: bool = False) -> str:
    """The text with its guards; with `bare_only` what has an apostrophe already gets no other."""
    pieces = _CUT.split(text)
    for at in range(0, len(pieces), 2):  # between them are the separators
        if _RUNS.match(pieces[at]) and not _NUMBER.match(pieces[at]) and not (bare_only and pieces[at][0] == "'"):
            pieces[at] = f"'{pieces[at]}"
    first = "'" if _HIDES.match(text) and not (bare_only and text[0] == "'") else ""
    return first + "".join(pieces)


def _unguarded(text: str) -> str:
    if text[0] == "'" and _HIDES.match(text):
        text = text[1:]
    pieces = _CUT.split(text)
    for at in range(0, len(pieces), 2):
        if pieces[at][:1] == "'" and _RUNS.match(pieces[at]):
            pieces[at] = pieces[at][1:]
    return "".join(pieces)
