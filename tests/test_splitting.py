"""Large loads are divided by key and decided in parts; nobody may notice but by the memory used."""

import random

import pytest

from conftest import database, stored, text_file

SCHEMA = """CREATE TABLE t (apiary VARCHAR(8) COLLATE NOCASE, hive INTEGER, honey DECIMAL(8,2), notes TEXT,
    chip INTEGER UNIQUE, PRIMARY KEY (apiary, hive))"""
EXISTING = [(f"L{at % 40:02}", at, at / 4, f"note {at}", at) for at in range(600)]


def incoming_rows():
    """Rows of every kind, in no order: changed, equal, new, repeated, wrong, nearly equal, of an odd look."""
    rows = [
        [f"l{at % 40:02}" if at % 3 else f"L{at % 40:02}", at, f"{at / 4:.2f}", f"note {at}", at]
        for at in range(0, 600, 2)
    ]
    rows += [[f"L{at % 40:02}", at, "1.5", 'two "lines"\nin one', ""] for at in range(1, 200, 2)]
    rows += [[f"N{at % 7}", at, "2", "new", 1000 + at] for at in range(300)]
    rows += [
        ["N1", 1000, "2", "same", ""],
        ["n1", 1000, "2", "same", ""],
        ["N2", 1001, "2", "one", ""],
        ["n2", 1001, "2", "other", ""],
    ]
    rows += [
        ["", 5, "", "", ""],
        ["L01", "x", "", "", ""],
        ["N1", 77, "many", "", ""],
        ["N5", 2000, "", "", 3],
        ["L 02", 2, "", "", ""],
    ]
    rows = [[*row, ""] for row in rows] + [[f"L{at % 40:02}", at, "odd", "", "", "gone"] for at in range(201, 261, 2)]
    random.Random(4).shuffle(rows)
    nameless = [
        [*row, "x" if at == len(rows) - 1 else ""] for at, row in enumerate(rows)
    ]  # a column in the last rows only
    return [["Apiary", "Hive", "Honey", "Notes", "Chip", "Do", ""], *nameless]


@pytest.mark.parametrize("lookups", [False, True])
def test_a_load_in_parts_is_the_same_load(run, folder, monkeypatch, lookups):
    existing = EXISTING + [("Z", 10_000 + at, 0, "", None) for at in range(4000)] if lookups else EXISTING
    incoming = text_file(folder / "in.csv", incoming_rows())
    (folder / "job.toml").write_text(
        '[target]\nat = "t.db#t"\n[rules]\ninstruction = { column = "Do", values = { gone = "remove" }, blank = "load" }\n'
    )
    outcomes = []
    for rows_at_once in ("1000000", "60"):
        monkeypatch.setenv("TIDYMERGE_ROWS_AT_ONCE", rows_at_once)
        monkeypatch.setenv("TIDYMERGE_LARGE_FILE", "10")
        target = database(folder / f"{rows_at_once}.db", SCHEMA, "t", existing)
        start = stored(target)
        preview = run("preview", incoming, "--job", "job.toml", "--into", target, "--json").receipt
        ended = run("load", incoming, "--job", "job.toml", "--into", target, "--yes", "--json", "--rejects", "r.csv")
        assert ended.status == 3, ended.err
        receipt = ended.receipt
        assert (preview["rows"], preview["fingerprint"]) == (receipt["rows"], receipt["fingerprint"])
        said = {name: receipt[name] for name in ("rows", "fields_updated", "fingerprint", "warnings", "verified")}
        loaded = stored(target)
        undone = run("undo", receipt["run"], "--json")
        assert (undone.receipt["rows"]["removed"], stored(target)) == (receipt["rows"]["inserted"], start)
        assert (undone.receipt["rows"]["inserted"], receipt["rows"]["removed"]) == (30, 30)
        assert run("undo", undone.receipt["run"]).status == 0
        assert stored(target) == loaded
        outcomes.append((said, receipt["rejects"]["reasons"], (folder / "r.csv").read_text("utf-8"), loaded))
    first, *others = outcomes
    assert first[0]["rows"]["rejected"] == 6
    assert "letter case" not in str(first[0]["warnings"])
    assert "spaces" in str(first[0]["warnings"])
    for other in others:
        assert other == first


def test_records_on_no_row_are_found_in_every_part(run, folder, monkeypatch):
    rows = [[apiary, hive, honey] for apiary, hive, honey, *_ in EXISTING if hive % 60]
    incoming = text_file(folder / "in.csv", [["Apiary", "Hive", "Honey"], *rows])
    (folder / "job.toml").write_text('[target]\nat = "t.db#t"\n[rules]\nabsent = "remove"\n')
    said = []
    for rows_at_once in ("1000000", "40"):
        monkeypatch.setenv("TIDYMERGE_ROWS_AT_ONCE", rows_at_once)
        monkeypatch.setenv("TIDYMERGE_LARGE_FILE", "10")
        target = database(folder / f"{rows_at_once}.db", SCHEMA, "t", EXISTING)
        receipt = run("load", incoming, "--job", "job.toml", "--into", target, "--yes", "--json").receipt
        assert {row[1] for row in stored(target)} == {row[1] for row in EXISTING if row[1] % 60}
        said.append((receipt["rows"], receipt["fingerprint"]))
    assert said[0] == said[1]
    assert said[0][0]["absent"] == 10


@pytest.mark.parametrize("odd", ["L99,1,1,short\n", "\n", 'L01,1,1,"never closed,5\n'])
def test_a_large_file_that_is_not_regular_is_read_the_slow_way(run, folder, monkeypatch, odd):
    monkeypatch.setenv("TIDYMERGE_ROWS_AT_ONCE", "5")
    monkeypatch.setenv("TIDYMERGE_LARGE_FILE", "10")
    target = database(folder / "t.db", SCHEMA, "t", EXISTING)
    lines = "".join(f"L{at % 40:02},{at},{at},x,\n" for at in range(100))
    (folder / "in.csv").write_text(f"apiary,hive,honey,notes,chip\n{lines}{odd}", "utf-8")
    ended = run("load", "in.csv", "--into", target, "--yes", "--json")
    if "never" in odd:
        assert (ended.status, "badly quoted" in ended.err) == (1, True)
    else:
        assert ended.receipt["rows"]["updated"] == 100
        assert ended.receipt["rejects"]["reasons"] == ({"wrong number of cells": 1} if "short" in odd else {})


def test_rows_that_refer_to_each_other_are_not_divided(run, folder, monkeypatch):
    monkeypatch.setenv("TIDYMERGE_ROWS_AT_ONCE", "5")
    monkeypatch.setenv("TIDYMERGE_LARGE_FILE", "10")
    target = database(
        folder / "t.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, mentor INTEGER REFERENCES t (k))", "t", ()
    )
    incoming = text_file(folder / "in.csv", [["k", "mentor"], *([at, at + 1 if at < 99 else ""] for at in range(100))])
    ended = run("load", incoming, "--into", target, "--yes", "--json")
    assert (ended.status, ended.receipt["rows"]["inserted"]) == (0, 100)
