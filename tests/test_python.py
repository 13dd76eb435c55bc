"""The Python interface as a program meets it: tables and files in memory, and everything that the command line can."""

import bz2
import datetime as dt
import gzip
import io
import json
import logging
from decimal import Decimal

import duckdb
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import tidymerge
from conftest import sheet, stored, text_file

COLUMNS = {
    "apiary_code": ["L01", "M02", "N03"], "hive_no": [1, 1, 7], "honey_kg": [13.0, 2.5, None],
    "last_inspected": [dt.date(2026, 5, 9), None, dt.date(2026, 5, 9)],
}  # fmt: skip
WANTED = [
    (b"L01", 1, b"white", 13, b"2026-05-09", b"calm"),
    (b"L01", 2, b"yellow", 7.25, b"2026-05-01", None),
    (b"M02", 1, None, 2.5, None, b"new frame"),
    (b"N03", 7, None, None, b"2026-05-09", None),
]


def of_duckdb():
    rows = pa.table(COLUMNS)  # noqa: F841 - the query finds it by its name
    return duckdb.sql("SELECT * FROM rows")


TABLES = {
    "pandas": lambda: pd.DataFrame(COLUMNS),
    "polars": lambda: pl.DataFrame(COLUMNS),
    "pyarrow": lambda: pa.table(COLUMNS),
    "a stream": lambda: pa.table(COLUMNS).to_reader(1),
    "duckdb": of_duckdb,
}


@pytest.mark.parametrize("library", TABLES)
def test_tables_of_any_library_are_loaded(hives, library):
    preview = tidymerge.preview(TABLES[library](), hives)
    receipt = tidymerge.load(TABLES[library](), hives, expect=preview.fingerprint)
    assert (receipt.rows.updated, receipt.rows.inserted, receipt.verified) == (2, 1, True)
    assert receipt.incoming.endswith("in memory")
    assert stored(hives) == WANTED
    (past,) = tidymerge.runs()
    (origin,) = past.run.files
    assert origin == receipt.incoming
    again = tidymerge.load(TABLES[library](), hives)
    assert again.rows.unchanged == 3


def test_open_files_and_lists_of_files_are_loaded(hives, folder):
    text = "apiary_code,hive_no,honey_kg\nL01,1,13\nM02,1,some\n"
    text_file(folder / "a.csv", [["apiary_code", "hive_no", "honey_kg"], ["L01", 1, 14]])
    text_file(folder / "b.csv", [["apiary_code", "hive_no", "honey_kg"], ["M02", 1, 4]])
    book = sheet(folder / "c.xlsx", [["apiary_code", "hive_no", "honey_kg"], ["L01", 2, 9]])
    lines = json.dumps({"apiary_code": "L01", "hive_no": 1, "honey_kg": 15}).encode()
    for incoming, options, updated, called in (
        (io.StringIO(text), {}, 1, "StringIO"),
        (io.BytesIO(text.encode()), {}, 1, "BytesIO"),
        (io.BytesIO(lines), {"format": "jsonl"}, 1, "BytesIO"),
        (["a.csv", folder / "b.csv"], {}, 2, "a.csv"),
        ((folder / "a.csv").open("rb"), {}, 1, "a.csv"),
        ((folder / "a.csv").open(encoding="utf-8"), {}, 1, "a.csv"),
        ((folder / "c.xlsx").open("rb"), {}, 1, "c.xlsx#Inspections"),
    ):
        receipt = tidymerge.preview(incoming, hives, **options)
        assert (receipt.rows.updated, called in receipt.incoming) == (updated, True), receipt.incoming
        if hasattr(incoming, "close"):
            incoming.close()
    receipt = tidymerge.load(io.StringIO(text), hives, rejects="r.csv", limits={"rejected": "50%"})
    assert receipt.rows.rejected == 1
    assert "some" in (folder / "r.csv").read_text()
    assert tidymerge.load([book], hives, only="honey_kg", accept_warnings=True).rows.updated == 1
    (folder / "rows.log").write_bytes(lines)
    with (folder / "rows.log").open("rb") as log:
        assert tidymerge.preview(log, hives, format="jsonl").rows.updated == 1
    with pytest.raises(tidymerge.UsageError, match="a column whose values are of several types".capitalize()):
        tidymerge.preview(pd.DataFrame({"apiary_code": ["L01", 1], "hive_no": [1, 2]}), hives)
    with pytest.raises(tidymerge.UsageError, match="not a dict"):
        tidymerge.preview({"apiary_code": ["L01"]}, hives)  # type: ignore[call-overload]
    for wrong in (b"k,v", [{"k": 1}], [b"a.csv"], 7):
        with pytest.raises(tidymerge.UsageError, match="Rows are an address, a list of addresses, an open file"):
            tidymerge.preview(wrong, hives)  # type: ignore[arg-type]
    with pytest.raises(tidymerge.SourceError, match="BytesIO in memory is not JSON Lines: line 1"):
        tidymerge.preview(io.BytesIO(b"{"), hives, format="jsonl")
    with pytest.raises(tidymerge.UsageError, match="fewest_rows is a whole number"):
        tidymerge.preview([book], hives, limits={"fewest_rows": "many"})
    assert tidymerge.preview([book], hives, limits={"updated": tidymerge.Most(5), "fewest_rows": 1}).limits == ()
    with pytest.raises(tidymerge.UsageError, match="no limit 'update'; known are updated"):
        tidymerge.preview([book], hives, limits={"update": 1})
    with pytest.raises(tidymerge.Stopped, match=r"1 record|1 row"):
        tidymerge.load(
            [book],
            hives,
            limits={"updated": 0},
            cells="A1:C2",
            key=["apiary_code", "hive_no"],
            columns={"notes": "honey_kg"},
        )


# The oldest Matplotlib that will do imports names that a new parser of its calls old.
@pytest.mark.filterwarnings("ignore:.*deprecated - use:DeprecationWarning")
def test_all_that_the_command_line_asks_can_be_asked(hives, folder, run):
    rows = pa.table(
        {"apiary_code": ["L01", "M02", "X09"], "hive_no": [1, 1, 1], "honey_kg": [Decimal("13.5"), None, Decimal(1)]}
    )
    told = []
    receipt = tidymerge.load(
        rows, hives, page="p.html", chart="c.png", marked="m.csv", accept_warnings=True,
        progress=lambda words, done, of: told.append((words, done, of)), rows="1-2",
    )  # fmt: skip
    assert {path.name for path in folder.iterdir()} >= {"p.html", "c.png", "m.csv"}
    assert ("comparing with the target", 2, 2) in told
    assert tidymerge.receipt(receipt.run).to_dict() == receipt.to_dict()
    assert tidymerge.changes("last").to_pylist() == [
        {
            "outcome": "updated",
            "row": 1,
            "key: apiary_code": "L01",
            "key: hive_no": "1",
            "column": "honey_kg",
            "before": "12.5",
            "after": "13.5",
        }
    ]
    assert [one.run.name for one in tidymerge.runs(target=hives, state="loaded")] == [receipt.run]
    assert tidymerge.look(hives).primary_key == ("apiary_code", "hive_no")
    assert [one.value for one in tidymerge.look(hives, values="queen_colour").values] == ["white", "yellow"]
    assert [one.broken for one in tidymerge.look(hives, would_hold="queen_colour is not null")] == [1]
    assert tidymerge.look(hives, since="last").differences == ()
    file = text_file(folder / "x.csv", [["apiary_code", "hive_no", "notes"], ["L01", 1, "other"]])
    assert tidymerge.look(hives, against=file).differences
    found = tidymerge.compare(hives, file, only="notes", page="q.html").to_dict()
    assert found["records"] == {"same": 0, "different": 1, "only_in_first": 2, "only_in_second": 0}
    job = tidymerge.draft(file, hives, out="job.toml")
    assert (folder / "job.toml").read_text() == job
    assert tidymerge.read_job("job.toml").key == ("apiary_code", "hive_no")
    assert tidymerge.preview(job=tidymerge.read_job("job.toml")).rows.updated == 1
    changed = tidymerge.change(hives, {"notes": "'<i>'"}, where="hive_no = 2", limits={"updated": 1}, page="r.html")
    assert (changed.rows.updated, (folder / "r.html").exists()) == (1, True)
    assert tidymerge.remove(hives, where="notes = '<i>'", preview=True, page="s.html").rows.removed == 1
    assert tidymerge.undo(changed.run, chart="t.png", progress=lambda *_: None).rows.updated == 1
    with pytest.raises(tidymerge.UsageError):
        tidymerge.receipt("2020")


def test_a_receipt_in_a_notebook_is_harmless(hives):
    rows = pa.table({"apiary_code": ["L01", None], "hive_no": [1, 2], "notes": ["<script>", "x"]})
    shown = tidymerge.preview(rows, hives)._repr_html_()
    assert "<script>" not in shown
    for words in ("pyarrow.Table in memory", "<td>notes</td><td>1</td>", "blank key", "Fingerprint"):
        assert words in shown
    assert "<b>" in tidymerge.compare(hives, hives)._repr_html_()


def test_a_logger_hears_of_it_and_nothing_is_printed(hives, caplog, capfd):
    with caplog.at_level(logging.INFO, "tidymerge"):
        receipt = tidymerge.load(pa.table({"apiary_code": ["l01"], "hive_no": [1]}), hives, accept_warnings=True)
    assert [record.levelname for record in caplog.records] == ["INFO", *["WARNING"] * len(receipt.warnings)]
    assert receipt.warnings
    assert caplog.records[0].run == receipt.run
    assert "1 inserted" in caplog.text
    assert capfd.readouterr() == ("", "")


def test_an_open_file_is_read_as_whoever_opened_it_gives_it(hives, folder):
    """Unpacked if they unpack it, as text if it is text; its name is only a name, whatever signs it has."""
    text = "apiary_code,hive_no,notes\nL01,1,\u00e9\n"
    for name, opened in (("a.csv.gz", gzip.open), ("b.csv.bz2", bz2.open), ("c.csv", open)):
        with opened(name, "wb") as file:
            file.write(text.encode())
        with opened(name, "rb") as file:
            assert tidymerge.preview(file, hives).rows.updated == 1, name
        with open(name, "rb") as packed:  # noqa: PTH123 - the packed bytes
            assert tidymerge.preview(packed, hives).rows.updated == 1, name
    for name in ("a#b.csv", "${HOME}.csv", "~.csv", "week*.csv"):
        (folder / name).write_text(text, "utf-8")
        with (folder / name).open("rb") as file:
            assert tidymerge.preview(file, hives).incoming == str(folder / name)
    with (folder / "c.csv").open(encoding="utf-8") as file, pytest.raises(tidymerge.UsageError, match="leave that out"):
        tidymerge.preview(file, hives, encoding="cp1252")
    with (folder / "c.csv").open(encoding="ascii") as file, pytest.raises(tidymerge.UsageError, match="can't be read"):
        tidymerge.preview(file, hives)
    with pytest.raises(tidymerge.UsageError, match="can't be read"):
        tidymerge.preview(file, hives)  # which is closed
    with pytest.raises(tidymerge.UsageError, match="open it as bytes"):
        tidymerge.preview(io.StringIO("k\n\ud800"), hives)


def test_what_goes_wrong_after_the_commit_never_looks_as_if_nothing_was_loaded(hives, folder, monkeypatch, caplog):
    def no_page(*_):
        raise OSError("the disk is full")

    monkeypatch.setattr("tidymerge.reports.page.write_page", no_page)
    rows = pa.table({"apiary_code": ["L01"], "hive_no": [1], "notes": ["x"]})
    receipt = tidymerge.load(rows, hives, page="p.html")
    assert receipt.verified
    assert "The run is done, but not all of its views are written: the disk is full" in receipt.notes
    assert "the disk is full" in caplog.text
    assert stored(hives)[0][5] == b"x"
    assert (
        "The run is done"
        in tidymerge.change(
            hives, {"notes": "'y'"}, where="hive_no = 1", page="p.html", limits={"updated": "100%"}
        ).notes[-1]
    )
    assert "The run is done" in tidymerge.undo("last", page="p.html").notes[-1]


@pytest.mark.parametrize("function", ["preview", "load", "change", "remove", "undo", "look", "compare", "draft"])
def test_an_option_that_there_is_not_is_refused_as_python_does(function, hives):
    given = {"change": (hives,), "remove": (hives,), "undo": ("last",), "look": (hives,)}.get(function, (hives, hives))
    with pytest.raises(TypeError, match=rf"{function}\(\) got an unexpected keyword argument 'colums'"):
        getattr(tidymerge, function)(
            *given, colums={}, **({"where": "1 = 1", "preview": True} if function in ("change", "remove") else {})
        )
