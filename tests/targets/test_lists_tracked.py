"""Lists behind HTTP that tell what changed: the next run of a job reads only that."""

import json
import os
import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from hive_lists import SECRET, Lists, hive_lists

import tidymerge
from chance import SEED
from conftest import NO_LIMITS

JOB = """
[incoming]
at = "{at}"
only_changed = true
[target]
at = "out.csv"
key = ["code", "no"]
types = {{ no = "integer", kg = "decimal(8, 2)", seen = "date" }}
"""


def job_of(lists, text=JOB):
    path = lists.folder / "job.toml"
    path.write_text(text.format(at=f"{lists.root}#hives"))
    (lists.folder / "out.csv").write_text("code,no,kg,seen,note\n")
    return path


def load(job, **options):
    return tidymerge.load(job=job, accept_warnings=True, limits=NO_LIMITS, **options)


@pytest.fixture
def lists(folder: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Lists]:
    monkeypatch.setenv("TIDYMERGE_WAIT", "5")
    with hive_lists(folder) as found:
        yield found


@pytest.mark.by_chance
def test_only_what_changed_is_read_and_nothing_is_missed(lists, share):
    chance, known = random.Random(20 + SEED), {("L", no): no / 4 for no in range(40)}
    lists.fill(40)
    job = job_of(lists)
    first = load(job)
    assert (first.rows.inserted, "All records are read, as no run before is known." in first.notes) == (40, True)
    run = first
    for turn in share.of(12, 60):
        touched = set()
        for _ in range(chance.choice([0, 1, 3])):
            key, kg = (chance.choice("LM"), chance.randrange(60)), chance.randrange(1000)
            lists.wrote("PATCH" if key in known else "POST", key, kg=kg)
            known[key] = kg
            touched.add(key)
        back = turn % 4 == 3 and run.changed
        if back:
            tidymerge.undo(run.run)  # what is taken back comes again
        del lists.manners.requests[:]
        run = load(job)
        assert back or run.rows.read == len(touched)
        assert f"is read: {run.rows.read} record" in str(run.notes)
        assert lists.asked("GET", "hives") <= 2
        rows = [line.split(",") for line in Path("out.csv").read_text().splitlines()[1:]]
        assert {(code, int(no)): float(kg) for code, no, kg, *_ in rows} == known


def test_records_that_went_stay_and_are_counted(lists):
    lists.fill(9)
    job = job_of(lists)
    load(job)
    lists.wrote("DELETE", ("L", 3))
    lists.wrote("DELETE", ("L", 4))
    told = load(job)
    assert (told.rows.read, told.changed, told.warnings) == (0, 0, ())  # no row is no warning then
    assert "2 records were removed from the list since then; a load removes nothing." in told.notes
    absent = job_of(lists, JOB + '[rules]\nabsent = "remove"\n')
    lists.folder.joinpath("out.csv").write_text("code,no,kg,seen,note\nL,1,0.25,,x\nL,2,0.5,,x\n")
    lists.wrote("PATCH", ("L", 1), kg=7)
    told = load(absent)
    assert (told.rows.updated, told.rows.removed) == (1, 0)  # what was not read is not absent
    assert "the job reads only what is new since its last run" in str(told.warnings)


def test_where_the_service_can_not_tell_all_records_are_read(lists):
    lists.fill(20)
    job = job_of(lists)
    load(job)
    lists.wrote("PATCH", ("L", 1), kg=7)
    lists.fault(path="hives", method="GET", status=410)
    gone = load(job)
    assert (gone.rows.read, gone.rows.updated) == (20, 1)
    assert "no longer knows what changed since the run before." in str(gone.notes)
    lists.wrote("PATCH", ("L", 2), kg=7)
    lists.wrote("PATCH", ("L", 3), kg=8)
    assert load(job, rows="1").rows.read == 1
    assert load(job).rows.read == 2  # the other one, too
    lists.manners.tracks = False
    silent = load(job, from_start=True)
    assert "All records are read, as it was asked to start anew." in silent.notes
    assert (silent.rows.read, "so the next run reads these records again, too" in str(silent.notes)) == (20, True)


def test_changes_are_told_in_every_form_that_the_standard_has(lists):
    lists.fill(9)
    job = job_of(lists)
    load(job)
    lists.sql("UPDATE hives SET kg = 70 + no")
    told = {
        "@odata.context": "$metadata#hives/$delta",
        "value": [
            {
                "code": "L",
                "no": 1,
                "kg": 1,
                "removed@odata.type": "#Date",
            },  # not all properties, and not the newest value
            {"@odata.context": "$metadata#hives/$deletedEntity", "id": "hives(code='L',no=2)", "reason": "deleted"},
            {"@removed": {"reason": "changed"}, "code": "L", "no": 3},
            {"@odata.context": "$metadata#hives/$link", "source": "hives(1)", "target": "x", "relationship": "y"},
            {"code": "L", "no": 1},
        ],
        "@odata.deltaLink": f"{lists.root}hives?$deltatoken=next",
    }
    lists.fault(path="hives", method="GET", answer=json.dumps(told).encode())
    found = load(job)
    assert (found.rows.read, found.rows.updated) == (1, 1)
    assert "L,1,71,,x" in Path("out.csv").read_text()
    assert "2 records were removed" in str(found.notes)
    told["value"] = [{"@odata.id": "hives(code='L',no=1)", "kg": 1}]
    lists.fault(path="hives", method="GET", answer=json.dumps(told).encode())
    assert "does not give the keys" in str(load(job).notes)
    elsewhere = json.dumps({"value": [], "@odata.deltaLink": "https://elsewhere.example.org/x"}).encode()
    lists.fault(path="hives", method="GET", answer=elsewhere)
    with pytest.raises(tidymerge.TidyMergeError, match="another place"):
        load(job)


def test_a_link_that_holds_a_secret_is_not_kept(lists, monkeypatch):
    lists.manners.token = SECRET
    monkeypatch.setenv("TIDYMERGE_TOKEN", SECRET)
    monkeypatch.setenv("TIDYMERGE_TOKEN_HOST", lists.root.split("/")[2])
    answer = {"value": [], "@odata.deltaLink": f"{lists.root}hives?$deltatoken={SECRET}"}
    lists.fault(path="hives", method="GET", answer=json.dumps(answer).encode())
    told = load(job_of(lists))
    assert "holds a secret. So it is not kept" in str(told.notes)
    home = Path(os.environ["TIDYMERGE_HOME"])
    assert not [path for path in home.rglob("*") if path.is_file() and SECRET.encode() in path.read_bytes()]
