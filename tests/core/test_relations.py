"""Tables and how they refer to each other: where each stands, and the picture of it."""

import json
import os
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from chance import PROPERTY
from tidymerge.core.explain.relations import Node, Relation, as_dot, as_mermaid, layers

NAMES = ["a", "b", "c", 'd "x"', "e\\n", "f"]
PAIRS = st.lists(st.tuples(st.sampled_from(NAMES), st.sampled_from([*NAMES, "elsewhere"])), max_size=10)


@settings(PROPERTY)
@given(pairs=PAIRS)
def test_every_table_stands_once_and_right_of_its_parents_unless_in_a_circle(pairs):
    nodes = [Node(name, 1, 1) for name in NAMES]
    found = layers(nodes, [Relation(child, ("x",), parent, ("y",)) for child, parent in pairs])
    assert sorted(name for layer in found for name in layer) == sorted(NAMES)
    depth = {name: at for at, layer in enumerate(found) for name in layer}
    reach = {name: {parent for child, parent in pairs if child == name} - {name} for name in NAMES}
    for _ in NAMES:
        for name in NAMES:
            reach[name] |= {far for near in reach[name] if near in reach for far in reach[near]}
    for child, parent in pairs:
        if child != parent and parent in depth and child not in reach[parent]:
            assert depth[parent] < depth[child]


def test_texts_are_quoted_whatever_the_names():
    nodes = [Node('odd "name"', 3, 2, ("k",)), Node("line\nend\\", 0, 1)]
    relations = [Relation("line\nend\\", ("a", "b"), 'odd "name"', ("k", "l"))]
    assert as_mermaid(nodes, relations) == (
        'erDiagram\n    "odd \'name\'"\n    "line\'end\\"\n    "odd \'name\'" ||--o{ "line\'end\\" : "a + b"\n'
    )
    assert '"odd \\"name\\"" [label="odd \\"name\\"\\n3 rows\\nkey: k"];' in as_dot(nodes, relations)
    assert '"odd \\"name\\"" -> "line?end\\\\" [label="a\\nb"];' in as_dot(nodes, relations)


@pytest.mark.parametrize("ending", ["png", "svg"])
def test_a_database_is_drawn_with_graphviz_and_without(run, folder, ending):
    with closing(sqlite3.connect("coop.db")) as connection:
        connection.executescript(
            "CREATE TABLE keepers (id INTEGER PRIMARY KEY, mentor INTEGER REFERENCES keepers (id));"
            "CREATE TABLE hives (code TEXT PRIMARY KEY, keeper INTEGER REFERENCES keepers (id)); INSERT INTO hives VALUES ('x', NULL)"
        )
    for path in (str(folder), os.environ["PATH"]):  # where nothing is, and where all is
        drawn = run("look", "coop.db", "--chart", f"r.{ending}", PATH=path)  # over our own one
        assert drawn.status == 0, drawn.err
        assert Path(f"r.{ending}").read_bytes()[:5] in (b"\x89PNG\r", b"<?xml")
    assert "keepers by keeper" in drawn.out
    found = json.loads(run("look", "coop.db", "--json").out)
    assert found["keys"] == {"hives": ["code"], "keepers": ["id"]}
    assert [(one["table"], one["columns"], one["other"]) for one in found["relations"]] == [
        ("hives", ["keeper"], "keepers"), ("keepers", ["mentor"], "keepers"),
    ]  # fmt: skip
    assert run("look", "coop.db", "--mermaid").out.startswith("erDiagram\n")
    Path(f"mine.{ending}").write_text("somebody's picture")
    for arguments in (
        ["coop.db", "--chart", f"mine.{ending}"],
        ["coop.db#hives", "--mermaid"],
        ["coop.db", "--where", "1 = 1"],
    ):
        assert run("look", *arguments).status == 2
