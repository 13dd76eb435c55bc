"""The proofs must fail when something is wrong: each is shown a run that does not add up."""

from dataclasses import replace

import numpy as np
import pyarrow as pa
import pytest

from tidymerge.changes import ChangeSet, Outcome, Tally
from tidymerge.core import account
from tidymerge.errors import ProofFailed
from tidymerge.model import Flaw, Reason

CHANGES = ChangeSet(
    outcomes=np.array([Outcome.UPDATED, Outcome.INSERTED, Outcome.UNCHANGED, Outcome.REJECTED], np.uint8),
    flaws=(Flaw(Reason.TOO_LONG, np.array([3]), "less"), Flaw(Reason.NOT_A_DATE, np.array([3]), "a date")),
    key=("k",),
    incoming=np.array([0, 1]),
    existing=np.array([7]),
    after=pa.table({"k": ["a", "b"], "n": [2, 3], "s": ["now", "now"]}),
    before=pa.table({"k": ["a"], "n": [1], "s": ["then"]}),
    changed={"n": np.array([True]), "s": np.array([True])},
    shapes=np.array([3]),
    positions=np.array([0, 1]),
    given={},
    stamps=("s",),
)
TALLY = Tally(inserted=1, updated=1, unchanged=1, rejected=1)


def test_a_run_that_adds_up_is_proved():
    assert account.tally([CHANGES]) == TALLY
    account.prove_tally(TALLY, CHANGES, 4)
    account.prove_written([CHANGES], 10, 11, (1, 1, 0))
    leaving = replace(CHANGES, leaving=np.array([5]), leaving_rows=np.array([2]), removed=pa.table({"k": ["z"]}))
    account.prove_written([leaving], 10, 10, (1, 1, 1))
    assert account.reasons([CHANGES]) == {"too long": 1}  # a row counts under the first thing wrong with it


@pytest.mark.parametrize(
    ("changes", "rows"),
    [
        (CHANGES, 5),
        (replace(CHANGES, incoming=np.array([0]), after=CHANGES.after.slice(0, 1)), 4),
        (replace(CHANGES, existing=np.array([], np.int64)), 4),
        (replace(CHANGES, flaws=()), 4),
        (replace(CHANGES, flaws=(Flaw(Reason.TOO_LONG, np.array([2, 3]), "less"),)), 4),
    ],
)
def test_rows_that_are_lost_or_counted_twice_are_noticed(changes, rows):
    with pytest.raises(ProofFailed, match="does not add up"):
        account.prove_tally(account.tally([changes]), changes, rows)


@pytest.mark.parametrize(
    ("after", "did"), [(10, (1, 1, 0)), (12, (1, 1, 0)), (11, (2, 1, 0)), (11, (1, 0, 0)), (11, (1, 1, 1))]
)
def test_a_target_that_did_something_else_is_noticed(after, did):
    with pytest.raises(ProofFailed, match="rolled back"):
        account.prove_written([CHANGES], 10, after, did)


@pytest.mark.parametrize(
    "other",
    [
        replace(CHANGES, after=CHANGES.after.set_column(1, "n", pa.array([2, 4]))),
        replace(CHANGES, before=CHANGES.before.set_column(1, "n", pa.array([0]))),
        replace(CHANGES, after=CHANGES.after.set_column(0, "k", pa.array(["a", "c"]))),
        replace(CHANGES, after=CHANGES.after.rename_columns(["k", "m", "s"]), changed={"m": np.array([True])}, before=CHANGES.before.rename_columns(["k", "m", "s"])),
        replace(CHANGES, after=CHANGES.after.set_column(1, "n", pa.array([2, None]))),
    ],
)  # fmt: skip
def test_another_decision_has_another_fingerprint(other):
    assert account.fingerprint([other]) != account.fingerprint([CHANGES])


@pytest.mark.parametrize(
    "same",
    [
        replace(CHANGES, after=CHANGES.after.select(["s", "n", "k"]), before=CHANGES.before.select(["s", "n", "k"])),
        replace(CHANGES, after=CHANGES.after.set_column(2, "s", pa.array(["later", "later"]))),
        replace(CHANGES, outcomes=CHANGES.outcomes[::-1], incoming=np.array([3, 2])),
        replace(CHANGES, after=pa.concat_tables([CHANGES.after.slice(0, 1), CHANGES.after.slice(1, 1)])),
    ],
)
def test_the_same_decision_has_the_same_fingerprint(same):
    assert account.fingerprint([same]) == account.fingerprint([CHANGES])
