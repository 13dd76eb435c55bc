"""The records that are there."""

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.model.arrays import Mask


class EqualTexts(Struct, frozen=True):
    """Which of some distinct texts a database takes for equal: a number for each, one for all that are equal."""

    texts: pa.Array
    numbers: pa.Array

    def numbers_of(self, texts: pa.Array) -> pa.Array:
        """The numbers of some of the texts. Raises KeyError for a text that is not known."""
        if texts.equals(self.texts):
            return self.numbers
        at = pc.index_in(texts, value_set=self.texts)
        if at.null_count > texts.null_count:
            raise KeyError("a text of which nobody asked what it equals")
        return self.numbers.take(at)


class Existing(Struct, frozen=True):
    """The target's records that may match, as typed columns.

    `places` says where each record lives, in whatever form the adapter needs to find it again.
    `unreadable` marks, by column, the records whose stored value is not of the column's declared type: it is
    null in `values`, but not empty.
    `complete` says whether these are all the records of the target. `equal` says, by key column, which texts are
    equal, of columns where only the database knows.
    """

    values: pa.Table
    places: pa.Table
    complete: bool
    unreadable: Mapping[str, Mask] = field(default_factory=dict)
    equal: Mapping[str, EqualTexts] = field(default_factory=dict)


def put_together(parts: Sequence[Existing], *, complete: bool = False) -> Existing:
    """The records of all batches. `complete`: they are all of the target's."""
    if len(parts) == 1:
        return replace(parts[0], complete=complete)
    names = dict.fromkeys(name for part in parts for name in part.unreadable)
    unreadable = {
        name: np.concatenate([part.unreadable.get(name, np.zeros(part.values.num_rows, bool)) for part in parts])
        for name in names
    }
    values, places = (pa.concat_tables(tables) for tables in zip(*((p.values, p.places) for p in parts), strict=True))
    return Existing(values.combine_chunks(), places.combine_chunks(), complete=complete, unreadable=unreadable)
