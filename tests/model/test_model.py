"""Loads of all kinds, made by chance, against a naive model: content, counts, preview, second load, undo, its undo."""

import csv
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
import tomlkit

import tidymerge
from chance import PARTS, fresh_folder
from conftest import NO_LIMITS
from model import cases, naive, places
from model.naive import Case

pytestmark = pytest.mark.by_chance(share=12)


@pytest.mark.parametrize("part", PARTS)
def test_loads_do_what_the_documents_say(part, share, place_of, home):
    for number in share.of(44, 6_600, part):
        place = place_of(number)
        case = cases.case(place.name, number)
        with fresh_folder() as folder:
            try:
                check(case, place, folder)
            except Exception as error:
                error.add_note(f"case {number} of {place.name}: {case}")
                raise


def job_of(case: Case, target: str, folder: Path) -> Path:
    """The job file of a case."""
    columns = {column.name: {"from": column.name, **case.column_rules.get(column.name, {})} for column in case.columns}
    types = (
        {column.name: column.type.names[case.place] for column in case.columns} if case.place in ("csv", "xlsx") else {}
    )
    job = {
        "incoming": {"at": "in.csv", "skip_when": "do = 'skip'", "delimiter": ",", "quote": '"'},
        "target": {"at": target, "key": [column.name for column in case.columns if column.key], "types": types},
        "columns": columns,
        "rules": {name: rule for name, rule in case.rules.items() if " of" not in name},
    }
    for name in ("update_when", "insert_when"):
        if column := case.rules.get(f"{name} of"):
            quoted = '"' + column.replace('"', '""') + '"'
            told = (
                f"incoming.{quoted} >= existing.{quoted}" if name == "update_when" else f"incoming.{quoted} is not null"
            )
            job["rules"][name] = told
    (folder / "job.toml").write_text(tomlkit.dumps(job), "utf-8")
    with (folder / "in.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([["do", "act", *(column.name for column in case.columns)], *case.rows])
    return folder / "job.toml"


def by_key(case: Case, records: list[Any]) -> dict[Any, Any]:
    found = {naive.key_of(case, record): record for record in records}
    assert len(found) == len(records)
    return found


def check(case: Case, place: Any, folder: Path) -> None:
    """Load a case, and look at everything."""
    target = place.make(case, folder)
    job = job_of(case, target, folder)
    start = by_key(case, places.records(place, case, target))
    wanted = naive.load(case)
    blank = [not any(naive.tidy(cell) for cell in row) for row in case.rows]
    absent = wanted.outcomes[len(blank) :]
    outcomes = Counter(outcome for outcome, gone in zip(wanted.outcomes, blank, strict=False) if not gone)
    outcomes.update(absent)
    preview = tidymerge.preview(job=job)
    done = tidymerge.load(job=job, accept_warnings=True, limits=NO_LIMITS, rejects=folder / "r.csv")
    assert (preview.rows, preview.fingerprint) == (done.rows, done.fingerprint)
    counts = {
        name: getattr(done.rows, name)
        for name in ("inserted", "updated", "unchanged", "skipped", "rejected", "removed")
    }
    assert counts == {name: outcomes.get(name, 0) for name in counts}, done.rejects.first
    assert done.rows.absent == len(absent)
    loaded = by_key(case, places.records(place, case, target))
    assert loaded == wanted.records
    if done.rows.rejected > absent.count("rejected"):
        with (folder / "r.csv").open(encoding="utf-8-sig", newline="") as file:
            told = sorted(int(row[-2]) for row in list(csv.reader(file))[1:])
        rejected = [
            at for at, outcome in enumerate(wanted.outcomes[: len(blank)]) if outcome == "rejected" and not blank[at]
        ]
        assert told == [at + 2 for at in rejected]
    again = tidymerge.load(job=job, accept_warnings=True, limits=NO_LIMITS, rejects=folder / "r2.csv")
    assert again.changed == 0
    assert by_key(case, places.records(place, case, target)) == loaded
    if done.changed:
        undone = tidymerge.undo(done.run, into=target)
        assert by_key(case, places.records(place, case, target)) == start
        tidymerge.undo(undone.run, into=target)
        assert by_key(case, places.records(place, case, target)) == loaded
