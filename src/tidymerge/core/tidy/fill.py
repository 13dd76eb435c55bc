"""Filling down: a blank cell takes the value above, as a person reads merged cells and lists that say a thing once."""

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from tidymerge.core.naming.mapping import incoming_name
from tidymerge.core.tidy.cells import valid
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import Incoming, IncomingColumn, Mask


def merged_notes(incoming: Incoming) -> list[str]:
    """What cells that are merged over several rows do, and what would help."""
    return [
        f"Cells of {name} are merged over several rows, such as {first}-{last}: only the first has the value. With "
        "fill_down in the job's [incoming], the others get it too."
        for name, (first, last) in incoming.merged.items()
    ]


class FillDown:
    """Fills columns of rows that come some at a time, in the order of the sheet."""

    def __init__(self, names: Sequence[str]) -> None:
        self._names = names
        self._last: dict[str, pa.Scalar] = {}

    def fill(self, incoming: Incoming) -> Incoming:
        """The rows with the columns filled. Raises NoSuchColumn and AmbiguousColumn."""
        known = [column.name for column in incoming.columns]
        wanted = {incoming_name(known, name) for name in self._names}
        if not wanted:
            return incoming
        incoming = replace(incoming, merged={name: at for name, at in incoming.merged.items() if name not in wanted})
        columns = tuple(self._filled(column) if column.name in wanted else column for column in incoming.columns)
        return replace(incoming, columns=columns)

    def _filled(self, column: IncomingColumn) -> IncomingColumn:
        given = [_given(array) for array in column.arrays]
        any_given = np.logical_or.reduce(given)
        above = np.maximum.accumulate(np.where(any_given, np.arange(len(any_given)), -1))
        from_above = pa.array(above, mask=above < 0)
        arrays = {array.type: array.take(from_above) for array in column.arrays}
        before = self._last.get(column.name)
        if before is not None and (above < 0).any():
            array = arrays.get(before.type, pa.nulls(len(above), before.type))
            arrays[before.type] = pc.if_else(pa.array(above < 0), before, array)
        if len(above) and above[-1] >= 0:
            at = int(above[-1])
            self._last[column.name] = next(
                array[at] for array, mask in zip(column.arrays, given, strict=True) if mask[at]
            )
        return replace(column, arrays=tuple(arrays.values()))


def _given(array: pa.Array) -> Mask:
    return valid(tidy(array) if pa.types.is_string(array.type) else array)
