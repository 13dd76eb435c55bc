"""The form of the log on disk: entries of earlier versions are read and undone, younger keys are no matter."""

import json
from pathlib import Path

import pytest

from conftest import database, stored

OLD = Path(__file__).parent / "old_log"
INTO_DATABASE, INTO_FILE = "20261125-173814-86486b7", "20261125-173815-193665b"
SCHEMA = "CREATE TABLE hives (apiary TEXT, hive INTEGER, honey DECIMAL(8,2), notes TEXT, PRIMARY KEY (apiary, hive))"
LOADED = [("L01", 1, 14.25, "calm"), ("L01", 2, None, ""), ("L02", 1, 8, "swarmed, twice"), ("L03", 1, 0.5, "new")]
BEFORE = [(b"L01", 1, 12.5, b"calm"), (b"L01", 2, None, b""), (b"L02", 1, 8, b"new queen")]


@pytest.fixture
def old(folder, home, monkeypatch):
    """A log as versions before the form wrote it (one entry lacks what was added to entries later), and its two targets as its runs left them."""
    monkeypatch.setenv("TIDYMERGE_KEEP_DAYS", "all")
    (home / "runs").mkdir()
    for path in OLD.iterdir():
        content = path.read_bytes()
        content = content.replace(b"FOLDER", str(folder).encode()) if path.suffix == ".json" else content
        (home / "runs" / path.name).write_bytes(content)
    (folder / "stock.csv").write_text("item,count,price\nframe,10,3.50\nlid,4,\nsmoker,2,\n", "utf-8")
    return database(folder / "coop.db", SCHEMA, "hives", LOADED)


def test_runs_of_the_version_before_the_form_are_listed_shown_and_undone(run, old, folder):
    runs = json.loads(run("runs", "--json").out)["runs"]
    assert [one["state"] for one in runs] == ["failed", "stopped", "undone", "undone", "loaded", "loaded"]
    assert [one["undone_by"] for one in runs] == [None, None, None, runs[2]["run"], None, None]
    receipt = run("receipt", INTO_DATABASE, "--json").receipt
    assert (receipt["format"], receipt["rows"]["updated"], receipt["incoming"]["rows"]) == ("tidymerge-receipt/1", 2, 4)
    assert receipt["tables"][0]["samples"][0]["fields"][2] == {
        "column": "honey", "before": "12.50", "after": "14.25", "changed": True,
    }  # fmt: skip
    assert "whole number" in run("receipt", INTO_DATABASE).out
    assert run("undo", INTO_DATABASE).status == run("undo", INTO_FILE).status == 0
    assert stored(old) == BEFORE
    assert (folder / "stock.csv").read_text("utf-8") == "item,count,price\nframe,12,3.50\nlid,4,\n"


def test_keys_may_be_added_and_younger_ones_be_missing(run, hives, folder, home):
    (folder / "week.csv").write_text("apiary_code,hive_no,queen_colour\nL01,1,red\n", "utf-8")
    receipt = run("load", "week.csv", "--into", hives, "--json", "--yes").receipt
    (path,) = (home / "runs").glob("*.json")
    entry = json.loads(path.read_bytes())
    assert entry["format"] == "tidymerge-log/1"
    assert entry["receipt"] == receipt | {"seconds": entry["receipt"]["seconds"]}
    for younger in ("read_back", "columns_added", "columns_dropped", "records_updated"):
        del entry["receipt"]["tables"][0][younger]
    path.write_text(json.dumps(entry | {"weather": "fair"}), "utf-8")
    assert run("receipt", "last", "--json").receipt["fields_updated"] == 1
    path.write_text(json.dumps(entry | {"key": "apiary_code"}), "utf-8")
    damaged = run("receipt", "last")
    assert (damaged.status, "log-damaged" in damaged.err) == (1, True), damaged.err
    path.write_text(json.dumps(entry | {"format": "tidymerge-log/2"}), "utf-8")
    assert "it is not of the format tidymerge-log/1" in run("receipt", "last").err
