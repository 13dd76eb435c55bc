"""Regular expressions, of one kind everywhere: RE2, whose time grows with the text and not with the pattern.

Source: https://github.com/google/re2/wiki/Syntax. It knows no look-ahead and no back references.
"""

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import mask_of
from tidymerge.errors import BadExpression


def check_pattern(pattern: str, where: str, replacement: str = "") -> None:
    """Raise BadExpression, with the place in the job, unless it is a regular expression and the replacement fits it."""
    try:
        pc.replace_substring_regex(pa.array([""]), pattern, replacement)
    except pa.ArrowInvalid as error:
        said = str(error).partition("\n")[0].removeprefix("Invalid regular expression: ").rstrip(".")
        raise BadExpression(
            f"{where}: {pattern!r} can't be used ({said}). Regular expressions are those of RE2, without look-ahead "
            "and back references.",
            expression=pattern,
        ) from None


def first_found(texts: pa.Array, pattern: str) -> pa.Array:
    """What the pattern finds first in each text: its first group, or all of it; null where it finds nothing."""
    coded = texts.dictionary_encode()
    distinct = coded.dictionary
    whole = f"(?s:^.*?)({pattern})(?s:.*)$"
    found = pc.replace_substring_regex(distinct, whole, r"\2" if _has_group(pattern) else r"\1")
    matched = mask_of(pc.match_substring_regex(distinct, pattern)) & ~mask_of(pc.equal(found, ""))
    return pc.if_else(pa.array(matched), found, pa.scalar(None, pa.string())).take(coded.indices)


def _has_group(pattern: str) -> bool:
    try:
        pc.replace_substring_regex(pa.array([""]), f"({pattern})", r"\2")
    except pa.ArrowInvalid:
        return False
    return True
