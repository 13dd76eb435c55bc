"""A program that uses the package, for the type checkers: they must find nothing wrong with it, however strict."""

import io
from collections.abc import Iterator
from pathlib import Path

import tidymerge


class Rows:
    """Whatever gives an Arrow stream is a table."""

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        raise NotImplementedError


def all_of_it(rows: Rows) -> Iterator[tidymerge.Receipt]:
    """Use every function, with what each takes and gives."""

    def tell(words: str, done: int, of: int | None) -> None:
        print(words, done, of)

    preview = tidymerge.preview("week32.xlsx#Inspections", into="coop.db#hives", progress=tell)
    receipt = tidymerge.load(
        rows, Path("coop.db#hives"), expect=preview.fingerprint, limits={"updated": "20%"}, rows="3,7-12", page="p.html"
    )
    yield tidymerge.load(["a.csv", Path("b.csv")], "coop.db#hives", limits=tidymerge.Limits(updated=tidymerge.Most(3)))
    yield tidymerge.preview(io.StringIO("k,v\n1,2\n"), "coop.db#t", format="csv", columns={"k": "K"}, only="v")
    yield tidymerge.load(io.BytesIO(b"{}"), "coop.db#t", format="jsonl", rejects=False)
    job: tidymerge.Job | tidymerge.TablesJob = tidymerge.read_job("week.toml")
    yield tidymerge.load(job=job)
    rules = tidymerge.Rules(blanks=tidymerge.Blanks.CLEAR)
    columns = {
        "keeper_id": tidymerge.ColumnRule(sources=("Keeper",), find=tidymerge.Find("keepers", "email", "keeper_id"))
    }
    yield tidymerge.preview(job=tidymerge.Job(("a.csv",), "coop.db#hives", columns=columns, rules=rules))
    yield tidymerge.change("coop.db#hives", {"honey_kg": "honey_kg * 1.05"}, where="apiary_code = '101'")
    yield tidymerge.remove("coop.db#hives", where="notes = 'x'", archive="gone", create=True)
    yield tidymerge.undo(receipt.run or "last", preview=True)
    yield tidymerge.compare("a.csv", "b.csv", key=["k"], changes="c.csv")
    yield tidymerge.receipt("last")
    run: str = tidymerge.extract("coop.db#hives", "out.xlsx", order="honey_kg desc")
    changed: int = tidymerge.changes(run).num_rows
    values: list[str] = [one.value for one in tidymerge.look("coop.db#hives", values="notes").values]
    broken: int = sum(one.broken for one in tidymerge.look("coop.db#hives", would_hold=["a is unique"]))
    differ: int = len(tidymerge.look("a.csv", against="b.csv").differences)
    names: list[str] = [one.run.name for one in tidymerge.runs(since="2h")]
    text: str = tidymerge.draft("a.csv", "coop.db#hives")
    print(changed, values, broken, differ, names, text, receipt.rows.updated, receipt.rejects.reasons)
    try:
        tidymerge.load("a.csv", "coop.db#hives")
    except tidymerge.Stopped as stopped:
        yield stopped.receipt
