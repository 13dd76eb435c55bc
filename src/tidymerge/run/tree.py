"""What refers to records that are to go, and what refers to that: the whole tree, table by table."""

from collections.abc import Callable, Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.change import only
from tidymerge.core.match.family import family
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.errors import BadOption
from tidymerge.model import Existing, ForeignKey, Mask, TableShape, TargetColumn
from tidymerge.model.existing import put_together
from tidymerge.ports.target import Related, Target
from tidymerge.run.ask import equal_texts
from tidymerge.run.records import record_key


class Branch(Struct):
    """The records of one table that go. `referring` are the foreign keys that refer to it."""

    target: Target
    shape: TableShape
    key: tuple[str, ...]
    columns: tuple[TargetColumn, ...]
    referring: tuple[ForeignKey, ...]
    existing: Existing


def grown(
    target: Target, shape: TableShape, key: tuple[str, ...], meant: Callable[[Sequence[TargetColumn]], Existing]
) -> list[Branch]:
    """The records that are `meant`, which is asked for columns, and all that refers to them: parents before children.

    The first are those that are meant. Raises BadOption where tables refer to each other in a circle that nothing
    breaks, and NoKey for a table without a key.
    """
    if not isinstance(target, Related):
        raise BadOption(
            "Only a database tells all that refers to its records, so that it can go along with them: this is none."
        )
    root = _branch(target, shape, key)
    root.existing = meant(root.columns)
    tree = {shape.name: root}
    waiting = [(shape.name, root.existing)]
    while waiting:
        name, fresh = waiting.pop()
        for refers in tree[name].referring:
            if refers.table not in tree:
                other = target.beside(refers.table)
                known = other.describe()
                tree[refers.table] = _branch(other, known, record_key((), known))
            child = tree[refers.table]
            found = _children(child, refers, tree[name].shape, fresh)
            if found.values.num_rows:
                there = child.existing.values.num_rows
                child.existing = put_together([child.existing, found]) if there else found
                waiting.append((refers.table, found))
    there = {name: branch for name, branch in tree.items() if branch.existing.values.num_rows or branch is root}
    order = family([branch.shape for branch in there.values()], {name: branch.key for name, branch in there.items()})
    return [root, *(there[name] for name in order.order if name != shape.name)]


def _branch(target: Target, shape: TableShape, key: tuple[str, ...]) -> Branch:
    """A table of which no record goes yet."""
    referring = tuple(target.referring()) if isinstance(target, Related) else ()
    used = {*key, *(name for one in shape.foreign_keys for name in one.columns)}
    used |= {name for one in referring for name in one.referred}
    columns = tuple(column for column in shape.columns if column.name in used)
    return Branch(target, shape, key, columns, referring, target.nothing(columns))


def _children(child: Branch, refers: ForeignKey, parent: TableShape, parents: Existing) -> Existing:
    """The records that refer to some of the parents, and are not among those that go already."""
    own_columns = [child.shape.column(name) for name in refers.columns]
    theirs = [parent.column(name) for name in refers.referred]
    values = {
        column.name: _as_type(as_array(parents.values[other.name]), column.type.arrow)
        for column, other in zip(own_columns, theirs, strict=True)
    }
    wanted = pa.table(values).filter(pa.array(_whole(values)))
    if not wanted.num_rows:
        return child.target.nothing(child.columns)
    # What is referred to says which values are equal. Where it says so otherwise, a look-up would not find all.
    columns = [
        replace(own, fold=other.fold, collation=other.collation) for own, other in zip(own_columns, theirs, strict=True)
    ]
    if columns == own_columns:
        found = child.target.fetch(child.columns, columns, wanted)
    else:
        found = put_together(list(child.target.read_in_batches(child.columns, own_columns)))
    own = found.values.select(list(refers.columns))
    equal = by_number(equal_texts(child.target, columns, texts_to_tell([own, wanted], columns)))
    refer = match(code_keys(own, wanted, columns, equal)).times > 0
    return only(found, refer & ~_among(found, child.existing))


def _as_type(values: pa.Array, kind: pa.DataType) -> pa.Array:
    """Values in the type of the column that refers to them; null for what it can't hold, and so does not refer to."""
    try:
        return pc.cast(values, kind)
    except pa.ArrowInvalid:
        found = []
        for value in values:
            try:
                found.append(value.cast(kind).as_py())
            except pa.ArrowInvalid:
                found.append(None)
        return pa.array(found, kind)


def _whole(values: Mapping[str, pa.Array]) -> Mask:
    """Where no value is missing: a null refers to nothing."""
    mask: Mask = np.logical_and.reduce([valid(array) for array in values.values()])
    return mask


def _among(found: Existing, known: Existing) -> Mask:
    """Which of the found records are known already, by where they are."""
    if not (known.values.num_rows and found.values.num_rows):  # places of no records have no type
        return np.zeros(found.values.num_rows, bool)
    names = found.places.column_names
    at = found.places.append_column("at", pa.array(np.arange(found.places.num_rows)))
    fresh = at.join(known.places.select(names), keys=names, join_type="left anti")["at"].to_numpy()
    mask = np.ones(found.places.num_rows, bool)
    mask[fresh] = False
    return mask
