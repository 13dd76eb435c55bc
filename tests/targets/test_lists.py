"""Lists behind HTTP: the contract as far as HTTP can keep it, and what is their own, on the stand-in over SQLite."""

import contextlib
import os
import signal
import sqlite3
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pyarrow as pa
import pytest
from contract import TargetContract, without
from hive_lists import ELSEWHERE, KEY, SECRET, Lists, hive_lists
from hypothesis import given, settings
from hypothesis import strategies as st

import tidymerge
from chance import ODATA_VERSIONS, PROPERTY, fresh_folder, some
from conftest import NO_LIMITS, text_file
from tidymerge.demo.lists.faults import Manners
from tidymerge.demo.lists.serve import served
from tidymerge.errors import (
    ProofFailed,
    ServerAway,
    Stopped,
    TargetError,
    TargetUnreadable,
    WriteRefused,
    WrittenPartly,
)


@without(
    {
        "the metadata does not tell other unique columns, checks, triggers, and how texts are compared": """
            unique_columns_other_than_the_key unique_values_change_hands what_cannot_be_moved_aside_is_said_before
            checks_judge_the_record_as_it_would_stand a_flawed_row_does_not_take_good_ones_of_its_key_along
            what_only_the_database_can_say_is_narrowed_down_to_the_rows a_change_of_records
            the_first_rejects_are_the_first_rows_whatever_order_the_database_names_them_in
            a_trigger_that_changes_rows_on_its_own_rolls_the_load_back a_trigger_that_is_trusted_does_not_disturb_the_log
            others_take_the_values_of_a_record_that_goes rules_that_would_be_broken_are_told_with_the_records
            a_key_that_others_follow_may_change parents_and_children_move_together
            who_is_refused_late_takes_the_children_along""",
        "tables and columns are made by those who run the service; one without a key is no list": """
            rows_are_appended_and_exactly_those_go_again rows_of_one_key_are_all_kept
            a_table_is_made_and_goes_with_the_undo columns_are_added_on_request_and_go_with_the_undo
            an_added_column_that_something_needs_by_now_stays_after_the_undo
            a_column_goes_with_its_values_and_comes_back_as_it_was
            a_column_that_holds_nothing_goes_and_comes_back_and_goes
            a_column_of_which_another_is_computed_does_not_go what_needs_a_column_is_named_and_nothing_is_dropped
            a_column_is_not_added_where_nothing_is_loaded what_changed_in_the_structure_since_the_last_run_is_said
            a_tree_of_records_goes_with_its_root_and_comes_back records_that_go_are_archived_first
            an_archive_is_made_like_the_table_and_goes_with_the_undo""",
        "ids that only the service gives can't be used by other records before they are there": """
            related_tables_are_loaded_in_one_run_with_ids_that_the_database_gives
            one_wide_sheet_feeds_several_tables records_of_all_tables_go_after_what_refers_to_them""",
        "statements of SQL are counted": "one_update_for_all_sets_of_changed_columns_touches_nothing_else",
    }
)
class TestLists(TargetContract):
    """The metadata tells keys, types and references. Everything else only the service knows: it has a test below."""

    @pytest.fixture(autouse=True, params=ODATA_VERSIONS)
    def service(self, folder: Path, request: pytest.FixtureRequest) -> Iterator[None]:
        with served(folder / "coop.db", Manners(version=request.param)) as root:
            self.root = root
            yield

    def make(self, folder: Path, script: str) -> None:
        with contextlib.closing(sqlite3.connect(folder / "coop.db")) as connection:
            connection.executescript(script)

    def address(self, folder: Path, table: str) -> str:
        return f"{self.root}#{table}"

    def rows(self, folder: Path, query: str) -> list[tuple]:
        with contextlib.closing(sqlite3.connect(folder / "coop.db")) as connection:
            return connection.execute(query).fetchall()

    def unchecked(self, schema: str, rows: str) -> str:
        return f"PRAGMA foreign_keys = OFF; PRAGMA ignore_check_constraints = ON; {schema}; {rows};"

    def test_undo_of_records_that_refer_to_each_other_or_take_each_others_values(self, folder):
        for case in ("", "x"):  # twice, as undone records are updated again
            parents = ", FOREIGN KEY (mentor) REFERENCES t (k)"
            self.make(folder, "DROP TABLE IF EXISTS t")
            super().test_undo_of_records_that_refer_to_each_other_or_take_each_others_values(
                folder, parents, f"e{case}"
            )


@pytest.fixture
def lists(folder: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Lists]:
    monkeypatch.setenv("TIDYMERGE_WAIT", "5")
    with hive_lists(folder) as found:
        yield found


def news(count: int, kg: float = 900) -> list[list[object]]:
    """Other weights for the first hives, and a new one."""
    return [["code", "no", "kg"], *(["L", no, kg + no] for no in range(count)), ["M", 1, kg]]


def test_what_changed_is_sent_in_whole_sets_and_nothing_else_is(lists):
    start = lists.fill(250)
    receipt = lists.load(news(205))
    assert (receipt.rows.updated, receipt.rows.inserted, lists.asked("POST", "$batch")) == (205, 1, 3)
    assert "Sent in 3 change sets, each of them read back." in receipt.notes
    assert lists.hives == [("L", no, 900 + no if no < 205 else no / 4, None, "x") for no in range(250)] + [
        ("M", 1, 900, None, None)
    ]
    assert not lists.load(news(205)).changed
    assert lists.asked("POST", "$batch") == 3  # the second time nothing is sent
    undone = tidymerge.undo(receipt.run)
    assert (lists.hives, undone.rows.updated, undone.rows.removed) == (start, 205, 1)


@pytest.mark.parametrize("version", ODATA_VERSIONS)
@pytest.mark.parametrize("at", [0, 1, 2])
def test_a_refused_set_takes_those_before_back_and_names_the_record(lists, version, at):
    lists.manners.version = version
    lists.sql("CREATE UNIQUE INDEX one ON hives (note) WHERE note <> 'x'")
    lists.sql("INSERT INTO hives VALUES ('Z', 1, 1, NULL, 'taken')")
    start = lists.fill(250)
    rows = [
        ["code", "no", "kg", "note"],
        *(["L", no, 900 + no, "taken" if no == at * 100 + 7 else "x"] for no in range(250)),
    ]
    with pytest.raises(WriteRefused) as told:
        lists.load(rows)
    assert f"L / {at * 100 + 7}" in str(told.value)
    assert lists.hives == start
    (one,) = tidymerge.runs()
    assert one.run.state == "failed"


def test_busy_services_are_waited_for_and_large_sets_are_halved(lists):
    lists.fill(120)
    lists.fault(path="$batch", status=429, retry_after="0", times=2)
    lists.fault(path="$batch", status=503, retry_after="0")
    lists.fault(path="/hives", status=503, retry_after="0", after=1)
    lists.manners.longest_batch = 30
    receipt = lists.load(news(119))
    assert (receipt.rows.updated, receipt.verified) == (119, True)
    assert len([row for row in lists.hives if row[2] >= 900]) == 120
    lists.fault(path="$batch", status=503, retry_after="60", times=99)
    with pytest.raises(TargetError, match="busy"):
        lists.load(news(119, 2000))
    assert max(row[2] for row in lists.hives) < 2000


@pytest.mark.parametrize("cut", [{"cut_request": 0}, {"cut_request": 900}, {"cut_answer": 0}, {"cut_answer": 700}])
@pytest.mark.parametrize("after", [0, 1])
def test_a_batch_whose_fate_is_unknown_is_looked_at_and_never_sent_again(lists, cut, after):
    start = lists.fill(250)
    lists.fault(path="$batch", after=after, **cut)
    if "cut_answer" in cut:
        assert lists.load(news(205)).rows.updated == 205
        assert lists.asked("POST", "$batch") == 3
        return
    with pytest.raises(ServerAway):
        lists.load(news(205))
    assert lists.hives == start


def test_what_a_service_does_silently_is_found_and_taken_back(lists):
    start = lists.fill(3)
    lists.manners.texts_as = {"calm": "CALM"}
    with pytest.raises(ProofFailed, match=r"L / 1.*taken back"):
        lists.load([["code", "no", "note"], ["L", 1, "calm"]])
    assert lists.hives == start
    lists.manners.halves = True
    lists.sql("CREATE UNIQUE INDEX one ON hives (note) WHERE note <> 'x'")
    with pytest.raises(WriteRefused, match="taken back"):
        lists.load([["code", "no", "note"], ["L", 0, "same"], ["L", 1, "same"]])
    assert lists.hives == start


def test_somebody_elses_change_is_never_overwritten(lists):
    lists.fill(3)
    file = text_file(lists.folder / "in.csv", [["code", "no", "kg"], ["L", 1, 7], ["L", 2, 8]])

    def meanwhile(words: str, *_: object) -> None:
        if words == "writing":
            lists.sql("UPDATE hives SET kg = kg + 100 WHERE no = 1 AND kg < 100")

    receipt = tidymerge.load(file, f"{lists.root}#hives", key=KEY, rejects=False, limits=NO_LIMITS, progress=meanwhile)
    assert (receipt.rows.updated, lists.hives[1][2], lists.hives[2][2]) == (
        2,
        7,
        8,
    )  # decided again, by what is there now
    lists.manners.etags = False
    lists.sql("UPDATE hives SET kg = 1")
    receipt = tidymerge.load(file, f"{lists.root}#hives", key=KEY, rejects=False, limits=NO_LIMITS, progress=meanwhile)
    assert (receipt.rows.updated, lists.hives[1][2]) == (2, 7)
    assert any("ETags" in note for note in receipt.notes)


def test_ids_that_the_service_gives_are_found_for_the_undo(lists):
    lists.sql("INSERT INTO keepers (name, joined) VALUES ('Alma', '2026-05-01T10:00:00Z')")
    start = lists.sql("SELECT * FROM keepers")
    receipt = lists.load([["name"], ["Ben"], ["Alma"], ["Nela"]], ["name"], "keepers")
    assert (receipt.rows.inserted, [name for _, name, _ in lists.sql("SELECT * FROM keepers")]) == (
        2,
        ["Alma", "Ben", "Nela"],
    )
    tidymerge.undo(receipt.run)
    appended = lists.load([["name"], ["Alma"]], [], "keepers", append=True)
    assert len(lists.sql("SELECT * FROM keepers WHERE name = 'Alma'")) == 2
    tidymerge.undo(appended.run)
    assert lists.sql("SELECT * FROM keepers") == start


@pytest.mark.parametrize(("answer", "said"), [
    ({"content_type": "text/html", "answer": b"<html>sign in"}, "text/html"),
    ({"answer": b'{"value": [{]}'}, "can't be read"), ({"answer": b"[]"}, "no object"), ({"answer": b'{"value": 1}'}, "without a list"),
    ({"status": 302, "headers": {"location": "https://elsewhere.example.org/"}}, "elsewhere.example.org"),
    ({"answer": b'{"value": [], "@odata.nextLink": "https://elsewhere.example.org/hives"}'}, "another place"),
    ({"answer": b'{"value": [], "@odata.nextLink": "hives?$skiptoken=1"}', "times": 99}, "lead nowhere"),
    ({"answer": b'{"value": [{"no": "1"}]}'}, "without their keys"), ({"status": 500}, "status 500"),
])  # fmt: skip
def test_answers_that_are_none_end_with_words(lists, answer, said):
    lists.fill(2)
    lists.fault(path="/hives", **answer)
    with pytest.raises(TargetUnreadable, match=said):
        tidymerge.load(f"{lists.root}#hives", text_file(lists.folder / "out.csv", [KEY, ["L", 1]]), key=KEY)


@pytest.mark.parametrize(("text", "said"), [
    (b'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]><x>&b;</x>', "DOCTYPE"),
    (b"<html>sign in</html>", "begins with <html>"), (b"<a", "not XML"), (b'{"a": 1}', "no .Version"),
])  # fmt: skip
def test_metadata_that_is_none_ends_with_words(lists, text, said):
    lists.fault(path="$metadata", answer=text, content_type="application/xml")
    with pytest.raises(TargetUnreadable, match=said):
        lists.load([["code", "no"], ["L", 1]])


def test_secrets_go_to_one_host_and_are_never_seen(lists, run, monkeypatch):
    lists.manners.token = SECRET
    lists.fill(2)
    text_file(lists.folder / "in.csv", [["code", "no", "kg"], ["L", 1, 5]])
    load = ["load", "in.csv", "--into", f"{lists.root}#hives", "--yes"]
    refused = run(*load)
    assert refused.status == 1
    assert "sign-in-refused" in refused.err
    host = lists.root.split("/")[2]
    assert run(*load, TIDYMERGE_TOKEN=SECRET).status == 2  # for which host?
    assert run(*load, **ELSEWHERE).status == 1
    done = run(*load, **{**ELSEWHERE, "TIDYMERGE_TOKEN_HOST": host})
    assert done.status == 0, done.err
    job = f'[target]\nat = "{lists.root}#hives"\n[services."{host}"]\nheaders = {{ Authorization = "Bearer ${{LISTS}}" }}\nchanges_at_once = 1\n'
    (lists.folder / "job.toml").write_text(job)
    text_file(lists.folder / "in.csv", [["code", "no", "kg"], ["L", 1, 6], ["L", 0, 7]])
    asked = run("load", "in.csv", "--job", "job.toml", "--yes", "--json", LISTS=SECRET)
    assert asked.status == 0, asked.err
    assert "Sent in 2 change sets" in asked.out
    undone = run("undo", "last", "--yes", LISTS=SECRET)  # the job is asked again how to sign in
    assert undone.status == 0, undone.err
    for words in (f'["sh", "-c", "echo {SECRET}"]', f'["sh", "-c", "echo {SECRET} >&2; exit 1"]'):
        (lists.folder / "job.toml").write_text(job.partition("headers")[0] + f"token_command = {words}\n")
        asked = run("load", "in.csv", "--job", "job.toml", "--yes")
        assert asked.status == ("exit" in words), asked.err
        assert SECRET not in asked.out + asked.err
    (lists.folder / "job.toml").write_text(job.replace("${LISTS}", SECRET))
    assert "is secret" in run("load", "in.csv", "--job", "job.toml", "--yes").err
    home = Path(os.environ["TIDYMERGE_HOME"])
    kept = b"".join(path.read_bytes() for path in home.rglob("*") if path.is_file())
    assert (
        b"a-secret-token"
        not in kept + refused.err.encode() + done.out.encode() + done.err.encode() + undone.out.encode()
    )


def test_a_list_comes_into_a_file_and_only_what_is_newer_is_asked_for(lists):
    lists.fill(3)
    for no in range(3):
        lists.sql("UPDATE hives SET seen = ? WHERE no = ?", f"2026-05-0{no + 1}", no)
    out = text_file(lists.folder / "out.csv", [["code", "no", "kg", "seen"]])
    job = lists.folder / "job.toml"
    job.write_text(
        f'[incoming]\nat = "{lists.root}#hives"\nnewer_by = "seen"\n[target]\nat = "out.csv"\nkey = ["code", "no"]\n'
        '[target.types]\nno = "integer"\nkg = "decimal(8, 2)"\nseen = "date"\n'
    )
    first = tidymerge.load(job=job, accept_warnings=True, limits=NO_LIMITS)
    assert (first.rows.inserted, Path(out).read_text().splitlines()[1:]) == (
        3,
        ["L,0,0,2026-05-01", "L,1,0.25,2026-05-02", "L,2,0.5,2026-05-03"],
    )
    lists.sql("UPDATE hives SET kg = 8 WHERE no = 2")
    lists.sql("INSERT INTO hives VALUES ('M', 1, 1, '2026-05-04', NULL)")
    again = tidymerge.load(job=job, accept_warnings=True, limits=NO_LIMITS)
    assert (again.rows.read, again.rows.updated, again.rows.inserted) == (2, 1, 1)


HOSTILE = st.text("aB\u00e9'\"/%?#&=+;\\\u4e2d\u0416\U0001f41d(),$@ \x7f", max_size=9)


@settings(PROPERTY, max_examples=some(60))
@given(st.lists(st.tuples(HOSTILE, HOSTILE), min_size=1, max_size=6, unique_by=lambda row: row[0].strip()), st.sampled_from(["4.01", "4.0"]))  # fmt: skip
def test_whatever_is_in_keys_and_values_arrives_and_goes_again(rows, version):
    keys, notes = [f"k{key}k" for key, _ in rows], [f"n{note}n" for _, note in rows]
    with fresh_folder() as name:
        lists = Lists(name)
        lists.manners.version = version
        lists.sql("CREATE TABLE notes (k TEXT PRIMARY KEY, note TEXT, n INTEGER)")
        with served(lists.folder / "lists.db", lists.manners) as lists.root:
            said = {"key": "k", "accept_warnings": True, "limits": NO_LIMITS, "rejects": False}
            fresh = tidymerge.load(pa.table({"k": keys, "note": notes}), f"{lists.root}#notes", **said)
            told = tidymerge.load(pa.table({"k": keys, "n": range(len(rows))}), f"{lists.root}#notes", **said)
            assert (fresh.rows.inserted, told.rows.updated) == (len(rows), len(rows))
            found = {k: (note, n) for k, note, n in lists.sql("SELECT * FROM notes")}
            assert found == dict(zip(keys, zip(notes, range(len(rows)), strict=True), strict=True))
            tidymerge.undo(told.run)
            tidymerge.undo(fresh.run)
            assert lists.sql("SELECT count(*) FROM notes") == [(0,)]


def test_a_service_that_does_not_know_lists_in_filters_is_asked_otherwise(lists):
    lists.fill(40)
    lists.manners.in_filters = False
    assert lists.load(news(5)).rows.updated == 5


def test_several_lists_are_one_run(lists):
    lists.sql(
        "CREATE TABLE visits (code VARCHAR(9), no INTEGER, seen DATE, PRIMARY KEY (code, no, seen), FOREIGN KEY (code, no) REFERENCES hives (code, no))"
    )
    lists.fill(2)
    start = lists.hives
    text_file(lists.folder / "hives.csv", [["code", "no", "kg"], ["L", 1, 9], ["N", 1, 1]])
    text_file(
        lists.folder / "visits.csv",
        [["code", "no", "seen"], ["N", 1, "2026-05-01"], ["L", 0, "2026-05-01"], ["X", 9, "2026-05-01"]],
    )
    job = lists.folder / "job.toml"
    job.write_text(
        "".join(f'[[table]]\nrows = "{name}.csv"\nat = "{lists.root}#{name}"\n' for name in ("visits", "hives"))
    )
    receipt = tidymerge.load(job=job, accept_warnings=True, limits=NO_LIMITS, rejects=False)
    tables = {table.called: table.rows for table in receipt.tables}
    assert (tables["visits"].inserted, tables["visits"].rejected) == (2, 1)
    assert (tables["hives"].inserted, tables["hives"].updated) == (1, 1)
    assert lists.sql("SELECT * FROM visits ORDER BY code") == [("L", 0, "2026-05-01"), ("N", 1, "2026-05-01")]
    tidymerge.undo(receipt.run)
    assert (lists.hives, lists.sql("SELECT * FROM visits")) == (start, [])


@pytest.mark.long
def test_a_text_of_ten_megabytes_goes_there_and_back(lists):
    lists.fill(1)
    long = "\u4e2d" * ((10 << 20) // 3)
    done = tidymerge.load(
        pa.table({"code": ["L"], "no": [0], "note": [long]}),
        f"{lists.root}#hives",
        key=KEY,
        limits=NO_LIMITS,
        accept_warnings=True,
    )
    assert lists.hives[0][4] == long
    tidymerge.undo(done.run)
    assert lists.hives[0][4] == "x"


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_ends_a_long_sending_and_takes_it_back(lists, programs, number):
    start = lists.fill(250)
    lists.fault(path="$batch", slow=0.7, times=99)
    text_file(lists.folder / "in.csv", news(205))
    command = ("load", str(lists.folder / "in.csv"), "--into", f"{lists.root}#hives", "--yes", "--most-updated", "100%")
    running = programs.start(command, lists.folder)
    while max(row[2] for row in lists.hives) < 900:  # the first set is there
        time.sleep(0.05)
    os.kill(running.pid, number)
    assert running.wait() == 1
    assert lists.hives == start
    (one,) = tidymerge.runs()
    assert (one.run.state, "taken back" in one.run.message) == ("failed", True), one.run.message


@pytest.mark.parametrize("etags", [True, False])
def test_what_somebody_changed_since_stays_when_sets_are_taken_back(lists, etags):
    lists.manners.etags = etags
    lists.sql("CREATE UNIQUE INDEX one ON hives (note) WHERE note <> 'x'")
    lists.sql("INSERT INTO hives VALUES ('Z', 1, 1, NULL, 'taken')")
    start = lists.fill(150)
    lists.fault(path="$batch", after=1, slow=1.0)

    def edit() -> None:
        while max(row[2] for row in lists.hives) < 900:
            time.sleep(0.02)
        lists.sql("UPDATE hives SET kg = 5555 WHERE kg = (SELECT max(kg) FROM hives)")

    somebody = threading.Thread(target=edit)
    somebody.start()
    rows = [["code", "no", "kg"], *(["L", no, 900 + no] for no in range(150)), ["Z", 1, 2]]
    rows = [
        [*row, "note" if not at else "taken" if row[:2] == ["L", 3] else "x" if row[0] == "L" else ""]
        for at, row in enumerate(rows)
    ]
    with pytest.raises(WrittenPartly, match=r"1 record of 100 .* somebody changed it since") as told:
        lists.load(rows)
    somebody.join()
    now = lists.hives
    differs = [row for row, before in zip(now, start, strict=True) if row != before]
    assert [(row[2], f"{row[0]} / {row[1]}") for row in differs] == [(5555, *told.value.kept)]
    (one,) = tidymerge.runs()
    assert one.run.state == "failed"  # nothing of it is there: that record is somebody else's now


@pytest.mark.parametrize("refused", [False, True])
def test_a_service_without_change_sets_is_sent_one_record_at_a_time(lists, refused):
    lists.manners.batches = False
    start = lists.fill(12)
    if refused:
        lists.sql("CREATE UNIQUE INDEX one ON hives (kg) WHERE kg > 800")
        lists.sql("INSERT INTO hives VALUES ('Z', 1, 905, NULL, 'x')")
        with pytest.raises(WriteRefused, match="taken back"):
            lists.load(news(9))
        assert lists.hives[:-1] == start
        return
    receipt = lists.load(news(9))
    assert (receipt.rows.updated, receipt.rows.inserted, lists.asked("PATCH"), lists.asked("POST", "/hives")) == (
        9,
        1,
        9,
        1,
    )
    assert any("takes no change sets" in note for note in receipt.notes)
    tidymerge.undo(receipt.run)
    assert lists.hives == start


def test_the_stand_in_tells_what_changed_since(lists):
    """Delta links (OData Protocol 4.01, 11.4): what changed while the pages were read is told, too."""
    lists.fill(5)
    lists.manners.page = 2
    with httpx.Client(base_url=lists.root) as client:

        def read(url: str) -> tuple[list, str]:
            found = client.get(url, headers={"Prefer": "odata.track-changes"}).json()
            link = found.get("@odata.nextLink")
            if "skiptoken" not in url:
                etag = client.get("hives(code='L',no=0)").json()["@odata.etag"]
                client.patch("hives(code='L',no=0)", json={"kg": "7.25"}, headers={"If-Match": etag})
            more, delta = read(link) if link else ([], found.get("@odata.deltaLink"))
            return [*found["value"], *more], delta

        rows, delta = read("hives")
        assert [row["no"] for row in rows] == [0, 1, 2, 3, 4]
        etag = client.get("hives(code='L',no=4)").json()["@odata.etag"]
        client.delete("hives(code='L',no=4)", headers={"If-Match": etag})
        since = client.get(delta).json()
        assert [(row.get("no"), row.get("kg"), row.get("@removed")) for row in since["value"]] == [
            (0, 7.25, None),
            (None, None, {"reason": "deleted"}),
        ]
        assert client.get(since["@odata.deltaLink"]).json()["value"] == []


def test_records_of_a_list_are_changed_and_removed_and_come_back(lists):
    start = lists.fill(6)
    changed = tidymerge.change(f"{lists.root}#hives", {"kg": "kg * 2"}, where="no >= 3", limits=NO_LIMITS)
    assert [row[2] for row in lists.hives] == [0, 0.25, 0.5, 1.5, 2, 2.5]
    gone = tidymerge.remove(f"{lists.root}#hives", where="kg > 1", limits=NO_LIMITS)
    assert (gone.rows.removed, len(lists.hives)) == (3, 3)
    tidymerge.undo(gone.run)
    assert (tidymerge.undo(changed.run).rows.updated, lists.hives) == (3, start)
    lists.sql(
        "CREATE TABLE visits (id INTEGER PRIMARY KEY, code VARCHAR(9), no INTEGER, FOREIGN KEY (code, no) REFERENCES hives (code, no))"
    )
    lists.sql("INSERT INTO visits VALUES (1, 'L', 2)")
    with pytest.raises(Stopped, match="Remove what refers to them first, or") as told:
        tidymerge.remove(f"{lists.root}#hives", where="no = 2", limits=NO_LIMITS)
    assert not told.value.give  # nothing can go along with them from here


@pytest.mark.parametrize("version", ODATA_VERSIONS)
@pytest.mark.parametrize("moment", ["writing", "reading back what was written"])
def test_who_loads_the_same_at_the_same_time_keeps_it(lists, version, moment):
    lists.manners.version = version
    lists.fill(5)
    done: list[object] = []

    def meanwhile(words: str, *_: object) -> None:
        if words == moment and not done:
            done.append(lists.load(news(4)))

    file = text_file(lists.folder / "mine.csv", news(5))
    mine = tidymerge.load(
        file, f"{lists.root}#hives", key=KEY, accept_warnings=True, rejects=False, limits=NO_LIMITS, progress=meanwhile
    )
    assert (mine.rows.updated, mine.rows.inserted, mine.rows.unchanged) == (1, 0, 5)
    assert [row[2] for row in lists.hives] == [900, 901, 902, 903, 904, 900]


@pytest.mark.parametrize("cut", [{"cut_request": 0}, {"cut_answer": 0}])
def test_rows_appended_beside_equal_ones_are_neither_lost_nor_are_those_taken_away(lists, cut):
    for name in ("Alma", "Alma", "Ben"):
        lists.sql("INSERT INTO keepers (name, joined) VALUES (?, '2026-05-01T10:00:00Z')", name)
    start = lists.sql("SELECT * FROM keepers")
    rows = [["name", "joined"], *([name, "2026-05-01T10:00:00Z"] for name in ("Alma", "Ben", "Alma", "Nela"))]
    lists.fault(path="$batch", **cut)
    if "cut_answer" in cut:
        done = lists.load(rows, [], "keepers", append=True)
        assert len(lists.sql("SELECT * FROM keepers")) == 7
        tidymerge.undo(done.run)
        assert [row[1:] for row in lists.sql("SELECT * FROM keepers ORDER BY name")] == sorted(row[1:] for row in start)
        return
    with pytest.raises(ServerAway):
        lists.load(rows, [], "keepers", append=True)
    assert lists.sql("SELECT * FROM keepers") == start
    (one,) = tidymerge.runs()
    assert one.run.state == "failed"
