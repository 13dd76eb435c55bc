"""Tidying text on the way in: outer spaces go, Unicode is composed (NFC), nothing inside changes.

Also the guard that keeps a spreadsheet from running a cell of ours as a formula, and its undoing.
"""

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import text_bytes, text_offsets

# Unicode's White_Space property outside ASCII, as UTF-8 lead bytes, is left to Arrow's own trimming.
_ASCII_SPACE = np.zeros(256, bool)
_ASCII_SPACE[[9, 10, 11, 12, 13, 28, 29, 30, 31, 32]] = True
_LAST_ASCII = 127
_RISKY = r"[=+\-@\t\r]"  # what a spreadsheet takes for the start of a formula, or cuts off before one
_PLAIN_NUMBER = r"^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$"


def tidy(texts: pa.Array) -> pa.Array:
    """Trim outer white space (no-break spaces too) and compose to NFC; a text of nothing is blank (null)."""
    data = text_bytes(texts)
    if data.size and int(data.max()) > _LAST_ASCII:
        texts = pc.utf8_normalize(pc.utf8_trim_whitespace(texts), "NFC")
    elif _has_outer_space(texts):
        texts = pc.ascii_trim_whitespace(texts)
    offsets = text_offsets(texts) if len(texts) else np.zeros(1, np.int32)
    empty = offsets[1:] == offsets[:-1]
    if texts.null_count < int(empty.sum()):
        texts = pc.if_else(pa.array(~empty), texts, pa.scalar(None, texts.type))
    return texts


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
    """Put an apostrophe before a text that a spreadsheet would run as a formula; numbers stay numbers."""
    risky = pc.and_(
        pc.match_substring_regex(texts, f"^'*{_RISKY}"),
        pc.invert(pc.match_substring_regex(texts, _PLAIN_NUMBER)),
    )
    return pc.if_else(risky, pc.binary_join_element_wise("'", texts, ""), texts)


def is_guarded(texts: pa.Array) -> bool:
    """Whether all texts are such that a spreadsheet runs none of them, so that new ones are to be guarded too."""
    risky = pc.match_substring_regex(texts, f"^{_RISKY}")
    if not pc.any(risky).as_py():
        return True
    return bool(pc.all(pc.match_substring_regex(texts.filter(risky), _PLAIN_NUMBER)).as_py())


def unguard(texts: pa.Array) -> pa.Array:
    """Take away what `guard` put there, so that a mended rejects file loads as the sheet would have."""
    return pc.replace_substring_regex(texts, f"^'('*{_RISKY})", r"\1")
