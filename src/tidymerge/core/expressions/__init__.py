"""Conditions and computed values: SQL scalar expressions over columns, in our own code.

Three-valued logic, exact decimals. Source: docs/expressions.md; ISO/IEC 9075-2, 6 (scalar expressions).
"""

from tidymerge.core.expressions.expression import Expression, compile_expression, tells_time, terms_of
from tidymerge.core.expressions.functions import rounded_to
from tidymerge.core.expressions.types import Cells, Frame, Scopes, Type, type_of

__all__ = [
    "Cells",
    "Expression",
    "Frame",
    "Scopes",
    "Type",
    "compile_expression",
    "rounded_to",
    "tells_time",
    "terms_of",
    "type_of",
]
