"""What is printed for programs is of the form that its schema says, and the schema says something."""

import json
import tomllib

import pytest
from jsonschema import Draft202012Validator

RULE = ("--would-hold", "keeper_id refers to keepers.keeper_id", "--would-hold", "colony_strength > 10")
PRINTED = {
    "receipt": [
        ("load", "--job", "week.toml", "--json"),
        ("load", "--job", "week.toml", "--yes", "--json"),
        ("preview", "--job", "season.toml", "--json"),
        ("preview", "nothing.csv", "--into", "coop.db#hives", "--json"),
        ("change", "coop.db#hives", "--set", "notes='x'", "--where", "hive_no = 1", "--yes", "--json"),
        ("load", "--job", "week.toml", "--most-rejected", "0", "--json"),
        ("undo", "last", "--preview", "--json"),
        ("load", "--nonsense", "--json"),
    ],
    "runs": [("runs", "--json"), ("runs", "--record", "101", "--record", "1", "--json")],
    "draft": [
        ("draft", "week32.xlsx#Inspections", "--into", "coop.db#hives", "--out", "new.toml", "--json"),
        ("draft", "week32.xlsx#Inspections", "--into", "coop.db#hives", "--out", "new.toml", "--json"),
        ("draft", "season.xlsx", "--into", "coop.db", "--out", "all.toml", "--json"),
    ],
    "look": [
        ("look", "week32.xlsx", "--json"),
        ("look", "week32.xlsx#Inspections", "--json"),
        ("look", "coop.db", "--json"),
        ("look", "coop.db#hives", "--json"),
        ("look", "week32.xlsx#Inspections", "--values", "Queen colour", "--json"),
        ("look", "coop.db#hives", *RULE, "--json"),
        ("look", "coop.db#hives", "--since", "last", "--json"),
        ("look", "coop.db#hives", "--against", "week32.xlsx#Inspections", "--json"),
    ],
}


def _validator(run, name):
    schema = json.loads(run("schema", name).out)
    Draft202012Validator.check_schema(schema)
    return Draft202012Validator(schema)


@pytest.fixture
def demo(run):
    assert run("demo", "--fresh", ".").status == 0
    assert run("load", "--job", "week.toml", "--yes").status == 3


def test_what_is_printed_is_what_the_schema_says(run, demo):
    for name, commands in PRINTED.items():
        validator = _validator(run, name)
        for words in commands:
            printed = json.loads(run(*words).out)
            assert not list(validator.iter_errors(printed)), words
            for key in printed.keys() - {"map", "error"}:
                less = {other: value for other, value in printed.items() if other != key}
                wrong = {**printed, key: {"of another form": 4.5}}
                needed = key in ("format", "state", "rows", "profile", "tables", "runs", "changes", "rules", "job")
                assert not needed or not validator.is_valid(less), (words, key)
                assert not validator.is_valid(wrong), (words, key)


def test_what_is_kept_is_what_the_schema_says(run, demo, folder, home):
    entries = sorted(home.rglob("*.json"))
    validator = _validator(run, "log")
    assert entries
    for entry in entries:
        assert not list(validator.iter_errors(json.loads(entry.read_text("utf-8")))), entry
    assert run("receipt", "last", "--changes", "changes.jsonl").status in (0, 3)
    lines = (folder / "changes.jsonl").read_text("utf-8").splitlines()
    validator = _validator(run, "changes")
    assert lines
    for line in lines:
        assert not list(validator.iter_errors(json.loads(line)))
    assert not validator.is_valid({**json.loads(lines[0]), "outcome": "lost"})


def test_job_files_are_what_the_schema_says(run, demo, folder):
    validator = _validator(run, "job")
    for name in ("week.toml", "season.toml"):
        job = tomllib.loads((folder / name).read_text("utf-8"))
        assert not list(validator.iter_errors(job)), name
        assert not validator.is_valid({**job, "rulse": {}})
    assert run("schema", "jobs").status == 2
