"""What the stand-in says of itself: its `$metadata` as CSDL XML (OData CSDL XML 4.01)."""

from collections.abc import Mapping
from xml.sax.saxutils import quoteattr

from tidymerge.demo.lists.store import EntitySet
from tidymerge.demo.lists.types import Property

NAMESPACE = "Coop"


def metadata(sets: Mapping[str, EntitySet], version: str, *, etags: bool) -> str:
    """The whole document."""
    types = "".join(_type(one, sets) for one in sets.values())
    members = "".join(_member(one, sets, etags=etags) for one in sets.values())
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="{version}"><edmx:DataServices>'
        f'<Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="{NAMESPACE}">{types}'
        f'<EntityContainer Name="Lists">{members}</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>'
    )


def _type(one: EntitySet, sets: Mapping[str, EntitySet]) -> str:
    keys = "".join(f"<PropertyRef Name={quoteattr(name)}/>" for name in one.key)
    properties = "".join(map(_property, one.properties.values()))
    references = "".join(
        f'<NavigationProperty Name="to_{at}" Type="{NAMESPACE}.{reference.set}">'
        + "".join(
            f"<ReferentialConstraint Property={quoteattr(own)} ReferencedProperty={quoteattr(other)}/>"
            for own, other in zip(reference.columns, reference.referred, strict=True)
        )
        + "</NavigationProperty>"
        for at, reference in enumerate(one.references)
        if reference.set in sets
    )
    return f"<EntityType Name={quoteattr(one.name)}><Key>{keys}</Key>{properties}{references}</EntityType>"


def _property(one: Property) -> str:
    facets = {"Nullable": "true" if one.nullable else "false"}
    for name, value in (("MaxLength", one.length), ("Precision", one.precision), ("Scale", one.scale)):
        if value is not None:
            facets[name] = str(value)
    if one.default is not None:
        facets["DefaultValue"] = one.default
    marks = {"Computed": one.computed, "ComputedDefaultValue": one.filled}
    inside = "".join(f'<Annotation Term="Org.OData.Core.V1.{term}"/>' for term, on in marks.items() if on)
    said = " ".join(f"{name}={quoteattr(value)}" for name, value in facets.items())
    return f'<Property Name={quoteattr(one.name)} Type="Edm.{one.type}" {said}>{inside}</Property>'


def _member(one: EntitySet, sets: Mapping[str, EntitySet], *, etags: bool) -> str:
    binds = "".join(
        f'<NavigationPropertyBinding Path="to_{at}" Target={quoteattr(reference.set)}/>'
        for at, reference in enumerate(one.references)
        if reference.set in sets
    )
    guarded = '<Annotation Term="Org.OData.Core.V1.OptimisticConcurrency"><Collection/></Annotation>' if etags else ""
    return f'<EntitySet Name={quoteattr(one.name)} EntityType="{NAMESPACE}.{one.name}">{binds}{guarded}</EntitySet>'
