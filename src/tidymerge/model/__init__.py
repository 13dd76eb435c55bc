"""The records that travel through a run. Nothing here reads, decides or writes."""

from tidymerge.model.arrays import Indices, Mask
from tidymerge.model.columns import MOST_DIGITS, ColumnType, Fold, Kind, TargetColumn
from tidymerge.model.existing import EqualTexts, Existing
from tidymerge.model.flaws import Flaw, Reason
from tidymerge.model.incoming import NO_ROW, Incoming, IncomingColumn, Sample
from tidymerge.model.pairing import Pair, Pairing
from tidymerge.model.reading import ReadOptions
from tidymerge.model.table import Check, Definition, ForeignKey, NewColumn, TableShape

__all__ = [
    "MOST_DIGITS", "NO_ROW", "Check", "ColumnType", "Definition", "EqualTexts", "Existing", "Flaw", "Fold",
    "ForeignKey", "Incoming", "IncomingColumn", "Indices", "Kind", "Mask", "NewColumn", "Pair", "Pairing",
    "ReadOptions", "Reason", "Sample", "TableShape", "TargetColumn",
]  # fmt: skip
