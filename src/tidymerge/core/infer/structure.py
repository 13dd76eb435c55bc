"""How the structure of two tables differs, or of one table at two times."""

from collections.abc import Collection, Mapping, Sequence

from msgspec import Struct

from tidymerge.core.naming.mapping import fold
from tidymerge.model import Kind, TableShape, TargetColumn
from tidymerge.model.structure import StoredColumn, Structure

_NUMBERS = (Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT)
_TIMES = (Kind.DATE, Kind.TIMESTAMP)


class Difference(Struct, frozen=True):
    """One of them: its `part` (column, type, blanks, primary key, unique, reference or check), `before` and `after`.

    What was not there before, or is not after, is None. A type is `narrower` if it can't hold all that the other can.
    """

    part: str
    name: str
    before: str | None
    after: str | None
    narrower: bool = False

    @property
    def sentence(self) -> str:
        """What became of it, without a full stop."""
        match self.part:
            case "column":
                return f"column {self.name} is {'new' if self.before is None else 'gone'}"
            case "type":
                than = ", which holds less" if self.narrower else ""
                return f"column {self.name} is {self.after}, was {self.before}{than}"
            case "blanks":
                return f"column {self.name} {self.after} now"
            case part:
                return f"{part} {self.name} is {'new' if self.before is None else 'gone'}"


_REQUIRED, _FREE = "may not be blank", "may be blank"


def structure_of(shape: TableShape, *, without: Collection[str] = (), untold: Collection[str] = ()) -> Structure:
    """The structure of a table, `without` columns that go. Of `untold` columns the type is not declared yet."""
    columns = tuple(_stored(one, told=one.name in untold) for one in shape.columns if one.name not in without)
    references = tuple(
        f"{' + '.join(key.columns)} refers to {key.table}.{' + '.join(key.referred)}" for key in shape.foreign_keys
    )
    return Structure(
        columns,
        shape.primary_key,
        tuple(sorted(key for key in shape.unique if key != shape.primary_key)),
        tuple(sorted(references)),
        tuple(sorted({check.expression for check in shape.checks})),
        told=shape.types_told,
    )


def _stored(column: TargetColumn, *, told: bool) -> StoredColumn:
    required = not column.nullable
    if told:
        return StoredColumn(column.name, required=required)
    kind, is_whole = column.type, column.type.kind is Kind.INTEGER
    return StoredColumn(
        column.name,
        kind.declared,
        kind.kind.value,
        kind.length if kind.length is not None else kind.octets,
        kind.precision,
        kind.scale,
        kind.minimum if is_whole else None,
        kind.maximum if is_whole else None,
        required,
    )


def differences(before: Structure, after: Structure) -> tuple[Difference, ...]:
    """All of them: columns first, in the order of `after`. Columns are the same if their names are, but for spelling.

    Types that the data told are compared by what they hold: what fits is no difference.
    """
    found: list[Difference] = []
    pairs = _pairs(before.columns, after.columns)
    partners, olds = set(pairs.values()), {one.name: one for one in before.columns}
    found += [Difference("column", one.name, one.type, None) for one in before.columns if one.name not in partners]
    for new in after.columns:
        if new.name not in pairs:
            found.append(Difference("column", new.name, None, new.type))
            continue
        found += _of_column(olds[pairs[new.name]], new, told=before.told or after.told)
    if before.told or after.told:
        return tuple(found)
    keys = (("primary key", [before.primary_key], [after.primary_key]), ("unique", before.unique, after.unique))
    for part, *sides in keys:
        joined = [[" + ".join(key) for key in some if key] for some in sides]
        found += _of_constraints(part, *joined)
    found += _of_constraints("reference", before.references, after.references)
    found += _of_constraints("check", before.checks, after.checks)
    return tuple(found)


def _pairs(before: Sequence[StoredColumn], after: Sequence[StoredColumn]) -> Mapping[str, str]:
    """For each column of `after` its name in `before`: the very same, or the only one that is spelled alike."""
    names = {one.name for one in before}
    found = {one.name: one.name for one in after if one.name in names}
    left: dict[str, list[str]] = {}
    for one in before:
        if one.name not in found:
            left.setdefault(fold(one.name), []).append(one.name)
    for one in after:
        alike = left.get(fold(one.name), []) if one.name not in found else []
        if len(alike) == 1:
            found[one.name] = alike.pop()
    return found


def _of_column(old: StoredColumn, new: StoredColumn, *, told: bool) -> list[Difference]:
    found = []
    if not old.type or not new.type:
        changed = False
    elif told:
        changed = not (_fits(old.kind, new.kind) or _fits(new.kind, old.kind))
    else:
        changed = old.type.casefold() != new.type.casefold()
    if changed:
        found.append(Difference("type", new.name, old.type, new.type, narrower=not told and _narrower(old, new)))
    if old.required != new.required and not told:
        was, now = (_REQUIRED if one.required else _FREE for one in (old, new))
        found.append(Difference("blanks", new.name, was, now))
    return found


def _narrower(old: StoredColumn, new: StoredColumn) -> bool:
    """Whether something that `old` held does not fit in `new`."""
    if new.kind == Kind.TEXT:
        return _less(old.length, new.length) if old.kind == Kind.TEXT else False
    if not _fits(old.kind, new.kind):
        return True
    if old.least is not None and new.least is not None and old.most is not None and new.most is not None:
        return new.least > old.least or new.most < old.most
    decimals = old.kind == new.kind and _less(old.scale, new.scale)
    return _less(old.length, new.length) or _less(_whole(old), _whole(new)) or decimals


def _whole(one: StoredColumn) -> int | None:
    """How many digits there can be before the point."""
    if one.most is not None:
        return len(str(one.most))
    return None if one.precision is None else one.precision - (one.scale or 0)


def _less(old: int | None, new: int | None) -> bool:
    """Whether a bound came, or became smaller."""
    return new is not None and (old is None or new < old)


def _fits(one: str, other: str) -> bool:
    """Whether values of one kind are at home in a column of another."""
    if other in (one, Kind.TEXT):
        return True
    return any(one in family and other in family[family.index(Kind(one)) :] for family in (_NUMBERS, _TIMES))


def _of_constraints(part: str, before: Sequence[str], after: Sequence[str]) -> list[Difference]:
    gone = [Difference(part, one, one, None) for one in before if one not in after]
    return gone + [Difference(part, one, None, one) for one in after if one not in before]
