"""`$metadata` as JSON (OData CSDL JSON 4.01)."""

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from tidymerge.errors import TargetUnreadable
from tidymerge.services.odata.metadata import (
    VARIABLE,
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


def parsed(text: bytes, version: str) -> Metadata:
    """The metadata of a JSON document. Raises TargetUnreadable."""
    try:
        whole = msgspec.json.decode(text)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise TargetUnreadable(f"The service's $metadata is not JSON: {error}.") from None
    if not isinstance(whole, dict) or "$Version" not in whole:
        raise TargetUnreadable("The service's $metadata is not an OData document: it has no $Version.")
    found = Metadata(str(whole.get("$Version") or version))
    spaces = {name: one for name, one in whole.items() if not name.startswith("$") and isinstance(one, dict)}
    aliases = {str(one["$Alias"]): name for name, one in spaces.items() if "$Alias" in one}
    for uses in whole.get("$Reference", {}).values():
        aliases |= {str(one["$Alias"]): str(one["$Namespace"]) for one in uses.get("$Include", []) if "$Alias" in one}
    for space, schema in spaces.items():
        for name, one in _members(schema):
            _read(f"{space}.{name}", one, found, aliases)
    for schema in spaces.values():
        for target, said in schema.get("$Annotations", {}).items():
            found.annotate(target, _said(said, aliases), aliases)
    return found


def _members(one: Mapping[str, Any]) -> Iterator[tuple[str, dict[str, Any]]]:
    return ((name, each) for name, each in one.items() if _is_name(name) and isinstance(each, dict))


def _is_name(name: str) -> bool:
    """Whether a member is one of the model's, no keyword or annotation."""
    return not name.startswith(("$", "@")) and "@" not in name


def _read(name: str, one: dict[str, Any], found: Metadata, aliases: Mapping[str, str]) -> None:
    match one.get("$Kind"):
        case "EntityType" | "ComplexType":
            found.types[name] = _type(name, one, aliases)
        case "EnumType":
            found.enums[name] = () if one.get("$IsFlags") else tuple(filter(_is_name, one))
        case "TypeDefinition":
            found.named[name] = _property(name, {**one, "$Type": one.get("$UnderlyingType", "Edm.String")}, aliases)
        case "EntityContainer":
            found.said |= _said(one, aliases)
            for own, each in _members(one):
                if each.get("$Collection"):
                    bound = each.get("$NavigationPropertyBinding", {}).items()
                    binds = {path: str(to).rpartition("/")[2] for path, to in bound}
                    kind = full_name(str(each.get("$Type", "")), aliases)
                    found.sets[own] = EntitySet(own, kind, binds, _said(each, aliases))


def _type(name: str, one: dict[str, Any], aliases: Mapping[str, str]) -> EntityType:
    base = one.get("$BaseType")
    made = EntityType(name, full_name(base, aliases) if base else None)
    made.key = tuple(each for each in one.get("$Key", []) if isinstance(each, str))
    for own, each in _members(one):
        if each.get("$Kind") == "NavigationProperty":
            constraints = each.get("$ReferentialConstraint", {}).items()
            pairs = [(mine, theirs) for mine, theirs in constraints if _is_name(mine)]
            kind = full_name(str(each.get("$Type", "")), aliases)
            made.references.append(Reference(own, f"Collection({kind})" if each.get("$Collection") else kind, pairs))
        elif "$Kind" not in each:
            made.properties.append(_property(own, each, aliases))
    return made


def _property(name: str, one: dict[str, Any], aliases: Mapping[str, str]) -> Property:
    kind = full_name(str(one.get("$Type", "Edm.String")), aliases)
    # In JSON a scale that is left out is variable; in XML it is 0 (CSDL JSON, 7.2.4).
    return Property(
        name,
        f"Collection({kind})" if one.get("$Collection") else kind,
        bool(one.get("$Nullable", False)),
        number(one.get("$MaxLength")),
        number(one.get("$Precision")),
        str(one.get("$Scale", VARIABLE)),
        None if one.get("$DefaultValue") is None else str(one["$DefaultValue"]),
        _said(one, aliases),
    )


def _said(one: Mapping[str, Any], aliases: Mapping[str, str]) -> set[str]:
    return told(term(name[1:], aliases, value=value) for name, value in one.items() if name.startswith("@"))
