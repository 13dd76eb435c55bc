"""What is printed for programs is of the form that its schema says, and the schema says something."""

import json
import tomllib

from jsonschema import Draft202012Validator

RULES = ("--would-hold", "keeper_id refers to keepers.keeper_id", "--would-hold", "colony_strength > 10")
PRINTED = {
    "receipt": [
        ("load", "--job", "week.toml", "--yes"),
        ("preview", "--job", "season.toml"),
        ("preview", "nothing.csv", "--into", "coop.db#hives"),
        ("change", "coop.db#hives", "--set", "notes='x'", "--where", "hive_no = 1", "--yes"),
        ("load", "--job", "week.toml", "--most-rejected", "0"),
        ("undo", "last", "--preview"),
        ("load", "--nonsense"),
    ],
    "runs": [("runs",), ("runs", "--record", "101", "--record", "1")],
    "draft": [
        ("draft", "week32.xlsx#Inspections", "--into", "coop.db#hives", "--out", "new.toml"),
        ("draft", "season.xlsx", "--into", "coop.db", "--out", "all.toml"),
    ],
    "look": [
        ("look", "week32.xlsx"),
        ("look", "week32.xlsx#Inspections"),
        ("look", "coop.db"),
        ("look", "week32.xlsx#Inspections", "--values", "Queen colour"),
        ("look", "coop.db#hives", *RULES),
        ("look", "coop.db#hives", "--since", "last"),
        ("look", "coop.db#hives", "--against", "week32.xlsx#Inspections"),
    ],
}
PRINTED["comparison"] = [("compare", "coop.db#hives", "week32.xlsx#Inspections")]
NEEDED = {"records", "format", "state", "rows", "profile", "tables", "runs", "changes", "rules", "job"}


def test_what_is_printed_and_kept_is_what_the_schemas_say(run, folder, home):
    def validator(name):
        schema = json.loads(run("schema", name).out)
        Draft202012Validator.check_schema(schema)
        return Draft202012Validator(schema)

    def errors(name, document):
        return list(validators[name].iter_errors(document))

    validators = {
        name: validator(name) for name in ("job", "receipt", "runs", "draft", "look", "changes", "log", "comparison")
    }
    assert run("schema", "jobs").status == 2
    assert run("demo", "--fresh", ".").status == 0
    for name, commands in PRINTED.items():
        for words in commands:
            printed = json.loads(run(*words, "--json").out)
            assert not errors(name, printed), words
            for key in printed.keys() - {"map", "error"}:
                less = {other: value for other, value in printed.items() if other != key}
                assert key not in NEEDED or errors(name, less), (words, key)
                assert errors(name, {**printed, key: {"of another form": 4.5}}), (words, key)

    entries = sorted(home.rglob("*.json"))
    assert len(entries) > 2
    for entry in entries:
        assert not errors("log", json.loads(entry.read_text("utf-8"))), entry
    changed = next(entry.stem for entry in entries if '"changed"' in entry.read_text("utf-8"))
    assert run("receipt", changed, "--changes", "changes.jsonl").status == 0
    lines = [json.loads(line) for line in (folder / "changes.jsonl").read_text("utf-8").splitlines()]
    assert lines
    assert not any(errors("changes", line) for line in lines)
    assert errors("changes", {**lines[0], "outcome": "lost"})

    for name in ("week.toml", "season.toml"):
        job = tomllib.loads((folder / name).read_text("utf-8"))
        assert not errors("job", job), name
        assert errors("job", {**job, "rulse": {}})
