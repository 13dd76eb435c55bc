"""Columns find each other by folded name; what is ambiguous is an error, never a guess."""

import pytest
from hypothesis import given

from chance import PROPERTY
from strategies import any_text
from tidymerge.core.naming.header import find_header, guess_header
from tidymerge.core.naming.mapping import fold, pair_columns
from tidymerge.errors import AmbiguousColumn, NoHeader, NoKey, NoSuchColumn, UnloadableColumn
from tidymerge.model import ColumnType, Kind, TableShape, TargetColumn
from tidymerge.model.rules import ColumnRule

TEXT = ColumnType(Kind.TEXT, "TEXT")
SHAPE = TableShape(
    "hives",
    (
        TargetColumn("apiary_code", TEXT),
        TargetColumn("hive_no", TEXT),
        TargetColumn("honey_kg", TEXT),
        TargetColumn("doubled", TEXT, generated=True),
    ),
    primary_key=("apiary_code", "hive_no"),
    unique=(("honey_kg",),),
)


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("Hive no.", "hive_no"), ("Honey (kg)", "HONEY-KG"), ("Ａｐｉａｒｙ", "apiary"), ("Straße", "STRASSE"), ("Код улья", "код_улья"),
        ("मधु (kg)", "मधु kg"), ("e\N{COMBINING ACUTE ACCENT}té", "ÉTÉ"),
    ],
)  # fmt: skip
def test_names_are_folded_in_every_script(one, other):
    assert fold(one) == fold(other)


@pytest.mark.parametrize(("one", "other"), [("honey", "hony"), ("%", "#"), ("मधु", "मधि"), ("a1", "a2"), ("", "%")])
def test_names_that_differ_stay_apart(one, other):
    assert fold(one) != fold(other)


@PROPERTY
@given(any_text(12))
def test_folding_twice_is_folding_once(name):
    assert fold(fold(name)) == fold(name)


def test_columns_are_paired_whatever_their_order():
    pairing = pair_columns(["Weather", "Honey KG", "Hive No", "Apiary-Code"], SHAPE)
    assert [(pair.target.name, pair.incoming) for pair in pairing.pairs] == [
        ("apiary_code", "Apiary-Code"),
        ("hive_no", "Hive No"),
        ("honey_kg", "Honey KG"),
    ]
    assert (pairing.key, pairing.not_loaded, pairing.left_alone) == (SHAPE.primary_key, ("Weather",), ("doubled",))


def test_a_rename_wins_over_a_name_that_fits():
    pairing = pair_columns(["apiary code", "hive no", "honey kg", "Net"], SHAPE, renames={"Honey KG": "net"})
    assert {pair.target.name: pair.incoming for pair in pairing.pairs}["honey_kg"] == "Net"
    assert pairing.not_loaded == ("honey kg",)


def test_a_job_names_all_that_is_loaded():
    rules = {"apiary_code": ColumnRule(sources=("a",)), "hive_no": ColumnRule(constant="1")}
    pairing = pair_columns(["A", "honey kg"], SHAPE, rules=rules, renames={"hive_no": "honey kg"})
    assert [(pair.target.name, pair.incoming) for pair in pairing.pairs] == [
        ("apiary_code", "A"),
        ("hive_no", "honey kg"),
    ]


@pytest.mark.parametrize(
    ("incoming", "options", "error", "words"),
    [
        (["apiary code", "Apiary_Code", "hive no"], {}, AmbiguousColumn, "'columns', 'apiary_code=apiary code'"),
        (["apiary code", "hive no"], {"key": ["bees"]}, NoSuchColumn, "it has apiary_code"),
        (["apiary code", "hive no"], {"key": ["doubled"]}, UnloadableColumn, "computed by the target"),
        (["apiary code", "hive no"], {"renames": {"doubled": "hive no"}}, UnloadableColumn, "computed by the target"),
        (["apiary code"], {}, NoKey, "apiary_code + hive_no; honey_kg"),
        (["apiary code", "honey kg"], {}, NoKey, "(('key', 'honey_kg'),)"),
        (["a", "a", "hive no"], {"renames": {"apiary_code": "a"}}, AmbiguousColumn, "several columns called 'a'"),
        (["hive no", "honey kg"], {"key": ["apiary code"]}, NoSuchColumn, "'columns', 'apiary_code=…'"),
    ],
)
def test_what_cannot_be_settled_is_said(incoming, options, error, words):
    with pytest.raises(error) as found:
        pair_columns(incoming, SHAPE, **options)
    assert words in f"{found.value} {found.value.give}"


HEAD = [
    ["Week 32"],
    ["", ""],
    ["", "Apiary code", "Note"],
    ["x", "hive_no", "Apiary code"],
    ["apiary code", "Hive no", ""],
]


def test_the_header_is_the_first_row_with_most_of_the_names():
    assert find_header(HEAD, ["apiary_code", "hive_no"]) == 3
    assert find_header(HEAD, ["Note"]) == 2
    with pytest.raises(NoHeader, match="first 5 rows"):
        find_header(HEAD, ["honey"])


def test_without_a_target_the_header_is_the_widest_row_of_different_texts():
    assert guess_header([["Title"], [], ["Code", "No", "Kg"], ["L01", "1", "2.5"], ["L01", "2", "2.5"]]) == 2
    assert guess_header([]) == 0
