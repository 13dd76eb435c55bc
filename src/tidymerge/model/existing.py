"""The records that are there."""

from collections.abc import Mapping
from dataclasses import dataclass, field

import pyarrow as pa

from tidymerge.model.arrays import Mask


@dataclass(frozen=True, slots=True)
class Existing:
    """The target's records that may match, as typed columns.

    `places` says where each record lives, in whatever form the adapter needs to find it again.
    `unreadable` marks, by column, the records whose stored value is not of the column's declared type: it is
    null in `values`, but not empty.
    `complete` says whether these are all the records of the target.
    """

    values: pa.Table
    places: pa.Table
    complete: bool
    unreadable: Mapping[str, Mask] = field(default_factory=dict)
