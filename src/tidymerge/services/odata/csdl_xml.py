"""`$metadata` as XML. A document type is refused, as it could name other files or grow without end."""

from collections.abc import Iterator, Mapping
from typing import Any
from xml.etree import ElementTree as ET

from tidymerge.errors import TargetUnreadable
from tidymerge.services.odata.metadata import (
    EntitySet,
    EntityType,
    Metadata,
    Property,
    Reference,
    full_name,
    number,
    term,
    told,
)

Element = ET.Element


class _Builder(ET.TreeBuilder):
    """Builds the tree of a document that has no document type."""

    def doctype(self, *_: object) -> None:
        """Refuse it before anything in it is looked at."""
        raise TargetUnreadable("The service's $metadata has a document type (<!DOCTYPE), which is not read for safety.")


def parsed(text: bytes, version: str) -> Metadata:
    """The metadata of an XML document. Raises TargetUnreadable."""
    parser = ET.XMLParser(target=_Builder())  # noqa: S314 - it refuses what makes XML unsafe
    try:
        parser.feed(text)
        root = parser.close()
    except ET.ParseError as error:
        raise TargetUnreadable(f"The service's $metadata is not XML: {error}.") from None
    if _tag(root) != "Edmx":
        raise TargetUnreadable(f"The service's $metadata is not an OData document: it begins with <{_tag(root)}>.")
    found = Metadata(root.get("Version") or version)
    schemas = [one for one in root.iter() if _tag(one) == "Schema"]
    aliases = {one.get("Alias", ""): one.get("Namespace", "") for one in root.iter() if one.get("Alias")}
    for schema in schemas:
        _read(schema, found, aliases)
    for schema in schemas:
        for one in _children(schema, "Annotations"):
            found.annotate(one.get("Target") or "", _said(one, aliases), aliases)
    return found


def _tag(one: Element) -> str:
    return one.tag.rpartition("}")[2]


def _children(one: Element, *tags: str) -> Iterator[Element]:
    return (child for child in one if _tag(child) in tags)


def _read(schema: Element, found: Metadata, aliases: Mapping[str, str]) -> None:
    space = schema.get("Namespace") or ""
    for one in _children(schema, "EntityType", "ComplexType"):
        made = _type(one, space, aliases)
        found.types[made.name] = made
    for one in _children(schema, "EnumType"):
        flags = one.get("IsFlags") == "true"  # several members at once are one text
        members = () if flags else tuple(member.get("Name") or "" for member in _children(one, "Member"))
        found.enums[f"{space}.{one.get('Name')}"] = members
    for one in _children(schema, "TypeDefinition"):
        made_of = _property(one, aliases, one.get("UnderlyingType") or "")
        found.named[f"{space}.{one.get('Name')}"] = made_of
    for container in _children(schema, "EntityContainer"):
        found.said |= _said(container, aliases)
        for one in _children(container, "EntitySet"):
            binds = {
                bind.get("Path") or "": (bind.get("Target") or "").rpartition("/")[2]
                for bind in _children(one, "NavigationPropertyBinding")
            }
            name, kind = one.get("Name") or "", full_name(one.get("EntityType") or "", aliases)
            found.sets[name] = EntitySet(name, kind, binds, _said(one, aliases))


def _type(one: Element, space: str, aliases: Mapping[str, str]) -> EntityType:
    base = one.get("BaseType")
    made = EntityType(f"{space}.{one.get('Name')}", full_name(base, aliases) if base else None)
    for key in _children(one, "Key"):
        made.key = tuple(each.get("Name") or "" for each in _children(key, "PropertyRef"))
    made.properties = [_property(each, aliases, each.get("Type") or "") for each in _children(one, "Property")]
    for each in _children(one, "NavigationProperty"):
        pairs = [
            (pair.get("Property") or "", pair.get("ReferencedProperty") or "")
            for pair in _children(each, "ReferentialConstraint")
        ]
        made.references.append(Reference(each.get("Name") or "", full_name(each.get("Type") or "", aliases), pairs))
    return made


def _property(one: Element, aliases: Mapping[str, str], kind: str) -> Property:
    return Property(
        one.get("Name") or "",
        full_name(kind, aliases),
        one.get("Nullable") != "false",
        number(one.get("MaxLength")),
        number(one.get("Precision")),
        one.get("Scale"),
        one.get("DefaultValue"),
        _said(one, aliases),
    )


def _said(one: Element, aliases: Mapping[str, str]) -> set[str]:
    return told(
        term(each.get("Term") or "", aliases, value=_value(each))
        for each in _children(one, "Annotation")
        if not each.get("Qualifier")
    )


def _value(one: Element) -> Any:
    """What an annotation says, as far as it is a constant."""
    text = one.get("Bool") or one.get("EnumMember")
    for inner in _children(one, "Bool", "EnumMember"):
        text = inner.text
    return False if text is not None and text.strip() == "false" else text if text is not None else True
