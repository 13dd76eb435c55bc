"""What becomes of the output never decides what becomes of a run; and what is said of the run is true."""

import os
import subprocess
from pathlib import Path

import pytest

from conftest import stored, text_file
from program import PROGRAM

ROWS = [["Apiary code", "Hive no.", "Honey (kg)", "Notes"], ["L01", 1, 13, "Żółć \N{HONEYBEE}"]]
_CLOSED = "import os\nos.close({})\nfrom tidymerge.cli.app import main\nmain()"


def full(run_it, folder):
    with Path("/dev/full").open("wb") as out, (folder / "err").open("w+b") as err:
        return run_it((out, out, err)), err


def ended_pipe(run_it, folder):
    reading, writing = os.pipe()
    os.close(reading)
    with (folder / "err").open("w+b") as err:
        status = run_it((writing, writing, err))
    os.close(writing)
    return status, err


@pytest.mark.parametrize("json_too", [False, True])
@pytest.mark.parametrize(("where", "said"), [(full, "No space left on device"), (ended_pipe, "")])
def test_a_load_that_committed_says_so_by_its_status(programs, hives, folder, where, said, json_too):
    text_file(folder / "in.csv", ROWS)
    options = ["--json"] * json_too
    command = ["load", "in.csv", "--into", hives, "--yes", *options]
    status, _ = where(lambda files: programs.start(command, folder, files).wait(), folder)
    assert (status, stored(hives)[0][3]) == (0, 13)
    lines = (folder / "err").read_text().splitlines()
    assert lines == ([f"tidymerge: Not all of the output could be written: {said}."] if said else [])
    # Where the output is all there is to do, a disk that is full is a failure, and a reader that has enough is none.
    status, _ = where(lambda files: programs.start(["runs", *options], folder, files).wait(), folder)
    assert status == bool(said)


@pytest.mark.parametrize("number", [0, 1, 2])
def test_a_stream_that_is_closed_gets_nothing_and_gives_its_number_to_no_file(run, hives, folder, number):
    text_file(folder / "in.csv", ROWS)
    ended = run("load", "in.csv", "--into", hives, "--yes", script=_CLOSED.format(number))
    assert (ended.status, stored(hives)[0][3]) == (0, 13)
    assert ("Committed" in ended.out) == (number != 1)


def test_the_installed_program_starts_without_streams(hives, folder):
    text_file(folder / "in.csv", ROWS)
    command = f"'{PROGRAM}' load in.csv --into '{hives}' --yes <&- >&- 2>&-"
    assert subprocess.run(["bash", "-c", command], cwd=folder, check=False).returncode == 0
    assert stored(hives)[0][3] == 13


@pytest.mark.parametrize("encoding", ["ascii", "latin-1", "cp1252", "utf-16"])
def test_any_encoding_will_do_and_json_is_always_utf_8(run, hives, folder, encoding):
    text_file(folder / "in.csv", [*ROWS, ["L01", "x", "", "Żółć"]])
    script = (
        "import sys\nfrom tidymerge.cli.app import main\n"
        f"sys.stdout.reconfigure(encoding={encoding!r}, errors='strict')\nmain()"
    )
    command = ("load", "in.csv", "--into", hives, "--yes")
    if encoding != "utf-16":  # whose bytes the fixture can't read
        ended = run(*command, script=script)
        assert (ended.status, "Committed" in ended.out) == (3, True), ended.err
    again = run(*command, "--json", script=script)
    assert (again.status, again.receipt["rows"]["rejected"], "Żółć" in again.out) == (3, 1, True)


def test_a_receipt_that_cannot_be_drawn_does_not_make_the_load_look_failed(run, hives, folder):
    text_file(folder / "in.csv", ROWS)
    broken = (
        "from tidymerge.cli.screen import draw\nfrom tidymerge.cli.app import main\n"
        "def broken(*_, **__):\n    raise RuntimeError('no pen')\ndraw.receipt = broken\nmain()"
    )
    ended = run("load", "in.csv", "--into", hives, "--yes", script=broken)
    assert (ended.status, stored(hives)[0][3]) == (0, 13)
    assert "The run is done, but its receipt is not shown: no pen. See it with: tidymerge receipt" in ended.err
    assert "defect" not in ended.err
