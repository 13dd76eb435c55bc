"""Errors are for programs too: they leave another process whole, and say in attributes what their sentence says."""

import multiprocessing
import pickle
from concurrent.futures import ProcessPoolExecutor

import pytest

import tidymerge
from conftest import database, text_file
from test_architecture import every_error
from tidymerge.errors import NoSuchColumn, NoSuchFile, NoSuchTable, Stopped, TargetLocked, about

HEAD = ["apiary_code", "hive_no", "queen_colour"]


@pytest.mark.parametrize("kind", every_error(), ids=lambda kind: kind.__name__)
def test_every_error_can_be_pickled_with_all_it_knows(kind):
    known = {name: f"its {name}" for name in kind._declared()}  # noqa: SLF001
    error = kind("what was found, what was needed", **known)
    again = pickle.loads(pickle.dumps(error))  # noqa: S301 - our own
    assert (type(again), str(again), again.facts) == (kind, "what was found, what was needed", known)
    with pytest.raises(TypeError, match="no fact nonsense"):
        kind("said", nonsense=1)


def load(incoming, target, expect):
    tidymerge.load(incoming, target, expect=expect)


def test_a_pool_of_processes_gets_the_receipt_of_a_stopped_load(folder, hives):
    incoming = text_file(folder / "in.csv", [HEAD, ["L01", 1, "red"]])
    with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as pool, pytest.raises(Stopped) as stopped:
        pool.submit(load, incoming, hives, "never").result()
    assert (stopped.value.reason, stopped.value.receipt.rows.updated) == ("fingerprint", 1)


def test_facts_are_told_where_they_are_known_first(folder, hives):
    rows = text_file(folder / "in.csv", [HEAD, ["L01", 1, "red"]])
    with pytest.raises(NoSuchColumn) as column:
        tidymerge.preview(rows, hives, columns={"queen": "queen_colour"})
    assert (column.value.column, "queen_colour" in column.value.known) == ("queen", True)
    with pytest.raises(NoSuchTable) as table:
        tidymerge.preview(rows, f"{folder}/coop.db#bees")
    assert (table.value.table, table.value.known) == ("bees", ("hives",))
    assert table.value.target == f"{folder}/coop.db#bees"
    with pytest.raises(NoSuchFile) as file:
        tidymerge.preview("none.csv", hives)
    assert file.value.address == "none.csv"
    with pytest.raises(TargetLocked) as locked, about(target="outer"), about(target="inner", row=1):
        raise TargetLocked("held")
    assert locked.value.facts == {"target": "inner"}


def test_json_has_the_facts_too(run, folder, hives):
    text_file(folder / "in.csv", [HEAD, ["L01", 1, "red"]])
    error = run("preview", "in.csv", "--into", hives, "--key", "hive", "--json").receipt["error"]
    assert (error["code"], error["facts"]["column"]) == ("no-such-column", "hive")
    assert set(error["facts"]["known"]) >= {"hive_no"}
    stopped = run("load", "in.csv", "--into", database(folder / "b.db"), "--expect", "x", "--json").receipt
    assert stopped["error"]["facts"]["reason"] == "fingerprint"
