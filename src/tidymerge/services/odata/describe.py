"""An entity set as a table: its properties as columns, its key, and to which other sets it refers."""

from msgspec import Struct

from tidymerge.core.naming.mapping import fold, listing
from tidymerge.errors import NoSuchTable, NotATable
from tidymerge.model import ColumnType, ForeignKey, Kind, TableShape, TargetColumn
from tidymerge.services.odata.metadata import EntitySet, Metadata, Property

_RANGES = {"Edm.Byte": (0, 255), "Edm.SByte": (-128, 127), "Edm.Int16": (-(2**15), 2**15 - 1)}
_RANGES |= {"Edm.Int32": (-(2**31), 2**31 - 1), "Edm.Int64": (-(2**63), 2**63 - 1)}
_KINDS = {
    "Edm.Boolean": Kind.BOOLEAN,
    "Edm.Date": Kind.DATE,
    "Edm.TimeOfDay": Kind.TIME,
    "Edm.DateTimeOffset": Kind.TIMESTAMP,
    "Edm.Guid": Kind.UUID,
    "Edm.Binary": Kind.BINARY,
    "Edm.Double": Kind.FLOAT,
    "Edm.Single": Kind.FLOAT,
}
_MICROSECONDS = 6


class Described(Struct, frozen=True):
    """An entity set: what it is as a table, the type of each property, and whether its records have ETags.

    Properties of other types, such as collections, are columns that rows can't be loaded into.
    `defaults` are what new records get where no row gives a value; `fixed` are the
    properties that never change once a record is there.
    """

    set: EntitySet
    shape: TableShape
    types: dict[str, str]
    etags: bool
    defaults: dict[str, str]
    fixed: tuple[str, ...]


def find_set(metadata: Metadata, name: str | None) -> EntitySet:
    """The entity set of a name, in whatever letter case if only one fits. Raises NoSuchTable."""
    known = tuple(metadata.sets)
    if name in metadata.sets:
        return metadata.sets[name]
    fitting = [] if name is None else [one for one in known if fold(one) == fold(name)]
    if len(fitting) == 1:
        return metadata.sets[fitting[0]]
    said = "No list is named" if name is None else f"The service has no list {name!r}"
    raise NoSuchTable(f"{said}; it has {listing(known)}. Add the name behind a #.", table=name, known=known)


def described(metadata: Metadata, name: str | None) -> Described:
    """The set as a table. Raises NoSuchTable, NotATable and TargetUnreadable."""
    found = find_set(metadata, name)
    line = metadata.line(found.type)
    properties = [metadata.of_type(one) for kind in line for one in kind.properties]
    key = next((kind.key for kind in line if kind.key), ())
    if not key or not set(key) <= {one.name for one in properties}:
        raise NotATable(f"The records of {found.name} can't be told apart: the service names no key for them.")
    columns = tuple(_column(one, metadata, is_key=one.name in key) for one in properties)
    references = tuple(
        ForeignKey(tuple(own), found.bindings[one.name], tuple(referred))
        for kind in line
        for one in kind.references
        if one.constraints and one.name in found.bindings and not one.type.startswith("Collection(")
        for own, referred in [zip(*one.constraints, strict=True)]
    )
    filled = tuple(one.name for one in properties if "ComputedDefaultValue" in one.said or one.computed)
    return Described(
        found,
        TableShape(found.name, columns, key, foreign_keys=references, told_late=filled),
        {one.name: one.type for one in properties},
        "OptimisticConcurrency" in found.said,
        {one.name: one.default for one in properties if one.default is not None},
        tuple(one.name for one in properties if one.name in key or "Immutable" in one.said),
    )


def _column(one: Property, metadata: Metadata, *, is_key: bool) -> TargetColumn:
    kind = _type(one, metadata)
    has_default = one.default is not None or "ComputedDefaultValue" in one.said
    return TargetColumn(
        one.name,
        kind or ColumnType(Kind.TEXT, one.type),
        nullable=one.nullable and not is_key,
        has_default=has_default,
        generated=one.computed,
        foreign=kind is None,
    )


def _type(one: Property, metadata: Metadata) -> ColumnType | None:
    """The type of a property as the core knows types; None for those that rows can't bring."""
    word = one.type.removeprefix("Edm.")
    if one.type in metadata.enums:
        return ColumnType(Kind.TEXT, one.type.rpartition(".")[2], allowed=metadata.enums[one.type])
    if one.type == "Edm.String":
        return ColumnType(Kind.TEXT, _sized(word, one.length), length=one.length)
    if one.type in _RANGES:
        low, high = _RANGES[one.type]
        return ColumnType(Kind.INTEGER, word, minimum=low, maximum=high)
    if one.type == "Edm.Decimal":
        return _decimal(one)
    if one.type not in _KINDS:
        return None
    kind = _KINDS[one.type]
    digits = min(one.precision or 0, _MICROSECONDS) if kind in (Kind.TIME, Kind.TIMESTAMP) else None
    octets = one.length if kind is Kind.BINARY else None
    bits = 24 if one.type == "Edm.Single" else None
    zone = kind is Kind.TIMESTAMP
    return ColumnType(kind, _sized(word, one.length), octets=octets, precision=bits, scale=digits, zone=zone)


def _decimal(one: Property) -> ColumnType:
    """A decimal; without a scale it has none (CSDL XML, 7.2.4), and with a variable one any number of digits."""
    scale = 0 if one.scale is None else int(one.scale) if one.scale.isdigit() else None
    said = "" if one.precision is None else f"({one.precision}, {one.scale or 0})"
    if one.precision is None and scale is not None:
        return ColumnType(Kind.DECIMAL, "Decimal", precision=38, scale=scale)
    return ColumnType(Kind.DECIMAL, f"Decimal{said}", precision=one.precision, scale=scale)


def _sized(word: str, size: int | None) -> str:
    return word if size is None else f"{word}({size})"
