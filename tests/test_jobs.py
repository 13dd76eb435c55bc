"""Job files, from the person's side: what each word does, and what is said when a word is wrong."""

import json
import sqlite3
from contextlib import closing

import pytest
from openpyxl import Workbook, load_workbook

import tidymerge
from conftest import database, sheet, stored, text_file

KEEPERS = """
CREATE TABLE keepers (keeper_id INTEGER PRIMARY KEY, name TEXT NOT NULL, email TEXT NOT NULL COLLATE NOCASE UNIQUE,
    mentor_id INTEGER REFERENCES keepers (keeper_id));
INSERT INTO keepers VALUES (1, 'Alma', 'alma@example.org', NULL), (2, 'Jonas', 'jonas@example.org', 1), (3, 'Jonas', 'jo@example.org', 1);
CREATE TABLE t (k TEXT PRIMARY KEY, a TEXT, n INTEGER, d DECIMAL(10,3), s DATE, at DATETIME, b BOOLEAN, keeper INTEGER REFERENCES keepers (keeper_id));
"""  # fmt: skip


def load(folder, rows, columns, *, rules="", incoming="", before=(), table="t", **options):
    """Load `rows` into a fresh table by a job with these columns; the receipt and the table afterwards."""
    if not (folder / "coop.db").exists():
        with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
            connection.executescript(KEEPERS)
            connection.executemany("INSERT INTO t (k, a, n, d, s) VALUES (?, ?, ?, ?, ?)", before)
    text_file(folder / "in.csv", rows)
    (folder / "job.toml").write_text(
        f'[incoming]\nat = "in.csv"\n{incoming}\n[target]\nat = "coop.db#{table}"\n[columns]\n{columns}\n[rules]\n{rules}\n',
        "utf-8",
    )
    receipt = tidymerge.load(job=folder / "job.toml", accept_warnings=True, rejects=folder / "r.csv", **options)
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        return receipt, connection.execute(f"SELECT * FROM {table} ORDER BY 1").fetchall()


def test_several_sheets_of_one_workbook(folder):
    target = database(folder / "coop.db", "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER)", "t", ())
    book = Workbook()
    for name, key in (("Week 1", "a"), ("Week 2", "b"), ("Notes", "c")):
        page = book.create_sheet(name)
        page.append(["k", "n"])
        page.append([key, 1])
    del book["Sheet"]
    book.save(folder / "year.xlsx")
    assert tidymerge.preview("year.xlsx#Week*", target).rows.inserted == 2
    with pytest.raises(tidymerge.SourceError, match="it has 'Week 1'"):
        tidymerge.preview("year.xlsx#Month*", target)


def test_many_files_keep_their_origin(folder):
    target = database(folder / "coop.db", "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER, a TEXT)", "t", ())
    sheet(folder / "week1.xlsx", [["k", "n"], ["a", 1], ["b", "x"]])
    text_file(folder / "week2.csv", [["Title"], ["a", "n", "k"], ["p", "2", "c"], ["q", "y", "d"]])
    receipt = tidymerge.load("week*", target, rejects="r.csv")
    assert (receipt.rows.inserted, receipt.rows.rejected) == (2, 2)
    assert [(cell.origin, cell.row) for cell in receipt.rejects.first] == [
        ("week1.xlsx#Inspections", 3),
        ("week2.csv", 4),
    ]
    assert "week2.csv row 4" in (folder / "r.csv").read_text("utf-8-sig")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[target]\nat = 'coop.db#t'\nkeys = 'k'", ["line 3", "target.keys", "did you mean key?"]),
        ("[target]\nat = 'coop.db#t'\n[colums]\nk = 'K'", ["line 3", "did you mean columns?"]),
        ("[incoming]\nat = 'in.csv'", ["target is missing"]),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = { from = 'K', vales = {} }", ["line 4", "columns.k.vales", "did you mean value"]),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = { from = 'K', value = 'x' }", ["line 4", "exactly one of from, value, compute and stamp"]),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = { split = ';' }", ["line 4", "has none of them"]),
        ("[target]\nat = 'coop.db#t'\n[rules]\nblanks = 'wipe'", ["line 4", "rules.blanks", "keep"]),
        ("[target]\nat = 'coop.db#t'\n[incoming]\nheader_row = '4'", ["line 4", "incoming.header_row", "integer"]),
        ("[incoming]\nnewer_overlap = '1 day'\n[target]\nat = 'coop.db#t'", ["line 1", "newer_overlap goes back from"]),
        ("[incoming]\nonly_changed = true\nnewer_by = 'K'\n[target]\nat = 'coop.db#t'", ["line 1", "leave one of both out"]),
        ("[incoming]\nonly_changed = true\n[target]\nat = 'coop.db#t'", ["only_changed is for lists behind HTTP"]),
        *(
            (f"[incoming]\n{word}\n[[table]]\nat = 'coop.db#t'", ["beside [[table]]", word.split(" =")[0]])
            for word in ("newer_by = 'K'", "once = true", "only_changed = true")
        ),
        ("[target\nat = 1", ["not valid TOML", "line 1"]),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = 'K'\nzz = 'K'", ["no column 'zz'"]),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = 'Kay'", ["no column 'Kay'"]),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = 'K'\n[rules]\nupdate_when = 'incoming.q > 1'", ["rules.update_when, position", "no column 'q'"]),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = 'K'\nn = { compute = 'current_date' }", ["columns.n.compute", "stamp"]),
        ("[target]\nat = 'coop.db#t'\n[rules]\nabsent = {}", ["line 4", "rules.absent", "at least 1"]),
        ("[target]\nat = 'coop.db#t'\nlike = 'keeper'\n[columns]\nk = 'K'", ["t is there already"]),
        *(
            (f"[target]\nat = 'coop.db#t'\n[columns]\nk = 'K'\nn = {{ compute = 'existing.n + 1' }}\n[rules]\nonce = true\n{rule}", ["columns.n.compute", word])
            for rule, word in (("blanks = 'clear'", 'blanks = "keep"'), ("same_key_twice = 'last'", "same_key_twice"))
        ),
        ("[target]\nat = 'coop.db#t'\n[columns]\nk = 'K'\nkeeper = { from = 'K', find = { in = 'keeper', where = 'email', take = 'x' } }", ["no table 'keeper'"]),
    ],
)  # fmt: skip
def test_a_wrong_job_says_file_line_and_word(run, folder, text, words):
    load(folder, [["K"], ["a"]], 'k = "K"')
    (folder / "wrong.toml").write_text(text)
    before = stored(f"{folder}/coop.db#t")
    ended = run("load", "in.csv", "--job", "wrong.toml", "--yes")
    assert ended.status in (1, 2)
    for word in words:
        assert word in ended.err
    assert "Traceback" not in ended.err
    assert stored(f"{folder}/coop.db#t") == before


def test_the_schema_is_valid_and_the_command_line_wins_over_the_file(run, folder):
    schema = json.loads(run("schema").out)
    assert schema["$defs"]["JobFile"]["properties"]["rules"]
    assert schema["$defs"]["ChangeFile"]["properties"]["change"]
    load(folder, [["K", "N", "M"], ["a", 1, 2]], 'k = "K"\nn = "N"')
    text_file(folder / "other.csv", [["K", "N", "M"], ["a", 1, 5], ["b", 1, 6]])
    ended = run(
        "load",
        "other.csv",
        "--job",
        "job.toml",
        "--map",
        "n=M",
        "--rows",
        "3",
        "--skip-when",
        "m = '7'",
        "--json",
        "--yes",
    )
    assert ended.status == 0, ended.err
    assert [row[2] for row in stored(f"{folder}/coop.db#t")] == [1, 6]


def test_a_drafted_job_runs_and_keeps_what_was_written(run, folder):
    script = KEEPERS.replace(
        "CREATE TABLE t (k TEXT PRIMARY KEY, a TEXT", "CREATE TABLE t (k TEXT PRIMARY KEY, a TEXT, more TEXT"
    ) + "".join(
        f"INSERT INTO t (k, a) VALUES ('o{at}', '{colour}');" for at, colour in enumerate(["white", "yellow"] * 4)
    )
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.executescript(script)
    rows = [
        ["K", "A", "S", "At", "D", "Warden"],
        ["a", "WHITE", "31/05/2026", "01/02/2026", "1,5", "alma@example.org"],
        ["b", "y", "01/06/2026", "03/02/2026", "2,25", "JONAS@example.org"],
    ]
    text_file(folder / "in.csv", rows)
    ended = run("draft", "in.csv", "--into", "coop.db#t")
    assert ended.status == 0, ended.err
    text = (folder / "job.toml").read_text()
    for words in (
        'date_format = "%d/%m/%Y"',
        'values = {WHITE = "white", y = "yellow"}',
        'decimal_mark = ","',
        'where = "email"',
        "several ways",
        '"%m/%d/%Y"',
    ):
        assert words in text, text
    assert 'at = "At"' in text  # two formats would do, so neither was guessed
    assert "No incoming column fits more" in text
    assert run("preview", "--job", "job.toml").status == 3  # at is not settled, all else is
    corrected = text.replace('at = "At"', 'at = {from = "At", date_format = "%d/%m/%Y"}  # I know')
    (folder / "job.toml").write_text(corrected)
    assert run("load", "--job", "job.toml", "--yes").status == 0
    assert [row[1] for row in stored(f"{folder}/coop.db#t")[:2]] == [b"white", b"yellow"]
    text_file(folder / "in.csv", [[*row, extra] for row, extra in zip(rows, ["More", "1", "2"], strict=True)])
    run("draft", "in.csv", "--into", "coop.db#t")
    assert (folder / "job.toml").read_text() == corrected.rstrip("\n") + '\nmore = "More"\n'
    assert "nothing was changed" in run("draft", "in.csv", "--into", "coop.db#t").out


@pytest.mark.parametrize("rule", ['{ from = "N", blanks = "fill-only" }', '{ from = "N", update_when = "empty" }'])
def test_a_stored_value_that_its_type_cannot_hold_is_not_empty(folder, rule):
    before = [("k1", "x", None, "n/a", None), ("k2", "x", None, None, None)]
    receipt, rows = load(folder, [["K", "N"], ["k1", 1], ["k2", 2]], f'k = "K"\nd = {rule}', before=before)
    assert [row[3] for row in rows] == ["n/a", 2]
    assert "can't hold" in receipt.warnings[0]


def test_a_draft_reads_the_row_of_names_that_the_load_reads(run, folder):
    """Also where no name is the target's own: then the job says the row."""
    target = database(folder / "t.db", "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER)", "t", [("a", 1)])
    sheet(
        folder / "in.xlsx",
        [["List of the year 2026"], [], ["Code", "Number"], ["a", 2], ["b", 3]],
    )
    assert run("draft", "in.xlsx", "--into", target, "--out", "j.toml").status == 0
    text = (folder / "j.toml").read_text()
    assert "header_row = 3" in text
    (folder / "j.toml").write_text(f'{text.partition("[columns]")[0]}[columns]\nk = "Code"\nn = "Number"\n')
    assert run("draft", "in.xlsx", "--into", target, "--out", "j.toml").status == 0
    assert run("preview", "--job", "j.toml", "--key", "k", "--json").receipt["incoming"]["header_row"] == 3
    assert "column names in row 3" in run("look", "in.xlsx").out


def test_totals_are_left_out_by_a_draft_and_a_warning_where_they_would_be_inserted(run, folder):
    target = database(
        folder / "t.db", "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER)", "t", [("a", 1), ("b", 1), ("c", 1)]
    )
    sheet(folder / "in.xlsx", [["K", "N"], ["a", 2], ["b", 3], ["c", 4], ["Grand total", 9]])
    stopped = run("load", "in.xlsx", "--into", target)
    assert (stopped.status, "looks like a total of other rows: row 5 (Grand total)" in stopped.out) == (4, True), (
        stopped.out
    )
    run("draft", "in.xlsx", "--into", target, "--out", "j.toml")
    loaded = run("load", "--job", "j.toml", "--most-updated", "3", "--yes", "--json")
    assert (loaded.status, loaded.receipt["rows"]["skipped"], loaded.receipt["rows"]["inserted"]) == (0, 1, 0)
    sheet(folder / "in.xlsx", [["K", "N"], ["a", 2], ["b", 3], ["c", 4], ["all of it", 9]])
    assert "looks like a total" in run("preview", "in.xlsx", "--into", target).out
    sheet(folder / "in.xlsx", [["K", "N"], ["a", 2], ["b", 3], ["c", 4], ["d", 8]])
    assert "looks like a total" not in run("preview", "in.xlsx", "--into", target).out


@pytest.mark.parametrize("large", ["10", "100000000"])
def test_cells_that_are_merged_are_noted_and_filled_down(run, folder, large):
    target = database(folder / "t.db", "CREATE TABLE t (a TEXT, n INTEGER, PRIMARY KEY (a, n))", "t", ())
    book = Workbook()
    for row in (["A", "N"], ["x", 1], [None, 2], [None, 3], ["y", 4]):
        book.active.append(row)
    book.active.merge_cells("A2:A4")
    book.save(folder / "in.xlsx")
    text_file(folder / "in.csv", [["A", "N"], ["x", 1], *([["", at] for at in range(2, 300)])])
    shown = run("preview", "in.xlsx", "--into", target)
    assert "Cells of A are merged over several rows, such as 2-4" in shown.out
    (folder / "j.toml").write_text(f'[incoming]\nfill_down = "a"\n[target]\nat = "{target}"\n')
    settings = {"TIDYMERGE_LARGE_FILE": large, "TIDYMERGE_ROWS_AT_ONCE": "20"}
    for file, rows in (("in.xlsx", 4), ("in.csv", 299)):
        ended = run("preview", file, "--job", "j.toml", "--json", **settings)
        assert ended.receipt["rows"]["inserted"] == rows, ended.receipt
    assert "are merged over" not in run("preview", "in.xlsx", "--job", "j.toml").out
    assert "are merged over" in run("look", "in.xlsx").out


def test_a_look_up_may_fold_the_letter_case(run, folder):
    target = database(
        folder / "t.db",
        "CREATE TABLE t (k INTEGER PRIMARY KEY, p INTEGER); CREATE TABLE p (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO p VALUES (7, 'Ärla'), (8, 'bo'), (9, 'Bo')",
        "t",
        (),
    )
    text_file(folder / "in.csv", [["K", "P"], [1, "äRLA"], [2, "BO"], [3, "no"]])
    find = 'find = { in = "p", where = "name", take = "id", fold_case = true }'
    (folder / "j.toml").write_text(f'[target]\nat = "{target}"\n[columns]\nk = "K"\np = {{ from = "P", {find} }}\n')
    ended = run("load", "in.csv", "--job", "j.toml", "--yes", "--json", "--most-rejected", "9")
    assert ended.receipt["rejects"]["reasons"] == {"several found": 1, "no such record": 1}
    assert stored(target) == [(1, 7)]


def test_several_tables_are_drafted_paired_and_refused_in_plain_words(run, folder):
    assert run("demo", "--fresh", "coop").status == 0
    book = Workbook()
    book.remove(book.active)
    for name, rows in (
        ("Hives", [["Apiary code", "Hive no.", "Queen colour", "Warden"], ["412", 1, "red", "nela@x"], ["412", 2, "W", "tam@x"]]),
        ("Keepers", [["Name", "Email", "Mentor", "Fee"], ["Nela", "nela@x", "tam@x", 30], ["Tam", "tam@x", None, 31]]),
        ("Sites' \"list\"", [["Season"], [], ["Apiary code", "Name", "Altitude m"], ["412", "Fir", 500]]),
        ("Notes", [["hello"]]),
    ):  # fmt: skip
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append(row)
    book.save(folder / "coop" / "season.xlsx")
    drafted = run("draft", "coop/season.xlsx", "--into", "coop/coop.db", "--out", "coop/draft.toml")
    assert (drafted.status, "The sheet Notes feeds no table." in drafted.out) == (0, True), drafted.err
    loaded = run("load", "--job", "coop/draft.toml", "--yes", "--json")
    assert loaded.status == 0, loaded.err
    tables = loaded.receipt["tables"]
    assert [(one["target"].rpartition("#")[2], one["rows"]["inserted"]) for one in tables] == [
        ("keepers", 2),
        ("apiaries", 1),
        ("hives", 2),
    ]
    with closing(sqlite3.connect(folder / "coop" / "coop.db")) as connection, connection:
        found = connection.execute("SELECT h.queen_colour, k.name, m.name FROM hives h JOIN keepers k USING (keeper_id) LEFT JOIN keepers m ON m.keeper_id = k.mentor_id WHERE h.apiary_code = '412'").fetchall()  # fmt: skip
    assert found == [("red", "Nela", "Tam"), ("white", "Tam", None)]
    assert run("preview", "--job", "coop/draft.toml", "--marked", "coop/marked.xlsx").status == 0
    marked = load_workbook(folder / "coop" / "marked.xlsx")
    states = {
        sheet.title: [cell.value for row in sheet for cell in row if cell.value == "unchanged"] for sheet in marked
    }
    assert [len(found) for found in states.values()] == [2, 2, 1, 0, 1], states  # the last is the legend
    assert run("preview", "--job", "coop/draft.toml", "--marked", "coop/marked.csv").status == 2
    drop = run("change", "coop/coop.db#hives", "--drop-column", "queen_colour", "--yes")
    assert (drop.status, "the job" in drop.err, "draft.toml" in drop.err) == (4, True, True), drop.err
    again = run("draft", "coop/season.xlsx", "--into", "coop/coop.db", "--out", "coop/draft.toml")
    assert (again.status, "is there already" in again.err) == (2, True)
    paired = run("preview", "coop/season.xlsx", "--into", "coop/coop.db")
    assert (paired.status, "keepers: No key to match records by." in paired.err, "[[table]]" in paired.err) == (
        2,
        True,
        True,
    )
    book.remove(book["Keepers"])
    book['Sites\' "list"'].title = "APIARIES"
    book.save(folder / "coop" / "season2.xlsx")
    paired = run("preview", "coop/season2.xlsx", "--into", "coop/coop.db")
    assert "Paired by name: Hives with hives, APIARIES with apiaries." in paired.out, paired.err
    job = (folder / "coop" / "draft.toml").read_text("utf-8")
    for change, words in (
        (("coop.db#keepers", "other.db#keepers"), "are in different places"),
        (("coop.db#keepers", "coop.db#hives"), "hives is there twice"),
        (("coop.db#keepers", "coop.db"), "Say which table of"),
        (("coop.db#keepers", "keepers.csv"), "is a file by itself"),
        (('at = "season.xlsx"', ""), "say which one that is"),
        (("[[table]]", '[rules]\nblanks = "keep"\n[[table]]'), "rules stands in each of the tables"),
        (("[table.columns]", "[table.rules]\nappend = true\n[table.columns]"), "by a run of their own (append)"),
    ):
        (folder / "coop" / "wrong.toml").write_text(job.replace(*change, 1), "utf-8")
        refused = run("preview", "--job", "coop/wrong.toml")
        assert (refused.status, words in refused.err) == (2, True), (words, refused.err)


def test_a_wide_sheet_is_told_by_words_and_values_and_sheets_of_a_workbook_by_their_names(run, folder):
    assert run("demo", "--fresh", "coop").status == 0
    drafted = run("draft", "coop/season.xlsx", "--into", "coop/coop.db", "--out", "coop/draft.toml")
    assert "Visits into inspections: apiary_code, hive_no, inspected, remark; to look at: " in drafted.out, drafted.err
    own, theirs = (run("preview", "--job", f"coop/{name}.toml", "--json").receipt for name in ("draft", "season"))
    assert [one["rows"] for one in own["tables"]] == [one["rows"] for one in theirs["tables"]]
    book = Workbook()
    for name in ("Keepers", "Apiaries"):
        book.create_sheet(name)
    book["Keepers"].append(["Name", "E-mail", "Fee"])
    for name in ("Tam Okoro", "Alma Verde"):
        book["Keepers"].append([name, f"{name.split()[0].lower()}@example.org", 1])
    book["Apiaries"].append(["Apiary code", "Name"])
    book.save(folder / "list.xlsx")
    looked = run("look", "list.xlsx")  # its first sheet is empty
    assert (looked.status, "Keepers" in looked.out) == (0, True), looked.err
    drafted = run("draft", "coop/season.xlsx", "--into", "list.xlsx", "--out", "list.toml")
    text = (folder / "list.toml").read_text("utf-8")
    assert "# No two of the records have the same Name. Is it the key?" in text, drafted.err
    assert (
        '# Could not settle the key: name the columns that find a record, as in\n# key = ["Apiary code", "Name"]'
        in text
    )
    assert "The sheet Visits feeds no table." in drafted.out
