"""Receipts that people look at: the page and the pictures. What came from outside is only text in them."""

import io
import json
import re
import sqlite3
from html.parser import HTMLParser

import pytest
from rich.console import Console

from conftest import database, stored, text_file
from tidymerge.cli.screen.bars import Bars
from tidymerge.core.infer.unusual import unusual

HOSTILE = "<script>alert(1)</script>"
SHEET = [
    ["apiary_code", "hive_no", "queen_colour", "notes"],
    ["L01", 1, "red", HOSTILE],
    ["L01", 2, "blue", '"><img src=x onerror=alert(2)>'],
    ["N09", 4, "green", "$a_1$"],
    ["N09", "x<b>", "green", ""],
]


class Read(HTMLParser):
    """The page as a browser has it: the tags, and the text outside of scripts and styles."""

    def __init__(self, page):
        super().__init__()
        self.tags, self.text, self._inside = [], [], None
        self.feed(page)

    def handle_starttag(self, tag, attrs):
        self.tags.append((tag, dict(attrs)))
        self._inside = tag

    def handle_data(self, data):
        if self._inside not in ("script", "style"):
            self.text.append(data)

    @property
    def words(self):
        return " ".join(" ".join(self.text).split())


def is_png(path):
    return path.read_bytes()[:8] == b"\x89PNG\r\n\x1a\n" and path.stat().st_size > 5000


def test_the_page_tells_the_receipt_and_nothing_in_it_is_obeyed(run, hives, folder):
    incoming = text_file(folder / "in.csv", SHEET)
    ended = run("load", incoming, "--into", hives, "--yes", "--page", "p.html", "--chart", "c.png", "--json")
    receipt = ended.receipt
    text = (folder / "p.html").read_text("utf-8")
    read = Read(text)
    assert list(receipt["rejects"]["reasons"]) == ["not a number"]
    for words in (
        "Loaded", "coop.db#hives", "3 rows before, 4 after", receipt["run"], receipt["fingerprint"], "The 3 changed records",
        HOSTILE, "$a_1$", "not a number", "x<b>", "read back equal",
        f"tidymerge undo {receipt['run']}",
    ):  # fmt: skip
        assert words in read.words, words
    tags = [tag for tag, _ in read.tags]
    assert tags.count("script") == 1  # ours
    assert "img" not in tags
    assert not [attrs for _, attrs in read.tags for name in attrs if name.startswith("on") or name == "src"]
    assert not re.findall(r"(?:href|url\()=?[\"']?(?:https?:)?//", text.replace("http://www.w3.org", ""))  # no network
    assert is_png(folder / "c.png")
    again = run("receipt", "last", "--page", "again.html", "--chart", "again.png")
    assert again.status == 0
    assert (folder / "again.html").read_text("utf-8") == text


def test_previews_and_undos_have_pages_too(run, hives, folder):
    incoming = text_file(folder / "in.csv", SHEET)
    run("preview", incoming, "--into", hives, "--page", "preview.html", "--chart", "p.png")
    shown = Read((folder / "preview.html").read_text("utf-8")).words
    assert "Preview of" in shown
    assert "The 3 changed records" in shown
    assert "To take it back" not in shown
    run("load", incoming, "--into", hives, "--yes")
    run("undo", "last", "--preview", "--page", "undo.html")
    previewed = Read((folder / "undo.html").read_text("utf-8")).words
    for words in ("Preview of undoing", "The 3 changed records", "removed N09 / 4", "red → white"):
        assert words in previewed, words
    run("undo", "last", "--page", "undo.html")
    undone = Read((folder / "undo.html").read_text("utf-8")).words
    assert "Undone: run" in undone
    assert "removed N09 / 4" in undone


def test_a_page_shows_the_first_thousand_records_and_says_so(run, hives, folder):
    rows = [SHEET[0], *([f"X{at}", at, "red", ""] for at in range(1200))]
    ended = run(
        "load",
        text_file(folder / "in.csv", rows),
        "--into",
        hives,
        "--yes",
        "--most-inserted",
        "1200",
        "--page",
        "p.html",
    )
    assert ended.status == 0, ended.err
    read = Read((folder / "p.html").read_text("utf-8"))
    assert "The first 1,000 of the 1,200 changed records" in read.words
    assert "--changes changes.csv" in read.words


@pytest.mark.parametrize("option", [("--page", "p.txt"), ("--chart", "c.svg"), ("--page", "nowhere/p.html")])
def test_a_page_that_could_not_be_written_stops_the_load_before_it_begins(run, hives, folder, option):
    before = stored(hives)
    ended = run("load", text_file(folder / "in.csv", SHEET), "--into", hives, "--yes", *option)
    assert (ended.status, "bad-option" in ended.err, stored(hives)) == (2, True, before)


def test_a_page_that_fails_after_the_commit_does_not_make_the_load_look_failed(run, hives, folder):
    incoming = text_file(folder / "in.csv", SHEET)
    full = (
        "from tidymerge.reports import page\nfrom tidymerge.cli.app import main\n"
        "def full(*_):\n    raise OSError('no room')\npage.page = full\nmain()"
    )
    ended = run("load", incoming, "--into", hives, "--yes", "--page", "p.html", script=full)
    assert (ended.status, "Committed." in ended.out, "The run is done" in ended.err) == (3, True, True), ended.err
    (folder / "p.html").mkdir()
    assert run("receipt", "last", "--page", "p.html").status == 2
    assert run("preview", incoming, "--into", hives, "--page", "p.html").status == 2


def test_loads_over_time_are_drawn_and_unusual_ones_stand_out(run, hives, folder, home):
    assert "no loads to draw" in run("runs", "--chart", "r.png").err
    run("load", text_file(folder / "in.csv", SHEET), "--into", hives, "--yes")
    (path,) = (home / "runs").glob("*.json")
    entry = json.loads(path.read_text("utf-8"))
    for week in range(1, 9):
        entry |= {"name": f"202605{week:02}-000000-0000000", "started": f"2026-05-{week:02}T00:00:00+00:00"}
        entry["receipt"]["rows"]["updated"] = 400 if week == 5 else 40 + week
        path.with_name(f"{entry['name']}.json").write_text(json.dumps(entry), "utf-8")
    drawn = run("runs", "--chart", "r.png", "--since", "2026-05-01", "--json")
    assert drawn.status == 0
    assert is_png(folder / "r.png")
    assert "2 stand out" in run("runs", "--chart", "r.png").out  # the great one, and the three rows of today's


def test_in_a_log_each_long_stage_leaves_a_line_and_none_beside_json(capsys):
    def stages(json):
        now = iter([0.0, 2.0, 2.0, 2.1, 2.1, 7.1])
        with Bars(Console(file=io.StringIO()), json=json, clock=lambda: next(now)) as bars:
            bars.stage("reading")
            bars.rows(400)
            bars.stage("reading", 1000)
            bars.rows(600)
            bars.stage("comparing", 1000)
            bars.stage("testing")
        return capsys.readouterr()

    assert stages(json=False) == ("", "reading: 1,000 rows, 500 a second, 2.0 s\ntesting: done, 5.0 s\n")
    assert stages(json=True) == ("", "")


def test_on_a_terminal_the_stages_have_bars_and_json_has_none(on_terminal, hives, folder, monkeypatch):
    monkeypatch.setenv("TIDYMERGE_ROWS_AT_ONCE", "100")
    monkeypatch.setenv("TIDYMERGE_LARGE_FILE", "10")
    rows = [SHEET[0], *([f"X{at}", at, "red", ""] for at in range(600))]
    command = ["load", text_file(folder / "in.csv", rows), "--into", hives, "--yes", "--most-inserted", "600"]
    shown, status = on_terminal(*command, "--json")
    assert (status, shown.lstrip()[0], "comparing with" in shown) == (0, "{", False)
    shown, status = on_terminal(*command)
    assert status == 0
    assert "comparing with the target" in shown
    assert "600 rows" in shown


@pytest.mark.parametrize(
    ("counts", "odd"),
    [([], []), ([5, 5, 5, 900], []), ([5, 5, 5, 5, 900], [4]), ([50, 48, 52, 51, 0], [4]), ([10, 11, 12, 13, 14, 15], []), ([7] * 9 + [8], [])],
)  # fmt: skip
def test_what_is_far_from_the_usual_is_unusual(counts, odd):
    assert unusual(counts).nonzero()[0].tolist() == odd


def test_without_the_plotting_package_the_page_is_complete_and_a_chart_is_refused_before(run, hives, folder):
    text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour"], ["L01", 1, "red"], ["X", "x", "y"]])
    bare = "import sys\nsys.modules['matplotlib'] = None\nfrom tidymerge.cli.app import main\nmain()"
    shown = run("demo", script=bare)
    assert (shown.status, "for a mail" in shown.out, (folder / "tidymerge-demo" / "week32.png").exists()) == (
        0,
        True,
        False,
    )
    before = stored(hives)
    refused = run("load", "in.csv", "--into", hives, "--yes", "--chart", "c.png", script=bare)
    assert (refused.status, "pip install 'tidymerge[charts]'" in refused.err) == (1, True), refused.err
    assert stored(hives) == before
    done = run("load", "in.csv", "--into", hives, "--yes", "--page", "p.html", script=bare)
    assert done.status == 3, done.err
    page = (folder / "p.html").read_text("utf-8")
    assert page.count('<rect class="bar"') == 6  # five outcomes, and one column
    assert ">1 (50%)</text>" in page


def test_the_script_says_what_a_load_does_and_the_summary_is_harmless(run, folder):
    """Whoever ran the script would get the very table that the load makes: that is how true it is."""
    script = """CREATE TABLE "t ""x; y" ("k %" TEXT PRIMARY KEY, n INTEGER, "d'<i>|d" DECIMAL(9, 2), b BLOB, ok BOOLEAN);
        INSERT INTO "t ""x; y" VALUES ('a', 1, 1.5, x'00ff', 1), ('b; --', 2, NULL, NULL, 0), ('gone', 3, 3, NULL, NULL);"""
    for name in ("one.db", "two.db"):
        database(folder / name, script, rows=())
    rows = [
        ["k %", "n", "d'<i>|d", "ok"],
        ["a", 7, "2.50", ""],
        ["b; --", 2, -3, "true"],
        ["x'y\n@z|<i>", "", "", ""],
    ]
    text_file(folder / "in.csv", rows)
    (folder / "job.toml").write_text(
        "[incoming]\nat = 'in.csv'\n[target]\nat = 'one.db#t \"x; y'\n[rules]\nabsent = 'remove'\n[limits]\nremoved = '100%'\nupdated = '100%'\nrejected = '50%'\n"
    )
    words = ("--job", "job.toml", "--summary", "s.md")
    assert run("preview", *words, "--sql", "c.sql").status == 0
    statements = (folder / "c.sql").read_text("utf-8")
    assert statements.startswith("-- Tidy Merge\n")
    assert "not what will be run" in statements
    connection = sqlite3.connect(folder / "two.db")
    connection.executescript(statements)
    connection.commit()
    connection.close()
    assert run("load", *words, "--yes", "--no-rejects").status == 0
    assert stored('one.db#t "x; y') == stored('two.db#t "x; y')
    assert len(stored('one.db#t "x; y')) == 3
    summary = (folder / "s.md").read_text("utf-8")
    assert '### Loaded in.csv into one.db#t "x; y' in summary
    assert "**Committed." in summary
    assert "| d'\\<i\\>\\|d | 2 |" in summary
    assert not re.search(r"(?<!\\)<(?!!--)", summary)
    (folder / "mine.md").write_text("# mine")
    assert run("preview", "--job", "job.toml", "--summary", "mine.md").status == 2
    assert (folder / "mine.md").read_text() == "# mine"
