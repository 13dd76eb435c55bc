"""The exact text of values that a server shows in one way only."""

import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.model import Kind, TargetColumn

_MOST_DECIMALS = 6  # Arrow writes smaller numbers with an exponent
_FIRST_DAY, _LAST_DAY = -719_162, 2_932_896  # 0001-01-01 and 9999-12-31, in days from 1970-01-01


def plain_text(column: TargetColumn, values: pa.Array) -> pa.Array | None:
    """The text of integers, decimals, dates and texts as a server gives it; None for all others."""
    kind = column.type
    if kind.as_stored:
        return values
    if kind.padded or kind.declared.startswith(("character(", "year")) or "zerofill" in kind.declared:
        return None  # shown with spaces or zeros that the typed value does not have
    match kind.kind:
        case Kind.TEXT:
            return values
        case Kind.INTEGER:
            return pc.cast(values, pa.string())
        case Kind.DECIMAL if not kind.spelled_out and 0 <= kind.decimals <= _MOST_DECIMALS:
            return pc.cast(values, pa.string())
        case Kind.DATE:
            bounds = pc.min_max(pc.cast(values, pa.int32())).as_py()
            within = bounds["min"] is None or (bounds["min"] >= _FIRST_DAY and bounds["max"] <= _LAST_DAY)
            return pc.cast(values, pa.string()) if within else None
        case _:
            return None
