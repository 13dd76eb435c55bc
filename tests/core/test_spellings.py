"""The values of a column, and which of them are probably one."""

import json
import tomllib
from collections import Counter
from pathlib import Path

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from chance import PROPERTY
from conftest import text_file
from tidymerge.core.infer.spellings import as_map, values_of

VALUES = [
    *("red",) * 5,
    "Red",
    "RED ",
    "r.e.d",
    "réd",
    *("white",) * 3,
    "W",
    "green",
    "grey",
    "g",
    "",
    None,
    "blue",
    "blues",
]


def grouped(values):
    return {one.value: ([other.value for other in one.others], one.why) for one in values.spellings}


def test_spellings_are_told_by_case_spaces_accents_signs_and_short_forms():
    found = values_of("Queen", pa.array(VALUES), words=True)
    assert grouped(found) == {
        "red": (["RED ", "Red", "r.e.d", "réd"], "spaces, letter case, punctuation, accents"),
        "white": (["W"], "a short form"),  # g may be green or grey, and blue is a word by itself
    }
    assert (found.rows, found.blanks, found.values[0].rows) == (len(VALUES), 1, 5)
    assert values_of("n", pa.array(["1.0", "10"]), words=False).spellings == ()


@settings(PROPERTY)
@given(
    values=st.lists(st.one_of(st.sampled_from(VALUES), st.text(max_size=4)), max_size=20),
    column=st.text(min_size=1, max_size=5),
)
def test_the_value_map_is_toml_and_leaves_one_spelling_of_each(values, column):
    found = values_of(column, pa.array(values, pa.string()), words=True)
    assert Counter({one.value: one.rows for one in found.values}) == Counter(v for v in values if v is not None)
    told = as_map(found)
    if told is None:
        assert found.spellings == ()
        return
    ((name, rule),) = tomllib.loads(told).items()
    assert (name, rule["from"], rule["otherwise"]) == (column, column, "keep")
    mapped = [rule["values"].get(value, value) for value in values if value is not None]
    assert not set(rule["values"]) & set(rule["values"].values())
    assert values_of(column, pa.array(mapped, pa.string()), words=True).spellings == ()


@pytest.mark.parametrize("address", ["rows.csv", "rows.parquet", "coop.db#hives"])
def test_look_shows_the_values_of_one_column(run, folder, hives, address):
    text_file(folder / "rows.csv", [["Queen", "Kg"], ["red", 1], ["Red", 2], ["red", 3], ["white", 4], ["", 5]])
    run("load", "rows.csv", "--into", "rows.parquet", "--create", "--key", "Kg", "--yes")
    run("load", "rows.csv", "--into", "coop.db#queens", "--create", "--key", "Kg", "--yes")
    place = address.replace("#hives", "#queens")
    found = json.loads(run("look", place, "--values", "queen", "--where", "kg > 1", "--json").out)
    assert (found["format"], found["rows"], found["blanks"]) == ("tidymerge-values/1", 4, 1)
    assert [(one["value"], one["rows"]) for one in found["values"]] == [("Red", 1), ("red", 1), ("white", 1)]
    shown = run("look", place, "--values", "queen", "--chart", "v.png")
    assert ("Probably one value" in shown.out, Path("v.png").read_bytes()[:4]) == (True, b"\x89PNG"), shown.err
    assert '"Red" = "red"' in shown.out
    for arguments in (["--values", "nothing"], ["--where", "kg > 1"], ["--values", "queen", "--where", "nothing > 1"]):
        assert run("look", place, *arguments).status == 2
    assert json.loads(run("look", place, "--json").out)["format"] == "tidymerge-look/1"
