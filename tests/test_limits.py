"""The brake: what is asked for, what holds unasked, and what is said to go ahead."""

import re

import pytest

from conftest import database, stored, text_file
from tidymerge.core.warn.limits import doubts, exceeded, parse_most
from tidymerge.errors import BadOption
from tidymerge.model.changes import Tally
from tidymerge.model.rules import Limits, Most

BIG = Tally(inserted=10, updated=30, unchanged=50, skipped=5, rejected=5)


@pytest.mark.parametrize(
    ("limits", "counted", "before", "said"),
    [
        ({}, BIG, 1000, []),
        ({}, Tally(updated=501, unchanged=99), 1000, [("most_updated", 501)]),
        ({}, Tally(updated=99), 99, []),  # a small table
        ({}, Tally(updated=500, unchanged=100), 1000, []),  # just half of it
        ({}, Tally(updated=51), 100, [("most_updated", 51)]),
        ({"fewest_rows": 100}, BIG, 999, []),
        ({"expect_updated": 30, "expect_inserted": 10}, BIG, 999, []),
        ({"inserted": "10"}, BIG, 999, []),
        ({"rejected": "5%"}, BIG, 999, []),
        ({}, Tally(rejected=3, unchanged=26), 500, [("most_rejected", 3)]),
        ({}, Tally(rejected=3, unchanged=27), 500, []),  # just a tenth
        ({}, Tally(rejected=9, unchanged=10), 500, []),  # a small sheet
        ({}, Tally(inserted=20, rejected=1), 500, [("most_inserted", 20)]),
        ({}, Tally(inserted=20, unchanged=1), 500, []),
        ({}, Tally(inserted=20), 0, []),  # into an empty table
        ({"updated": "29"}, BIG, 1000, [("most_updated", 30)]),
        ({"updated": "30"}, BIG, 1000, []),
        ({"updated": "2.9%"}, BIG, 1000, [("most_updated", 30)]),
        ({"updated": "3%"}, BIG, 1000, []),
        ({"updated": "29% of incoming"}, BIG, 10, [("most_updated", 30)]),
        ({"updated": "100%"}, Tally(updated=501), 501, []),
        ({"inserted": "1%"}, BIG, 999, [("most_inserted", 10)]),
        ({"rejected": "4%"}, BIG, 999, [("most_rejected", 5)]),
        ({"rejected": "0"}, BIG, 999, [("most_rejected", 5)]),
        ({"fewest_rows": 101}, BIG, 999, [("fewest_rows", 100)]),
        ({"expect_updated": 31, "expect_inserted": 10}, BIG, 999, [("expect_updated", 30)]),
        ({"expect_updated": 501}, Tally(updated=501), 501, []),  # who knows the number needs no other brake
        ({"expect_inserted": 20}, Tally(inserted=20), 500, []),
    ],
)
def test_what_is_exceeded_and_what_to_give_to_go_ahead(limits, counted, before, said):
    given = {name: parse_most(value, name) if isinstance(value, str) else value for name, value in limits.items()}
    found = exceeded(Limits(**given), counted, before, counted.updated)
    assert [(excess.name, excess.count) for excess in found] == said


@pytest.mark.parametrize(
    ("limits", "counted", "before", "said"),
    [
        (Limits(), Tally(inserted=3), 9, "No row matched"),
        (Limits(), Tally(inserted=20), 9, None),  # a limit says it
        (Limits(inserted=Most(50, "incoming")), Tally(inserted=20), 9, "No row matched"),  # every week's limit is no consent
        (Limits(inserted=Most(20)), Tally(inserted=20), 9, None),  # just so many were asked for
        (Limits(), Tally(updated=30), 30, "Every one of the 30"),
        (Limits(), Tally(updated=300), 300, None),
        (Limits(updated=Most(100, "target")), Tally(updated=300), 300, "Every one of the 300"),
        (Limits(expect_updated=300), Tally(updated=300), 300, None),
        (Limits(), Tally(updated=29, inserted=5), 30, None),
    ],
)  # fmt: skip
def test_what_no_limit_stops_may_still_be_worth_a_warning(limits, counted, before, said):
    found = doubts(limits, counted, before, counted.updated, ["k"])
    assert [said in words for words in found] == [True] * bool(said)


@pytest.mark.parametrize("text", ["", "-1", "1.5", "20 %%", "half", "5 of target", "20% of rows"])
def test_a_limit_that_makes_no_sense_is_refused(text):
    with pytest.raises(BadOption, match="20%"):
        parse_most(text, "updated")


@pytest.fixture
def many(folder):
    return database(folder / "coop.db", rows=[("L01", at, "white", 1, None, None) for at in range(200)])


def test_the_command_lines_limit_wins_over_the_jobs_and_yes_is_no_way_round(run, many, folder):
    text_file(
        folder / "in.csv", [["apiary_code", "hive_no", "queen_colour"], *(["L01", at, "red"] for at in range(150))]
    )
    (folder / "j.toml").write_text(
        "[incoming]\nat = 'in.csv'\n[target]\nat = 'coop.db#hives'\n[limits]\nupdated = '10%'\nfewest_rows = 100\n"
    )
    before = stored(many)
    preview = run("preview", "--job", "j.toml", "--json")
    assert (preview.status, len(preview.receipt["limits"])) == (0, 1)
    stopped = run("load", "--job", "j.toml", "--yes", "--json")
    assert (stopped.status, stopped.receipt["state"], stored(many)) == (4, "stopped", before)
    assert "150 rows would be updated, 75% of the 200 that are the target's records: more than 10%" in stopped.err
    assert run("load", "--job", "j.toml", "--yes", "--most-updated", "149").status == 4
    assert run("load", "--job", "j.toml", "--yes", "--most-updated", "80%", "--fewest-rows", "151").status == 4
    assert run("load", "--job", "j.toml", "--yes", "--most-updated", "80%", "--expect-updated", "149").status == 4
    usual = run("load", "in.csv", "--into", many, "--yes")
    assert (usual.status, "--most-updated 150" in usual.err) == (4, True)
    asked = run(
        "load", "--job", "j.toml", "--yes", "--most-updated", "150", "--expect-updated", "150", "--expect-inserted", "0"
    )
    assert asked.status == 0, asked.err
    assert run("load", "in.csv", "--into", many, "--most-updated", "few").status == 2


def test_what_the_message_says_to_give_lets_the_load_go_ahead(run, many, folder):
    for rows in ([["Z", at, "red"] for at in range(40)], [["L01", at, "red"] for at in range(200)]):
        incoming = text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour"], *rows])
        stopped = run("load", incoming, "--into", many)
        option, number = re.search(r"(--most-\w+) (\d+)", stopped.err).groups()
        assert stopped.out.count("No row matched") + stopped.out.count("records would change") == 1  # said once
        assert run("load", incoming, "--into", many, option, number).status == 0


def test_a_bad_limit_in_a_job_is_named_by_line(run, many, folder):
    (folder / "j.toml").write_text("[target]\nat = 'coop.db#hives'\n[limits]\nupdated = 'half'\n")
    ended = run("load", "in.csv", "--job", "j.toml")
    assert (ended.status, "line 4" in ended.err) == (2, True), ended.err
