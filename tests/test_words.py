"""What is said is true: numbers and their words, shares, why nothing was written, and tables that fit."""

import pytest
from rich.console import Console

from conftest import database, stored, text_file
from tidymerge.cli.screen.listing import Listing
from tidymerge.core.words import counted, nothing_to_write, share, what_to_do
from tidymerge.model.changes import Tally


@pytest.mark.parametrize(
    ("count", "whole", "than", "said"),
    [
        (1, 2, None, "50%"), (51, 101, 50, "50.5%"), (50_001, 100_000, 50, "50.001%"), (999, 1000, None, "99.9%"),
        (1, 300_000, None, "0.0003%"), (3, 3, 100, "100%"), (67, 100, 25, "67%"), (1, 0, 5, "all"),
    ],
)  # fmt: skip
def test_a_share_is_never_rounded_to_what_it_is_not(count, whole, than, said):
    assert share(count, whole, than) == said


@pytest.mark.parametrize(
    ("inserted", "records", "removed", "undo", "said"),
    [
        (2, 6, 0, False, "Insert 2 and update 6 of 26 records in coop.db#hives?"),
        (1, 0, 0, False, "Insert 1 record in coop.db#hives?"),
        (0, 1200, 0, False, "Update 1,200 of 26 records in coop.db#hives?"),
        (1, 2, 3, True, "Put back 2, remove again 3 and insert again 1 of 26 records in coop.db#hives?"),
        (0, 0, 1, True, "Remove again 1 of 26 records in coop.db#hives?"),
    ],
)
def test_the_question_has_all_numbers(inserted, records, removed, undo, said):
    rows = Tally(inserted=inserted, updated=records, unchanged=0, skipped=0, rejected=0, removed=removed)
    assert what_to_do(rows, records, 26, "coop.db#hives", undo=undo) == said


def test_one_and_many():
    assert [counted(count, "row") for count in (0, 1, 2, 1000)] == ["0 rows", "1 row", "2 rows", "1,000 rows"]


@pytest.mark.parametrize(
    ("counts", "said"),
    [
        ({"unchanged": 2}, "already holds what the rows say."),
        ({"unchanged": 2, "skipped": 1}, "already holds what the rows say that were not skipped."),
        ({"unchanged": 2, "skipped": 1, "rejected": 1}, "rows say that were neither skipped nor rejected."),
        ({"skipped": 3, "rejected": 1}, "all rows were skipped or rejected."),
        ({}, "there were no rows."),
    ],
)
def test_why_nothing_was_written(counts, said):
    none = dict.fromkeys(("inserted", "updated", "unchanged", "skipped", "rejected"), 0)
    assert nothing_to_write(Tally(**{**none, **counts})).endswith(said)


@pytest.mark.parametrize("width", [200, 120, 80, 40])
def test_a_table_never_breaks_a_word_and_loses_none(width):
    names = [f"column_{at}" for at in range(12)]
    cells = [f"a{'b' * at} value" for at in range(12)]
    sentences = Listing("Title", ["name", "rule"], (), ("rule",))
    sentences.add_row("honey_kg", "found in keepers by email and then some more words that go on and on")
    data = Listing("Rows", names, ())
    data.add_row(*cells)
    for listed, words in ((data, [*names, *cells]), (sentences, ["honey_kg", "found", "keepers", "words"])):
        console = Console(width=width, record=True, file=None, quiet=False)
        with console.capture() as caught:
            console.print(listed)
        lines = caught.get().splitlines()
        assert max(map(len, lines)) <= width
        assert [word for word in words if not any(word in line for line in lines)] == []


def test_lines_in_a_pipe_are_as_long_as_they_need_and_end_with_their_words(run, folder):
    names = [f"column_{at}" for at in range(30)]
    target = database(folder / "t.db", f"CREATE TABLE t (k INTEGER PRIMARY KEY, {', '.join(names)})", "t", ())
    rows = [["k", *names], [1, *[f"{'v' * 30} {at}" for at in range(30)]]]
    shown = run("preview", text_file(folder / "in.csv", rows), "--into", target).out.splitlines()
    assert [line for line in shown if line != line.rstrip()] == []
    assert [line for line in shown if f"{'v' * 30} 0" in line and f"{'v' * 30} 29" in line] != []


def test_rows_that_a_rule_holds_back_are_skipped_with_the_reason(run, folder):
    target = database(
        folder / "t.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, a TEXT, b TEXT, used TEXT)", "t", [(1, "x", "y", "")]
    )
    (folder / "job.toml").write_text(
        f'[incoming]\nskip_when = "Shelf = 9"\n[target]\nat = "{target}"\n[columns]\nk = "K"\n'
        'a = { from = "A", update_when = "empty" }\nb = { from = "B", blanks = "fill-only" }\n'
        "used = { compute = \"coalesce(Extra, '')\" }\n"
    )
    text_file(folder / "in.csv", [["K", "A", "B", "Shelf", "Extra", "Spare"], [1, "other", "y", 1, "", ""]])
    ended = run("load", "in.csv", "--job", "job.toml", "--yes", "--marked", "m.csv", "--json")
    assert ended.receipt["rows"] == {
        "inserted": 0,
        "updated": 0,
        "unchanged": 0,
        "skipped": 1,
        "rejected": 0,
        "removed": 0,
        "absent": 0,
    }
    assert "1 skipped: update_when of a column was not met." in ended.receipt["notes"]
    assert "skipped,update_when of a column was not met" in (folder / "m.csv").read_text("utf-8-sig")
    assert ended.receipt["tables"][0]["not_loaded"] == ["Spare"]  # the others are asked, if not loaded
    text_file(folder / "in.csv", [["K", "A", "B", "Shelf", "Extra"], [1, "x", "other", 1, ""]])
    assert "1 skipped: values are there already" in run("load", "in.csv", "--job", "job.toml", "--yes").out
    assert stored(target) == [(1, b"x", b"y", b"")]
    nowhere = run("load", "in.csv", "--job", "job.toml", "--rows", "900-905")
    assert "no row has a number in 900-905" in nowhere.out
