"""The commands as a person or a script meets them: the installed program on files in a folder."""

import csv
import io
import json
import sqlite3
from contextlib import closing

import pytest

from conftest import HIVES, database, sheet, stored, text_file

SHEET = [
    ["Weekly inspections"],
    [],
    ["Apiary code", "Hive no.", "Queen colour", "Honey KG", "Last inspected", "Weather"],
    ["L01 ", 1, "white", 12.50, "2026-05-09", "sunny"],
    ["L01", 2, None, 7.25, None, "sunny"],
    ["M02", 1, "red", "about 9", None, "rain"],
    [],
    ["N03", 4, "blue", 3, "2026-05-09", "sunny"],
]


def tally(receipt):
    return [receipt["rows"][name] for name in ("inserted", "updated", "unchanged", "skipped", "rejected")]


def test_preview_then_load_then_nothing_left(run, hives, folder):
    incoming = sheet(folder / "week.xlsx", SHEET)
    before = stored(hives)
    preview = run("preview", incoming, "--into", hives, "--json")
    assert preview.status == 3
    assert tally(preview.receipt) == [1, 1, 1, 0, 1]
    assert stored(hives) == before

    load = run("load", incoming, "--into", hives, "--json", "--expect", preview.receipt["fingerprint"])
    assert (load.status, tally(load.receipt)) == (3, [1, 1, 1, 0, 1])
    assert load.receipt["state"] == "loaded"
    assert load.receipt["verified"] is True
    after = stored(hives)
    assert after == [
        (b"L01", 1, b"white", 12.5, b"2026-05-09", b"calm"),
        (b"L01", 2, b"yellow", 7.25, b"2026-05-01", None),
        (b"M02", 1, None, 3, None, b"new frame"),
        (b"N03", 4, b"blue", 3, b"2026-05-09", None),
    ]
    again = run("load", incoming, "--into", hives, "--json")
    assert tally(again.receipt) == [0, 0, 3, 0, 1]
    assert stored(hives) == after


def test_receipt_has_the_published_form(run, hives, folder):
    receipt = run("load", sheet(folder / "week.xlsx", SHEET), "--into", hives, "--json").receipt
    assert receipt["format"] == "tidymerge-receipt/1"
    assert receipt["incoming"] == {
        "address": str(folder / "week.xlsx#Inspections"),
        "sheet": "Inspections",
        "header_row": 3,
        "rows": 4,
    }
    assert receipt["fields_updated"] == 1
    assert receipt["rejects"]["reasons"] == {"not a number": 1}
    table = receipt["tables"][0]
    assert (table["rows_before"], table["rows_after"], table["columns"]) == (3, 4, {"last_inspected": 1})
    assert table["key"] == ["apiary_code", "hive_no"]
    assert table["not_loaded"] == ["Weather"]
    assert table["left_alone"] == ["notes"]
    assert receipt["started"].endswith("Z")


def test_rejects_file_names_the_rows_and_loads_once_mended(run, hives, folder):
    run("load", sheet(folder / "week.xlsx", SHEET), "--into", hives)
    path = folder / "week-rejects.csv"
    rows = list(csv.DictReader(io.StringIO(path.read_text("utf-8-sig"))))
    assert [row["rejected: row"] for row in rows] == ["6"]
    assert rows[0]["rejected: why"] == "Honey KG 'about 9': not a number, expected a number with at most 2 decimals"
    path.write_text(path.read_text("utf-8-sig").replace(",about 9,", ",9,"), "utf-8")
    corrected = run("load", str(path), "--into", hives, "--json")
    assert (corrected.status, tally(corrected.receipt)) == (0, [0, 1, 0, 0, 0])
    assert (folder / "week-rejects.csv").exists()


def test_a_rejects_file_holds_no_formulas_and_loses_nothing(run, folder):
    target = database(folder / "coop.db", "CREATE TABLE t (k TEXT PRIMARY KEY, v TEXT, n INTEGER)", "t", ())
    risky = ["=1+1", "+x", "-y", "@z", "'=q", "-5", "\N{NO-BREAK SPACE}=1"]
    incoming = text_file(
        folder / "in.csv", [["k", "v", "n"], *([f"k{at}", text, "bad"] for at, text in enumerate(risky))]
    )
    run("load", incoming, "--into", target, "--rejects", "r.csv")
    text = (folder / "r.csv").read_text("utf-8-sig")
    cells = [row["v"] for row in csv.DictReader(io.StringIO(text))]
    assert cells == ["'=1+1", "'+x", "'-y", "'@z", "''=q", "-5", "\N{NO-BREAK SPACE}=1"]
    (folder / "r.csv").write_text(text.replace(",bad", ",1"), "utf-8")
    run("load", "r.csv", "--into", target)
    assert [row[1].decode() for row in stored(target)] == [*risky[:-1], "=1"]


@pytest.mark.parametrize(
    ("arguments", "rows", "status", "words"),
    [
        (["--strict"], 6, 4, "strict"),
        (["--expect", "0000000000000000"], 6, 4, "fingerprint"),
        (["--key", "hive_no"], 4, 3, "several records"),
    ],
)
def test_what_stops_a_load_leaves_the_table_alone(run, hives, folder, arguments, rows, status, words):
    before = stored(hives)
    ended = run("load", sheet(folder / "week.xlsx", SHEET[:rows]), "--into", hives, *arguments)
    assert ended.status == status
    assert words in ended.err + ended.out
    assert stored(hives) == before


def test_warnings_stop_an_unattended_load_until_yes(run, folder):
    target = database(folder / "coop.db", rows=[("0417", 1, None, None, None, None)])
    incoming = text_file(folder / "in.csv", [["apiary_code", "hive_no"], ["417", "1"]])
    stopped = run("load", incoming, "--into", target, "--json")
    assert stopped.status == 4
    assert stopped.receipt["state"] == "stopped"
    assert "leading zeros" in " ".join(stopped.receipt["warnings"])
    assert "No row matched" in " ".join(stopped.receipt["warnings"])
    assert len(stored(target)) == 1
    assert run("load", incoming, "--into", target, "--yes").status == 0
    assert len(stored(target)) == 2


@pytest.mark.parametrize(
    ("existing", "incoming", "difference"),
    [
        ("L01", "l01", "letter case"),
        ("L 01", "L01", "spaces"),
        ("417", "417.0", "number form"),
        ("007", "7 .0", "several of"),
    ],
)
def test_near_miss_keys_are_pointed_out(run, folder, existing, incoming, difference):
    target = database(
        folder / "coop.db", "CREATE TABLE t (k TEXT PRIMARY KEY, v TEXT)", "t", [(existing, "x"), ("other", "y")]
    )
    path = text_file(folder / "in.csv", [["k", "v"], [incoming, "x"], ["other", "y"]])
    warnings = run("preview", path, "--into", target, "--json").receipt["warnings"]
    assert len(warnings) == 1
    assert difference in warnings[0]
    assert f"row 2 has {incoming!r}, the target has {existing!r}" in warnings[0]


def test_standard_input_and_delimiter_and_mapping(run, hives):
    data = b"Stock;Nr;Honig\nL01;1;13.75\n"
    ended = run(
        "load",
        "-",
        "--into",
        hives,
        "--map",
        "apiary_code=Stock",
        "--map",
        "hive_no=Nr",
        "--map",
        "honey_kg=Honig",
        "--json",
        stdin=data,
    )
    assert ended.status == 0, ended.err
    assert ended.receipt["tables"][0]["mapping"] == {"apiary_code": "Stock", "hive_no": "Nr", "honey_kg": "Honig"}
    assert stored(hives)[0][3] == 13.75


def test_only_limits_the_columns_loaded(run, hives, folder):
    incoming = sheet(folder / "week.xlsx", SHEET[:5])
    receipt = run("load", incoming, "--into", hives, "--only", "queen_colour", "--json").receipt
    assert sorted(receipt["tables"][0]["mapping"]) == ["apiary_code", "hive_no", "queen_colour"]
    assert stored(hives)[0][4] == b"2026-05-01"


def test_json_is_alone_on_standard_output_and_failures_are_json_too(run, hives):
    ended = run("preview", "missing.csv", "--into", hives, "--json")
    assert (ended.status, ended.receipt["state"], ended.receipt["error"]["code"]) == (1, "failed", "no-such-file")
    assert "missing.csv" in ended.err


def test_look_tells_sheets_tables_columns_and_keys(run, folder, hives):
    incoming = sheet(folder / "week.xlsx", SHEET)
    found = json.loads(run("look", incoming, "--json").out)
    columns = {column["name"]: column for column in found["profile"]["columns"]}
    assert found["header_row"] == 3
    assert columns["Honey KG"]["type"] == "number and text"
    assert columns["Queen colour"]["blanks"] == 1
    assert columns["Weather"]["commonest"] == [["sunny", 3], ["rain", 1]]
    table = json.loads(run("look", hives, "--json").out)
    assert table["primary_key"] == ["apiary_code", "hive_no"]
    assert {column["name"]: column["largest"] for column in table["profile"]["columns"]}["honey_kg"] == "12.5"
    assert "hives" in run("look", "coop.db").out
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.execute("CREATE TABLE empty (a, b)")
    assert run("look", "coop.db#empty").status == 0


def test_the_demo_tells_the_truth_at_every_step(run, folder):
    ended = run("demo")
    assert ended.status == 0, ended.err
    steps = ended.out.split("─" * 100)
    assert "$ tidymerge look" in steps[1]
    assert 'where = "email"' in steps[2]
    assert "skip_when" in steps[2]
    assert "update_when" in steps[3]
    tally = ("31  rows read", "2  inserted", "6  updated (12 fields)", "13  unchanged", "4  skipped", "6  rejected")
    for words in (*tally, "Nothing was written", "found in keepers by email"):
        assert words in steps[4], words
    assert "Committed. All 8 written records read back equal." in steps[5]
    assert "Nothing to write" in steps[6]
    assert "3  updated (3 fields)" in steps[8]
    assert "1  updated (1 field)" in steps[9]
    for words in ("12  inserted", "12  removed", "12 removed records are gone", 'CREATE TABLE "hives_gone"'):
        assert words in steps[10], words
    assert "12  inserted" in steps[11]
    for words in ("└─ inspections", "(new) tam@example.org", "its parent was rejected", "Nothing was written"):
        assert words in steps[12], words
    assert "records read back equal" in steps[13]
    for words in (
        "1  inserted",
        "2  updated (4 fields)",
        "has no transaction",
        "Sent in 1 change set, which was read back.",
    ):
        assert words in steps[18], words
    assert "into hives.xlsx#HiveList" in steps[19]
    assert "Warning:" not in ended.out
    rows = {row[:2]: row for row in stored(f"{folder}/tidymerge-demo/coop.db#hives")}
    assert len(rows) == 29
    assert rows[b"101", 4][2] is not None
    assert rows[b"101", 2][2] == b"blue"
    assert rows[b"102", 1][4] == 201.99
    assert rows[b"205", 3][6] == 1
    assert run("demo").status == 0  # again, over its own files
    (folder / "tidymerge-demo" / "mine.txt").write_text("keep")
    refused = run("demo")
    assert (refused.status, "mine.txt" in refused.err) == (2, True)


def test_on_a_terminal_a_load_asks_first(on_terminal, folder, hives):
    incoming = sheet(folder / "week.xlsx", SHEET[:5])
    for answer, rows in ((b"n\n", 12.5), (b"y\n", 12.5)):
        shown, status = on_terminal("load", incoming, "--into", hives, answer=answer)
        assert "Update 1 of 3 records in" in shown
        assert status == (4 if answer == b"n\n" else 0), shown
        assert stored(hives)[0][4] == (b"2026-05-01" if answer == b"n\n" else b"2026-05-09")
        assert stored(hives)[0][3] == rows
    assert "\x1b[3" in shown
    assert "\x1b[3" not in on_terminal("preview", incoming, "--into", hives, NO_COLOR="1")[0]


def test_a_table_with_a_key_of_its_own_needs_no_key_option(run, folder):
    target = database(folder / "coop.db", HIVES.replace(", PRIMARY KEY (apiary_code, hive_no)", ""))
    incoming = sheet(folder / "week.xlsx", SHEET[:5])
    ended = run("load", incoming, "--into", target)
    assert (ended.status, "--key" in ended.err) == (2, True)
    keyed = run("load", incoming, "--into", target, "--key", "Apiary Code", "--key", "hive_no", "--json")
    assert (keyed.status, tally(keyed.receipt)) == (0, [0, 1, 1, 0, 0])
