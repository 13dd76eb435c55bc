"""What a service says of itself in `$metadata`, whichever of the two forms of CSDL it comes in.

Rules: OData CSDL XML 4.01 and CSDL JSON 4.01; terms of the vocabularies Org.OData.Core.V1 and Capabilities.V1.
"""

from collections.abc import Iterable, Mapping

from msgspec import Struct, field

from tidymerge.errors import TargetUnreadable

VARIABLE = "variable"  # a scale that is not fixed
_CORE, _CAPABILITIES = "Org.OData.Core.V1.", "Org.OData.Capabilities.V1."


class Property(Struct):
    """A structural property: its type's full name, its facets, and the annotations that say who gives it values."""

    name: str
    type: str
    nullable: bool = True
    length: int | None = None
    precision: int | None = None
    scale: str | None = None
    default: str | None = None
    said: set[str] = field(default_factory=set)

    @property
    def computed(self) -> bool:
        """Whether no client may give it."""
        return bool({"Computed", "ReadOnly"} & self.said)


class Reference(Struct):
    """A navigation property to one record: by which properties it refers to which of the other type."""

    name: str
    type: str
    constraints: list[tuple[str, str]] = field(default_factory=list)


class EntityType(Struct):
    """The type of a set's records; `base` has further properties, and perhaps the key."""

    name: str
    base: str | None = None
    key: tuple[str, ...] = ()
    properties: list[Property] = field(default_factory=list)
    references: list[Reference] = field(default_factory=list)


class EntitySet(Struct):
    """A list of records; `bindings` say to which set a navigation property leads. What is `said` are annotations."""

    name: str
    type: str
    bindings: dict[str, str] = field(default_factory=dict)
    said: set[str] = field(default_factory=set)


class Metadata(Struct):
    """All of it. `enums` have their members, `named` are names for other types with facets of their own."""

    version: str
    sets: dict[str, EntitySet] = field(default_factory=dict)
    types: dict[str, EntityType] = field(default_factory=dict)
    enums: dict[str, tuple[str, ...]] = field(default_factory=dict)
    named: dict[str, Property] = field(default_factory=dict)
    said: set[str] = field(default_factory=set)

    def annotate(self, target: str, said: set[str], aliases: Mapping[str, str]) -> None:
        """Add annotations that stand apart from what they are about: a property, a set, or the container."""
        head, _, rest = target.partition("/")
        name = full_name(head, aliases)
        if name in self.types and rest:
            for one in self.types[name].properties:
                if one.name == rest:
                    one.said |= said
        elif rest in self.sets:
            self.sets[rest].said |= said
        elif not rest and name not in self.types:
            self.said |= said

    def line(self, name: str) -> list[EntityType]:
        """A type and those that it is based on, the first of them first. Raises TargetUnreadable."""
        found: list[EntityType] = []
        at: str | None = name
        while at is not None:
            if at not in self.types or len(found) > len(self.types):
                raise TargetUnreadable(f"The service's $metadata names a type {at} that it does not have.")
            found.insert(0, self.types[at])
            at = self.types[at].base
        return found

    def of_type(self, one: Property) -> Property:
        """The property with the type that its own name for a type stands for."""
        seen = 0
        while one.type in self.named and seen < len(self.named):
            stands = self.named[one.type]
            one = Property(
                one.name, stands.type, one.nullable, one.length if one.length is not None else stands.length,
                one.precision if one.precision is not None else stands.precision, one.scale or stands.scale,
                one.default, one.said,
            )  # fmt: skip
            seen += 1
        return one


def parsed(text: bytes, content_type: str, version: str) -> Metadata:
    """The metadata in either form. Raises TargetUnreadable."""
    from tidymerge.services.odata import csdl_json, csdl_xml  # late: a service speaks one of them

    begins = text.lstrip(b"\xef\xbb\xbf \r\n\t")[:1]
    if begins == b"{" or "json" in content_type:
        return csdl_json.parsed(text, version)
    return csdl_xml.parsed(text, version)


def full_name(name: str, aliases: Mapping[str, str]) -> str:
    """A name with its namespace, where it is written by an alias for that."""
    space, _, own = name.rpartition(".")
    return f"{aliases[space]}.{own}" if space in aliases else name


def term(name: str, aliases: Mapping[str, str], *, value: object = True) -> str | None:
    """What an annotation says, in one word of ours; None for terms that do not concern us, or that say no.

    A term is written by its namespace or by an alias for it.
    """
    full = full_name(name, aliases).partition("#")[0]
    own = full.rpartition(".")[2]
    if full == f"{_CORE}Permissions":
        return "ReadOnly" if str(value).rpartition("/")[2] in ("Read", "1", "None") else None
    if full == f"{_CORE}OptimisticConcurrency":
        return "OptimisticConcurrency"
    if full == f"{_CAPABILITIES}BatchSupported":
        return None if value is not False else "NoBatches"
    known = {f"{_CORE}{word}" for word in ("Computed", "ComputedDefaultValue", "Immutable")}
    return own if full in known and value is not False else None


def told(words: Iterable[str | None]) -> set[str]:
    """The annotations that say something."""
    return {word for word in words if word is not None}


def number(text: object) -> int | None:
    """A facet that is a number; None for `max` and the like."""
    try:
        return int(str(text))
    except ValueError:
        return None
