"""Finding the records of incoming keys: by a temporary table of the keys."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from tidymerge.core.match.match import fold_text
from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.database import Database, quoted
from tidymerge.model import TargetColumn


def looked_up(database: Database, table: str, keys: pa.Table, columns: Sequence[TargetColumn]) -> str:
    """SQL that finds the records `t` of some keys in a table, given by its name in SQL; each record once."""
    # Folded, so that keys which are one to the target find its record once.
    folded = {column.name: fold_text(as_array(keys[column.name]), column.fold) for column in columns}
    names = list(folded)
    distinct = pa.table(folded).group_by(names).aggregate([])
    present = np.logical_and.reduce([as_array(distinct[name]).is_valid().to_numpy(False) for name in names])
    keys_table = database.put_keys(columns, distinct.filter(pa.array(present)))
    same = " AND ".join(f"t.{quoted(name)} = k.k{index}" for index, name in enumerate(names))
    return f"FROM {keys_table} k {database.traits.join} {table} t ON {same}"
