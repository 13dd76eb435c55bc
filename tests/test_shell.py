"""How the program fits a shell: where files are, jobs that are piped in, colours and widths, and what was mistyped."""

import json
import os
import subprocess
import sys

import pytest

from conftest import stored, text_file

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
