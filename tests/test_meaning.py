"""The promises of the design, held against a naive model over random sheets and tables."""

import sqlite3
from contextlib import closing
from decimal import Decimal
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

import naive
import naive_rules
import tidymerge
from chance import PROPERTY, fresh_folder, some
from conftest import database, text_file
from strategies import SHEET_ROWS, TABLE_ROWS

TABLE = """CREATE TABLE hives (code TEXT NOT NULL, no INTEGER NOT NULL, kg DECIMAL(8,2), seen DATE, note VARCHAR(10),
    other, PRIMARY KEY (code, no))"""
HEADER = ["Code", "No.", "KG", "Seen", "Note"]


def contents(path: Path) -> tuple[dict, dict]:
    """The table as the naive model has it, and each record's untouched column with its storage class."""
    connection = sqlite3.connect(path)
    rows = connection.execute("SELECT *, typeof(other) FROM hives").fetchall()
    connection.close()
    values = {row[:2]: (naive._number(row[2]), row[3], row[4]) for row in rows}  # noqa: SLF001
    return values, {row[:2]: row[5:] for row in rows}


@settings(PROPERTY, max_examples=some(120))
@given(SHEET_ROWS, TABLE_ROWS)
def test_a_load_does_what_the_naive_model_does(rows, table):
    with fresh_folder() as folder:
        path = folder / "coop.db"
        target = database(path, TABLE, rows=table)
        incoming = text_file(folder / "sheet.csv", [HEADER, *rows])
        rejects = folder / "rejects.csv"
        wanted, records = naive.load(rows, table)
        before, untouched = contents(path)

        preview = tidymerge.preview(incoming, target)
        assert contents(path) == (before, untouched)
        receipt = tidymerge.load(incoming, target, accept_warnings=True, expect=preview.fingerprint, rejects=rejects)
        counted = {
            name: getattr(receipt.rows, name) for name in ("inserted", "updated", "unchanged", "skipped", "rejected")
        }
        assert counted == {name: wanted[name] for name in counted}
        assert preview.rows == receipt.rows
        assert sum(receipt.rejects.reasons.values()) == receipt.rows.rejected
        after, other = contents(path)
        assert after == records
        assert {key: value for key, value in other.items() if key in untouched} == untouched
        assert receipt.tables[0].rows_after == len(after) == len(before) + receipt.rows.inserted

        again = tidymerge.load(incoming, target, accept_warnings=True, rejects=rejects)
        assert (again.rows.inserted, again.rows.updated) == (0, 0)
        assert contents(path) == (after, other)


@settings(PROPERTY, max_examples=some(40))
@given(SHEET_ROWS, TABLE_ROWS)
def test_the_fingerprint_does_not_depend_on_the_order_of_rows_or_columns(rows, table):
    with fresh_folder() as folder:
        target = database(folder / "coop.db", TABLE, rows=table)
        forward = text_file(folder / "a.csv", [HEADER, *rows])
        backward = text_file(folder / "b.csv", [row[::-1] for row in [HEADER, *rows[::-1]]])
        one, other = tidymerge.preview(forward, target), tidymerge.preview(backward, target)
        assert one.fingerprint == other.fingerprint
        assert one.rows == other.rows


def test_values_that_sqlite_stores_loosely_are_compared_by_the_declared_type(folder):
    rows = [
        (f"H{at}", 1, kg, None, None, None)
        for at, kg in enumerate([12.5, "12.500", 12, "n/a", None, Decimal("3.25").to_eng_string()])
    ]
    target = database(folder / "coop.db", TABLE, rows=rows)
    incoming = text_file(
        folder / "s.csv",
        [
            ["code", "no", "kg"],
            *([f"H{at}", 1, kg] for at, kg in enumerate(["12.50", "12.5", "12.00", "1", "2", "3.250"])),
        ],
    )
    receipt = tidymerge.load(incoming, target, accept_warnings=True)
    assert (receipt.rows.unchanged, receipt.rows.updated) == (4, 2)
    with closing(sqlite3.connect(folder / "coop.db")) as connection:
        assert "n/a" not in str(connection.execute("SELECT kg FROM hives").fetchall())
    assert any("declared type" in warning for warning in receipt.warnings)


RULES = st.fixed_dictionaries(
    {
        "skip": st.booleans(), "clear": st.booleans(), "map": st.booleans(), "default": st.booleans(),
        "inserts": st.sampled_from([True, True, False]), "updates": st.sampled_from([True, True, False]),
        "insert_when": st.booleans(), "update_when": st.booleans(), "blanks": st.sampled_from(["keep", "clear", "fill-only"]),
        "twice": st.sampled_from(["reject", "first", "last", "greatest"]), "kg_when": st.sampled_from([None, "greater", "empty"]),
        "only_on": st.sampled_from([None, "insert", "update"]),
    }
)  # fmt: skip


def job_text(rules):
    """The job file that says these rules."""
    kg = [
        "from = 'KG'",
        *(["default = 1.5"] * rules["default"]),
        *([f"update_when = '{rules['kg_when']}'"] if rules["kg_when"] else []),
    ]
    note = ["from = 'Note'", *(["values = { calm = 'quiet' }", "otherwise = 'keep'"] if rules["map"] else []),
            *(["clear_mark = '-'"] if rules["clear"] else []), *([f"only_on = '{rules['only_on']}'"] if rules["only_on"] else [])]  # fmt: skip
    return "\n".join(
        [
            "[incoming]", "at = 'sheet.csv'", *(['skip_when = "code = \'L02\'"'] if rules["skip"] else []),
            "[target]", "at = 'coop.db#hives'", "[columns]", "code = 'Code'", "no = 'No.'", "seen = 'Seen'",
            f"kg = {{ {', '.join(kg)} }}", f"note = {{ {', '.join(note)} }}",
            "[rules]", f"blanks = '{rules['blanks']}'", f"inserts = {str(rules['inserts']).lower()}", f"updates = {str(rules['updates']).lower()}",
            "same_key_twice = { greatest = 'kg' }" if rules["twice"] == "greatest" else f"same_key_twice = '{rules['twice']}'",
            *(["insert_when = 'incoming.kg is not null'"] if rules["insert_when"] else []),
            *(["update_when = 'incoming.seen >= existing.seen'"] if rules["update_when"] else []),
        ]
    )  # fmt: skip


@settings(PROPERTY, max_examples=some(200))
@given(SHEET_ROWS, TABLE_ROWS, RULES)
def test_a_job_with_rules_does_what_the_naive_model_does(rows, table, rules):
    rows = [(*row[:4], row[4] if len(row[1]) % 2 else "-") for row in rows]  # so that marks occur
    table = [(*row[:2], None if row[2] == "n/a" else row[2], *row[3:]) for row in table]
    with fresh_folder() as folder:
        path = folder / "coop.db"
        database(path, TABLE, rows=table)
        text_file(folder / "sheet.csv", [HEADER, *rows])
        job = folder / "job.toml"
        job.write_text(job_text(rules), "utf-8")
        wanted, records = naive_rules.load(rows, table, rules)
        preview = tidymerge.preview(job=job)
        receipt = tidymerge.load(job=job, accept_warnings=True, expect=preview.fingerprint, rejects=folder / "r.csv")
        counted = {
            name: getattr(receipt.rows, name) for name in ("inserted", "updated", "unchanged", "skipped", "rejected")
        }
        assert counted == {name: wanted[name] for name in counted}
        assert contents(path)[0] == records
        again = tidymerge.load(job=job, accept_warnings=True, rejects=folder / "r.csv")
        assert (again.rows.inserted, again.rows.updated) == (0, 0)
        assert contents(path)[0] == records
