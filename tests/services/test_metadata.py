"""What a service says of itself: both forms of CSDL tell the same, and large or odd ones are read, too."""

import json

import pytest

from tidymerge.errors import NoSuchTable, NotATable, TargetUnreadable
from tidymerge.model import Kind
from tidymerge.services.odata.describe import described
from tidymerge.services.odata.metadata import parsed

XML = """<?xml version="1.0"?><edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.01">
<edmx:Reference Uri="https://example.org/core"><edmx:Include Namespace="Org.OData.Core.V1" Alias="Core"/></edmx:Reference>
<edmx:DataServices><Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="Coop.Own" Alias="C">
<EnumType Name="Colour"><Member Name="white"/><Member Name="blue"/></EnumType><EnumType Name="Marks" IsFlags="true"><Member Name="a"/></EnumType>
<TypeDefinition Name="Weight" UnderlyingType="Edm.Decimal" Precision="8" Scale="2"/><ComplexType Name="Place"/>
<EntityType Name="Thing" Abstract="true"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32" Nullable="false"><Annotation Term="Core.Computed"/></Property></EntityType>
<EntityType Name="Hive" BaseType="C.Thing"><Property Name="code" Type="Edm.String" MaxLength="9" Nullable="false"/><Property Name="queen" Type="C.Colour"/><Property Name="marks" Type="Coop.Own.Marks"/>
<Property Name="kg" Type="C.Weight"/><Property Name="any" Type="Edm.Decimal" Scale="variable"/><Property Name="place" Type="C.Place"/><Property Name="tags" Type="Collection(Edm.String)"/>
<Property Name="at" Type="Edm.DateTimeOffset" Precision="3"/><Property Name="no" Type="Edm.Byte" DefaultValue="7"/><Property Name="keeper" Type="Edm.Int32"/><Property Name="by" Type="Edm.String"/>
<NavigationProperty Name="kept" Type="C.Keeper"><ReferentialConstraint Property="keeper" ReferencedProperty="id"/></NavigationProperty></EntityType>
<EntityType Name="Keeper" BaseType="C.Thing"/><EntityType Name="Loose"><Property Name="x" Type="Edm.String"/></EntityType>
<EntityContainer Name="All"><EntitySet Name="Hives" EntityType="C.Hive"><NavigationPropertyBinding Path="kept" Target="Keepers"/></EntitySet>
<EntitySet Name="Keepers" EntityType="Coop.Own.Keeper"/><EntitySet Name="Loose" EntityType="C.Loose"/></EntityContainer>
<Annotations Target="C.Hive/by"><Annotation Term="Core.Immutable"/></Annotations>
<Annotations Target="C.All/Hives"><Annotation Term="Core.OptimisticConcurrency"><Collection/></Annotation></Annotations>
</Schema></edmx:DataServices></edmx:Edmx>"""
JSON = {
    "$Version": "4.01", "$Reference": {"https://example.org/core": {"$Include": [{"$Namespace": "Org.OData.Core.V1", "$Alias": "Core"}]}},
    "Coop.Own": {
        "$Alias": "C", "Colour": {"$Kind": "EnumType", "white": 0, "blue": 1}, "Marks": {"$Kind": "EnumType", "$IsFlags": True, "a": 1},
        "Weight": {"$Kind": "TypeDefinition", "$UnderlyingType": "Edm.Decimal", "$Precision": 8, "$Scale": 2}, "Place": {"$Kind": "ComplexType"},
        "Thing": {"$Kind": "EntityType", "$Abstract": True, "$Key": ["id"], "id": {"$Type": "Edm.Int32", "@Core.Computed": True}},
        "Hive": {
            "$Kind": "EntityType", "$BaseType": "C.Thing", "code": {"$MaxLength": 9}, "queen": {"$Type": "C.Colour", "$Nullable": True},
            "marks": {"$Type": "Coop.Own.Marks", "$Nullable": True}, "kg": {"$Type": "C.Weight", "$Nullable": True, "$Scale": 2},
            "any": {"$Type": "Edm.Decimal", "$Nullable": True}, "place": {"$Type": "C.Place", "$Nullable": True},
            "tags": {"$Collection": True, "$Nullable": True}, "at": {"$Type": "Edm.DateTimeOffset", "$Precision": 3, "$Nullable": True},
            "no": {"$Type": "Edm.Byte", "$DefaultValue": 7, "$Nullable": True}, "keeper": {"$Type": "Edm.Int32", "$Nullable": True}, "by": {"$Nullable": True},
            "kept": {"$Kind": "NavigationProperty", "$Type": "C.Keeper", "$ReferentialConstraint": {"keeper": "id"}},
        },
        "Keeper": {"$Kind": "EntityType", "$BaseType": "C.Thing"}, "Loose": {"$Kind": "EntityType", "x": {"$Nullable": True}},
        "All": {
            "$Kind": "EntityContainer", "Hives": {"$Collection": True, "$Type": "C.Hive", "$NavigationPropertyBinding": {"kept": "Keepers"}},
            "Keepers": {"$Collection": True, "$Type": "Coop.Own.Keeper"}, "Loose": {"$Collection": True, "$Type": "C.Loose"},
        },
        "$Annotations": {"C.Hive/by": {"@Core.Immutable": True}, "C.All/Hives": {"@Core.OptimisticConcurrency": []}},
    },
}  # fmt: skip
FORMS = pytest.mark.parametrize("text", [XML.encode(), json.dumps(JSON).encode()], ids=["xml", "json"])


@FORMS
def test_both_forms_tell_the_same(text):
    metadata = parsed(text, "", "4.0")
    about = described(metadata, "hives")
    shape = about.shape
    assert (shape.name, shape.primary_key, about.etags, about.fixed, about.defaults) == (
        "Hives",
        ("id",),
        True,
        ("id", "by"),
        {"no": "7"},
    )
    kinds = {column.name: (column.type.kind, column.nullable) for column in shape.columns if not column.foreign}
    assert kinds == {
        "id": (Kind.INTEGER, False), "code": (Kind.TEXT, False), "queen": (Kind.TEXT, True), "marks": (Kind.TEXT, True), "kg": (Kind.DECIMAL, True),
        "any": (Kind.DECIMAL, True), "at": (Kind.TIMESTAMP, True), "no": (Kind.INTEGER, True), "keeper": (Kind.INTEGER, True), "by": (Kind.TEXT, True),
    }  # fmt: skip
    assert [column.name for column in shape.columns if column.foreign] == ["place", "tags"]
    assert (shape.column("id").generated, shape.told_late, shape.column("code").type.length) == (True, ("id",), 9)
    assert (shape.column("queen").type.allowed, shape.column("marks").type.allowed) == (("white", "blue"), ())
    assert (shape.column("kg").type.precision, shape.column("kg").type.scale, shape.column("any").type.scale) == (
        8,
        2,
        None,
    )
    assert (shape.column("no").type.minimum, shape.column("no").type.maximum) == (0, 255)
    (reference,) = shape.foreign_keys
    assert (reference.columns, reference.table, reference.referred) == (("keeper",), "Keepers", ("id",))


@FORMS
def test_lists_that_are_not_there_or_have_no_key_are_said(text):
    metadata = parsed(text, "", "4.0")
    with pytest.raises(NoSuchTable, match="Hives, Keepers, Loose"):
        described(metadata, "apiaries")
    with pytest.raises(NotATable):
        described(metadata, "Loose")


def test_types_that_lead_nowhere_end_with_words():
    for broken in (
        XML.replace('BaseType="C.Thing"', 'BaseType="C.Nothing"'),
        XML.replace('Name="Thing"', 'Name="Thing" BaseType="C.Hive"'),
    ):
        with pytest.raises(TargetUnreadable):
            described(parsed(broken.encode(), "", "4.0"), "Hives")


def test_a_service_of_many_lists_with_many_properties_is_read():
    properties = "".join(f'<Property Name="p{at}" Type="Edm.String" MaxLength="{at + 1}"/>' for at in range(300))
    types = "".join(
        f'<EntityType Name="T{at}"><Key><PropertyRef Name="p0"/></Key>{properties}</EntityType>' for at in range(100)
    )
    sets = "".join(f'<EntitySet Name="L{at}" EntityType="Many.T{at}"/>' for at in range(100))
    head, tail = XML.partition("<Schema")[0], "</edmx:DataServices></edmx:Edmx>"
    body = f'<Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="Many">{types}<EntityContainer Name="A">{sets}</EntityContainer></Schema>'
    metadata = parsed((head + body + tail).encode(), "", "4.0")
    assert len(metadata.sets) == 100
    assert len(described(metadata, "L99").shape.columns) == 300
