"""How the program fits a shell: where files are, jobs that are piped in, colours and widths, and what was mistyped."""

import json
import os
import subprocess
import sys

import pytest

from conftest import sheet, stored, text_file
from test_architecture import every_error

SHEET = [["apiary_code", "hive_no", "honey_kg"], ["L01", 1, 13]]


def test_files_are_found_from_the_home_folder_and_by_a_url(run, hives, folder):
    """Also in a job file, where addresses else count from its folder; a folder that is called ~ comes first."""
    (folder / "home" / "jobs").mkdir(parents=True)
    home = {"HOME": str(folder / "home")}
    text_file(folder / "home" / "in1.csv", SHEET)
    place = hives.partition("#")[0]
    for rows, into in (("~/in1.csv", f"sqlite:///{place}#hives"), ("~/in*.csv", "SQLite:///coop.db#hives")):
        assert run("preview", rows, "--into", into, "--json", **home).receipt["rows"]["updated"] == 1
    job = folder / "home" / "jobs" / "week.toml"
    job.write_text(f'[incoming]\nat = "~/in1.csv"\n[target]\nat = "sqlite:///{place}#hives"\n', "utf-8")
    done = run("load", "--job", str(job), "--yes", "--json", **home)
    assert (done.status, stored(hives)[0][3]) == (0, 13)
    assert run("undo", "last", "--yes", **home).status == 0
    (folder / "~").mkdir()
    text_file(folder / "~" / "in1.csv", [*SHEET, ["L01", 2, 1]])
    assert run("preview", "~/in1.csv", "--into", hives, "--json", **home).receipt["incoming"]["rows"] == 2


def test_a_job_can_be_piped_in(run, hives, folder):
    text_file(folder / "in.csv", SHEET)
    job = b'[incoming]\nat = "in.csv"\n[target]\nat = "%b"\n' % hives.encode()
    done = run("load", "--job", "-", "--yes", "--json", stdin=job)
    assert (done.status, done.receipt["rows"]["updated"], stored(hives)[0][3]) == (0, 1, 13)
    wrong = run("load", "--job", "-", stdin=job + b"[target]\n")
    assert (wrong.status, "standard input is not valid TOML" in wrong.err) == (2, True)
    both = run("load", "-", "--job", "-", stdin=job)
    assert (both.status, "can't be both the job and its rows" in both.err) == (2, True)
    change = "[change]\nwhere = 'hive_no = 1'\n[target]\nat = '{}'\n[columns]\nnotes = {{compute = \"'x'\"}}\n"
    changed = run("change", "--job", "-", "--yes", "--json", stdin=change.format(hives).encode())
    fields = {field["column"]: field["after"] for field in changed.receipt["tables"][0]["samples"][0]["fields"]}
    assert (changed.status, fields["notes"]) == (0, "x"), changed.err


@pytest.mark.parametrize(("words", "said"), [(("load", "--jsno"), "--jsno"), (("look",), "ADDRESS"), (("lok",), "lok")])
def test_what_was_mistyped_is_json_too(run, words, said):
    ended = run(*words, "--json")
    error = json.loads(ended.out)["error"]
    assert (ended.status, error["code"], said in error["message"], said in ended.err) == (2, "bad-option", True, True)


def test_colours_and_widths_as_the_environment_says(run, hives):
    assert "\x1b[" not in run("look", hives).out
    assert "\x1b[1m" in run("look", hives, CLICOLOR_FORCE="1").out
    assert "\x1b[" not in run("look", hives, CLICOLOR_FORCE="0").out
    narrow, wide = (max(map(len, run("look", hives, COLUMNS=width).out.splitlines())) for width in ("60", "200"))
    assert narrow <= 60 < wide <= 200


def test_it_runs_as_a_module(folder):
    command = [sys.executable, "-m", "tidymerge", "--version"]
    ended = subprocess.run(command, cwd=folder, env=dict(os.environ), capture_output=True, text=True, check=False)
    assert (ended.returncode, ended.stdout.split()[0]) == (0, "tidymerge")


def test_nothing_is_printed_unless_it_is_stopped(run, on_terminal, hives, folder):
    text_file(folder / "in.csv", [["apiary_code", "hive_no", "honey_kg"], ["L01", 1, 13], ["L01", 2, "some"]])
    words = ("load", "in.csv", "--into", hives, "--no-rejects", "--quiet")
    stopped = run(*words, "--most-rejected", "0")
    assert (stopped.status, stopped.out, "Limit: 1 row would be rejected" in stopped.err) == (4, "", True)
    shown, status = on_terminal(*words, "--most-rejected", "1")
    assert (shown.strip(), status, stored(hives)[0][3]) == ("", 3, 13)
    for words in (
        ("undo", "last"),
        ("change", hives, "--set", "notes = 'x'", "--where", "hive_no = 1", "--most-updated", "9"),
    ):
        ended = run(*words, "--quiet")
        assert (ended.status, ended.out, ended.err) == (0, "", "")
    assert stored(hives)[0][3:] == (12.5, b"2026-05-01", b"x")


def test_every_error_is_explained_at_the_terminal(run):
    listed = run("explain").out
    public = [kind for kind in every_error() if kind.__module__ == "tidymerge.errors"]
    for kind in public:
        code = kind.code.fget(kind.__new__(kind))
        if f"{code} " in listed:
            said = run("explain", code)
            assert said.status == 0
            assert said.out.startswith(f"{code}\n\nExit status {kind.exit_status}.")
    assert len(listed.splitlines()) == len(public) - 5 + 2  # but for the families; a title and the names
    unknown = run("explain", "nokey")
    assert (unknown.status, "Did you mean no-key?" in unknown.err) == (2, True)


@pytest.mark.parametrize("form", ["jsonl", "json", "csv", "tsv"])
def test_what_is_piped_in_is_of_the_form_that_is_said(run, hives, folder, form):
    names, row = SHEET[0], SHEET[1]
    data = {
        "csv": ",".join(names) + "\n" + ",".join(map(str, row)),
        "tsv": "\t".join(names) + "\n" + "\t".join(map(str, row)),
        "json": json.dumps([dict(zip(names, row, strict=True))]),
        "jsonl": json.dumps(dict(zip(names, row, strict=True))),
    }[form]
    (folder / "rows.log").write_text(data)
    words = ("--into", hives, "--format", form, "--json")
    assert run("preview", "rows.log", *words).receipt["rows"]["updated"] == 1
    job = f'[incoming]\nat = "-"\nformat = "{form}"\n[target]\nat = "{hives}"\n'
    (folder / "job.toml").write_text(job)
    assert run("preview", "--job", "job.toml", "--json", stdin=data.encode()).receipt["rows"]["updated"] == 1
    loaded = run("load", "-", *words, stdin=data.encode())
    assert (loaded.status, loaded.receipt["rows"]["updated"], stored(hives)[0][3]) == (0, 1, 13), loaded.err
    if form.startswith("json"):
        broken = run("load", "-", *words, stdin=data[:-9].encode())
        assert (broken.status, "tandard input" in broken.err) == (1, True), broken.err
        huge = run("load", "-", *words, stdin=data.encode(), TIDYMERGE_MOST_UNPACKED="20")
        assert (huge.status, "more than 20 bytes" in huge.err) == (1, True), huge.err


def test_the_shell_completes_what_is_there(run, hives, folder):
    """With a broken database, or none, nothing is offered, and nothing is said."""
    sheet(folder / "week.xlsx", SHEET, "Week 32")
    assert run("load", "week.xlsx", "--into", hives, "--yes").status == 0
    name = json.loads(run("runs", "--json").out)["runs"][0]["run"]
    (folder / "broken.db").write_bytes(b"no database")
    for words, offered in (
        ("receipt ", ["last", name]),
        (f"undo {name[:8]}", [name]),
        ("look coop.db#", ["coop.db#hives"]),
        ("load week.xlsx#W", ["week.xlsx#Week 32"]),
        ("preview week.xlsx --into coop.db#hives --key h", ["hive_no", "honey_kg"]),
        ("look coop.db#hives --values q", ["queen_colour"]),
        ("extract broken.db#t --only q", []),
        ("look nothing.db#", []),
        ("explain no-s", ["no-such-column", "no-such-run", "no-such-file", "no-such-sheet", "no-such-table"]),
        ("compa", ["compare"]),
    ):
        typed = f"tidymerge {words}"
        ended = run(_TIDYMERGE_COMPLETE="complete_bash", COMP_WORDS=typed, COMP_CWORD=str(typed.count(" ")))
        assert (ended.out.split("\n")[:-1] if offered else ended.out.split(), ended.err) == (offered, ""), words
