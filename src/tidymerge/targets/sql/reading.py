"""Records that arrive in several pieces."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from tidymerge.targets.sql.database import Read


def joined(parts: Sequence[Read]) -> Read:
    """The records of all parts, one after another."""
    if len(parts) == 1:
        return parts[0]
    names = {name for part in parts for name in part.unreadable}
    unreadable = {
        name: np.concatenate([part.unreadable.get(name, np.zeros(part.values.num_rows, bool)) for part in parts])
        for name in names
    }
    values = pa.concat_tables([part.values for part in parts]).combine_chunks()
    return Read(values, pa.concat_tables([part.places for part in parts]).combine_chunks(), unreadable)
