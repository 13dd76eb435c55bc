"""Files that a run writes besides: never over one that was not meant, whole or not at all, and none if none is wanted."""

import gzip
import os
import shutil

import pytest

from conftest import database, sheet, stored, text_file

HEAD = ["Apiary code", "Hive no.", "Honey (kg)"]
ROWS = [HEAD, ["L01", 1, 13], ["L01", "x", 1]]


@pytest.fixture
def job(folder, hives):
    (folder / "job.toml").write_text('[target]\nat = "coop.db#hives"\n', "utf-8")
    sheet(folder / "in.xlsx", ROWS)
    text_file(folder / "in.csv", ROWS)
    os.link(folder / "coop.db", folder / "hard.csv")
    (folder / "soft.csv").symlink_to("in.csv")
    (folder / "mine.csv").write_text("kept\n")
    (folder / "mine.html").write_text("<html>kept</html>")
    shutil.copy(folder / "in.xlsx", folder / "mine.xlsx")
    return "--job", "job.toml"


def contents(folder):
    return {path.name: path.read_bytes() for path in folder.iterdir() if path.is_file()}


@pytest.mark.parametrize(
    ("options", "why"),
    [
        (("--rejects", "in.csv"), "is the incoming rows"),
        (("--rejects", "./../{here}/in.csv"), "is the incoming rows"),
        (("--rejects", "soft.csv"), "is the incoming rows"),
        (("--rejects", "hard.csv"), "is the target"),
        (("--rejects", "coop.db"), "must end in .csv or .csv.gz"),
        (("--rejects", "job.toml"), "must end in"),
        (("--rejects", "mine.csv"), "it would be lost"),
        (("--rejects", "a.csv", "--marked", "a.csv"), "is the rejected rows"),
        (("--rejects", "a.csv", "--no-rejects"), "and to none"),
        (("--marked", "in.xlsx"), "it would be lost"),
        (("--marked", "mine.xlsx"), "it would be lost"),
        (("--page", "mine.html"), "it would be lost"),
        (("--page", "none/p.html"), "There is no folder none"),
        (("--rejects", "{home}/runs/r.csv"), "is in the run log"),
    ],
)
@pytest.mark.parametrize("command", ["preview", "load"])
def test_no_file_is_overwritten_that_was_not_meant(run, job, folder, home, command, options, why):
    if "--no-rejects" in options and command == "preview":
        return
    (home / "runs").mkdir(exist_ok=True)
    before = contents(folder)
    options = [option.format(here=folder.name, home=home) for option in options]
    ended = run(command, "in.csv", *job, *options)
    assert (ended.status, why in ended.err) == (2, True), ended.err
    assert contents(folder) == before


def test_files_of_ours_are_replaced_and_nothing_is_left_beside(run, job, folder):
    options = ("--rejects", "r.csv.gz", "--marked", "m.xlsx", "--page", "p.html", "--chart", "c.png", "--yes")
    assert run("load", "in.xlsx", *job, *options).status == 3
    assert run("preview", "in.xlsx", *job, *options[:-1]).status == 3
    text = gzip.decompress((folder / "r.csv.gz").read_bytes()).decode("utf-8-sig")
    assert text.splitlines()[0].startswith("Apiary code,Hive no.,Honey (kg)")
    assert text.splitlines()[1].startswith("L01,x,1")
    assert run("look", "r.csv.gz").status == 0
    for name in ("one.csv", "one.csv.gz", "one.jsonl", "one.parquet"):
        for _ in range(2):
            assert run("receipt", "last", "--changes", name).status == 0
    for _ in range(2):
        assert run("undo", "last", "--preview", "--conflicts", "u.csv").status == 0
    assert [path.name for path in folder.iterdir() if path.name.startswith(".")] == []


def test_a_rejects_file_being_mended_is_never_the_one_that_is_written(run, job, folder):
    assert run("load", "in.csv", *job, "--rejects", "r.csv", "--yes").status == 3
    corrected = (folder / "r.csv").read_bytes().replace(b"x", b"y")
    (folder / "r.csv").write_bytes(corrected)
    refused = run("load", "r.csv", *job, "--rejects", "r.csv", "--yes")
    assert (refused.status, "is the incoming rows" in refused.err) == (2, True)
    assert run("load", "r.csv", *job, "--yes").status == 3
    assert (folder / "r.csv").read_bytes() == corrected
    assert (folder / "r-rejects.csv").exists()


def test_a_load_that_fails_leaves_the_earlier_rejects_as_they_were(run, job, folder):
    assert run("load", "in.csv", *job, "--rejects", "r.csv", "--yes").status == 3
    (folder / "in.csv").write_text("Apiary code,Hive no.,Honey (kg)\nL01,1,99\nL01,z,1\n")
    before, table = (folder / "r.csv").read_bytes(), stored(f"{folder}/coop.db#hives")
    failing = (
        "from tidymerge.databases.sqlite.session import Session\nfrom tidymerge.cli.app import main\n"
        "def broken(self):\n    raise OSError('gone')\nSession.commit = broken\nmain()"
    )
    assert run("load", "in.csv", *job, "--rejects", "r.csv", "--yes", script=failing).status == 1
    assert ((folder / "r.csv").read_bytes(), stored(f"{folder}/coop.db#hives")) == (before, table)
    assert [path.name for path in folder.iterdir() if path.name.startswith(".")] == []


def test_a_load_may_leave_its_rejected_rows_unsaved(run, job, folder):
    for options, rules, names in (
        (["--no-rejects"], "", []),
        ([], "[rules]\nsave_rejects = false\n", []),
        ([], "", ["in-rejects.csv"]),
    ):
        (folder / "job.toml").write_text(f'[target]\nat = "coop.db#hives"\n{rules}', "utf-8")
        before = {path.name for path in folder.iterdir()}
        ended = run("load", "in.csv", *job, "--yes", *options)
        assert ended.status == 3
        assert sorted({path.name for path in folder.iterdir()} - before) == names
        assert ("Rejected rows are in" in ended.out) == bool(names)


@pytest.mark.parametrize(
    ("incoming", "name"),
    [("in.csv", "in"), ("-", "incoming"), ("b.db#staging.acc", "b"), ("a b.tar.csv", "a-b.tar"), ("v1.csv.gz", "v1")],
)
def test_what_a_new_rejects_file_is_called(run, job, folder, incoming, name):
    data = b"Apiary code,Hive no.\nL01,x\n"
    database(
        folder / "b.db",
        'CREATE TABLE "staging.acc" ("Apiary code" TEXT, "Hive no." TEXT)',
        "staging.acc",
        [("L01", "x")],
    )
    (folder / "a b.tar.csv").write_bytes(data)
    (folder / "v1.csv.gz").write_bytes(gzip.compress(data))
    ended = run("load", incoming, *job, "--yes", stdin=data)
    assert ended.status == 3, ended.err
    assert f"Rejected rows are in {name}-rejects.csv" in ended.out


def test_a_draft_never_takes_the_place_of_rows_or_tables(run, job, folder):
    before = contents(folder)
    for name in ("coop.db", "in.csv", "soft.csv", "mine.xlsx"):
        assert run("draft", "in.csv", "--into", "coop.db#hives", "--out", name).status == 2, name
    assert contents(folder) == before
