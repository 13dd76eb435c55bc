"""What a draft proposes: what the rows settle is settled, what they do not is asked, and nothing is guessed."""

import numpy as np
import pyarrow as pa
import pytest

from tidymerge.core.infer.fits import fits
from tidymerge.core.infer.propose import propose, unmatched_columns
from tidymerge.formats.table import arrays_of
from tidymerge.model import ColumnType, ForeignKey, Incoming, IncomingColumn, Kind, TableShape, TargetColumn

TYPES = {
    "k": ColumnType(Kind.TEXT, "TEXT"),
    "colour": ColumnType(Kind.TEXT, "TEXT"),
    "kg": ColumnType(Kind.DECIMAL, "DECIMAL(8,2)", precision=8, scale=2),
    "seen": ColumnType(Kind.DATE, "DATE"),
    "keeper": ColumnType(Kind.INTEGER, "INTEGER"),
}
KEEPERS = TableShape(
    "keepers",
    (TargetColumn("id", ColumnType(Kind.INTEGER, "INTEGER")), TargetColumn("email", ColumnType(Kind.TEXT, "TEXT"))),
    primary_key=("id",),
    unique=(("email",),),
)
SHAPE = TableShape(
    "hives",
    (*(TargetColumn(name, kind) for name, kind in TYPES.items()), TargetColumn("twice", TYPES["kg"], generated=True)),
    primary_key=("k",),
    foreign_keys=(ForeignKey(("keeper",), "keepers", ("id",)),),
)
EXISTING = pa.table({"k": list("abcdef"), "colour": ["white", "yellow", "red"] * 2})
PARENTS = {"keepers": (KEEPERS, pa.table({"id": [1, 2], "email": ["alma@example.org", "jonas@example.org"]}))}


def proposed(**columns):
    """The proposals for a sheet with these columns, by target column, and the sheet."""
    count = len(next(iter(columns.values())))
    parts = tuple(IncomingColumn(name, arrays_of(cells)) for name, cells in columns.items())
    sheet = Incoming("in.csv", parts, np.arange(count) + 2, 1)
    found = propose(sheet, SHAPE, EXISTING, PARENTS)
    assert [proposal.target for proposal in found] == list(TYPES)  # all but the generated column, in order
    return {proposal.target: proposal for proposal in found}, sheet


@pytest.mark.parametrize(
    ("cells", "rule", "is_open"),
    [
        (["2026-05-01", "2026-12-31"], {}, False),
        (["31/05/2026", "01/06/2026"], {"date_format": "%d/%m/%Y"}, False),
        (["05/31/2026", "06/01/2026"], {"date_format": "%m/%d/%Y"}, False),
        (["01/05/2026", "02/06/2026"], {}, True),
        (["31.5.26", ""], {"date_format": "%d.%m.%y"}, False),
        (["4 May 2026", "12 June 2026"], {"date_format": "%d %B %Y"}, False),
        (["31/05/2026", "2026-05-01"], {"date_format": ["%Y-%m-%d", "%d/%m/%Y"]}, False),
        ([*(f"2026-05-{day:02}" for day in range(1, 29)), "06/05/2026"], {}, True),
        ([*(f"{day}/05/2026" for day in range(1, 29)), "31/02/2026"], {"date_format": "%d/%m/%Y"}, True),
        ([*(f"{day}/05/2026" for day in range(1, 20)), "soon", "later", "never"], {}, True),
        (["31/05/2026", "05/31/2026"], {}, True),
        (["yesterday", ""], {}, True),
    ],
)
def test_a_date_format_only_where_the_rows_allow_just_one(cells, rule, is_open):
    found, _ = proposed(K=[f"k{at}" for at in range(len(cells))], Seen=cells)
    assert found["seen"].rule == {"from": "Seen", **rule}
    assert found["seen"].open is is_open
    formats = [line for line in found["seen"].comments if "date_format" in line]
    ambiguous = is_open and not rule and ("01/05/2026" in cells or "06/05/2026" in cells)
    assert bool(formats) == ambiguous
    if len(cells) > 20:  # the odd ones are named
        assert repr(cells[-1]) in " ".join(found["seen"].comments)
    if "06/05/2026" in cells:  # and what the others have is not lost by a format for them
        assert all('["%Y-%m-%d", ' in line for line in formats)


def test_both_readings_of_an_ambiguous_date_stand_there_to_choose():
    found, _ = proposed(K=["a", "b"], Seen=["01/05/2026", "02/06/2026"])
    lines = "\n".join(found["seen"].comments)
    assert 'date_format = "%d/%m/%Y"' in lines
    assert 'date_format = "%m/%d/%Y"' in lines


@pytest.mark.parametrize(
    ("cells", "rule", "is_open"),
    [
        (["1.5", "2"], {}, False),
        (["1,5", "2,25"], {"decimal_mark": ","}, False),
        (["1,500", "2,250"], {}, True),
        (["1,5", "1,500"], {"decimal_mark": ","}, False),
        (["about", "2"], {}, False),
        ([1.5, 2.0], {}, False),
        (["12 %", "7,5%"], {"percent": True, "decimal_mark": ","}, True),
        (["€ 12.50", "EUR 3"], {"currency": "EUR €"}, True),
        (["12,50 kr", "3"], {"currency": "kr", "decimal_mark": ","}, True),
        (["12 apples", "3"], {}, False),
    ],
)
def test_a_decimal_comma_is_told_from_groups_of_digits(cells, rule, is_open):
    found, _ = proposed(K=["a", "b"], KG=cells)
    assert (found["kg"].rule, found["kg"].open) == ({"from": "KG", **rule}, is_open)


@pytest.mark.parametrize(
    ("cells", "values", "is_open"),
    [
        (["white", "red"], None, False),
        (["White", "RED"], {"White": "white", "RED": "red"}, False),
        (["Y", "white"], {"Y": "yellow"}, True),
        (["purple", "white"], None, True),
        (["White", "purple"], {"White": "white"}, True),
    ],
)
def test_spellings_are_mapped_to_what_the_table_has(cells, values, is_open):
    found, _ = proposed(K=["a", "b"], Colour=cells)
    rule = found["colour"].rule
    assert rule.get("values") == values
    assert rule.get("otherwise") == (None if values is None else "keep")
    assert found["colour"].open is is_open
    if values or is_open:
        assert "red, white, yellow" in found["colour"].comments[0]


@pytest.mark.parametrize(
    ("name", "cells", "is_look_up"),
    [
        ("Warden", ["alma@example.org", "jonas@example.org"], True),
        ("Keeper", ["alma@example.org", "nobody@example.org"], True),
        ("Keeper", ["1", "2"], False),
        ("Warden", ["Alma", "Jonas"], None),
        ("Warden", ["", ""], None),
    ],
)
def test_a_look_up_where_names_stand_for_ids(name, cells, is_look_up):
    found, sheet = proposed(K=["a", "b"], **{name: cells})
    rule = found["keeper"].rule
    if is_look_up is None:
        assert rule is None
        assert unmatched_columns(sheet, list(found.values())) == [name]
    else:
        assert rule["from"] == name
        assert rule.get("find") == ({"in": "keepers", "where": "email", "take": "id"} if is_look_up else None)


def test_columns_that_could_be_either_are_not_chosen():
    found, sheet = proposed(K=["a"], kg=["1"], **{"KG ": ["2"]})
    assert found["kg"].rule is None
    assert "Choose one" in found["kg"].comments[0]
    assert unmatched_columns(sheet, list(found.values())) == ["kg", "KG "]
    assert found["colour"].comments == ("No incoming column fits colour.",)


HELD = pa.table({"id": [1, 2, 3, 4], "email": ["a@x", "b@x", "c@x", "d@x"]})
PEOPLE = TableShape(
    "keepers",
    (*KEEPERS.columns, TargetColumn("home_town", TYPES["colour"]), TargetColumn("joined", TYPES["seen"])),
    primary_key=("id",),
    unique=(("email",),),
)


@pytest.mark.parametrize(
    ("columns", "found"),
    [
        ({"Keeper email": ["z@x"]}, {"email": "Keeper email"}),  # words for the table's records don't count
        ({"Home": ["Ulm"], "E-mail": ["a@x"]}, {"home_town": "Home"}),
        ({"Home": ["Ulm"], "Home town 2": ["Bonn"]}, {}),  # which of them?
        ({"Id no.": ["x", "y"]}, {}),  # texts are no numbers
        (
            {"A": ["b@x", "c@x", "c@x"], "B": ["Bonn", "Ulm", "Ulm"]},
            {"email": "A", "home_town": "B"},
        ),  # by what they hold
        ({"A": ["b@x", "c@x"], "B": ["b@x", "c@x"]}, {}),
        ({"A": [1, 2], "B": [3, 4]}, {}),  # numbers fit by accident
        ({"A": ["b@x"]}, {}),
        ({"Email": ["a@x"], "When": ["2026-05-01"]}, {}),  # new records need no date
    ],
)
def test_columns_that_are_called_otherwise_are_proposed_where_just_one_fits(columns, found):
    held = HELD.append_column("home_town", pa.array(["Kiel", "Bonn", "Ulm", "Ulm"]))
    parts = tuple(IncomingColumn(name, arrays_of(cells)) for name, cells in columns.items())
    sheet = Incoming("in.csv", parts, np.arange(len(parts[0].arrays[0])) + 2, 1)
    assert {column: fit.source for column, fit in fits(sheet, PEOPLE, held).items()} == found
