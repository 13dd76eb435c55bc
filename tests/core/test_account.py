"""The proofs must fail when something is wrong: each is shown a run that does not add up."""

import numpy as np
import pyarrow as pa
import pytest
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.errors import ProofFailed
from tidymerge.model import Flaw, Reason
from tidymerge.model.changes import ChangeSet, Inserts, Outcome, Removals, Tally, Updates

UPDATES = Updates(
    records=np.array([7]),
    rows=np.array([0]),
    positions=np.array([0]),
    before=pa.table({"k": ["a"], "n": [1], "s": ["then"]}),
    after=pa.table({"k": ["a"], "n": [2], "s": ["now"]}),
    changed={"n": np.array([True]), "s": np.array([True])},
    shapes=np.array([3]),
)
INSERTS = Inserts(np.array([1]), np.array([1]), pa.table({"k": ["b"], "n": [3], "s": ["now"]}))
CHANGES = ChangeSet(
    outcomes=np.array([Outcome.UPDATED, Outcome.INSERTED, Outcome.UNCHANGED, Outcome.REJECTED], np.uint8),
    flaws=(Flaw(Reason.TOO_LONG, np.array([3]), "less"), Flaw(Reason.NOT_A_DATE, np.array([3]), "a date")),
    key=("k",),
    updates=UPDATES,
    inserts=INSERTS,
    stamps=("s",),
)
TALLY = Tally(inserted=1, updated=1, unchanged=1, rejected=1)


def test_a_run_that_adds_up_is_proved():
    assert account.tally([CHANGES]) == TALLY
    account.prove_tally(TALLY, CHANGES, 4)
    account.prove_written([CHANGES], 10, 11, (1, 1, 0))
    leaving = replace(CHANGES, removals=Removals(np.array([5]), np.array([2]), np.array([2]), pa.table({"k": ["z"]})))
    account.prove_written([leaving], 10, 10, (1, 1, 1))
    assert account.reasons([CHANGES]) == {"too long": 1}  # a row counts under the first thing wrong with it


@pytest.mark.parametrize(
    ("changes", "rows"),
    [
        (CHANGES, 5),
        (replace(CHANGES, inserts=Inserts()), 4),
        (replace(CHANGES, updates=Updates()), 4),
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


def _with(table, name, *values):
    return table.set_column(table.column_names.index(name), name, pa.array(values))


def _renamed(part):
    names = {"before", "after"} & set(part.__struct_fields__)
    return {side: getattr(part, side).rename_columns(["k", "m", "s"]) for side in names}


@pytest.mark.parametrize(
    "other",
    [
        {"inserts": replace(INSERTS, after=_with(INSERTS.after, "n", 4))},
        {"updates": replace(UPDATES, before=_with(UPDATES.before, "n", 0))},
        {"inserts": replace(INSERTS, after=_with(INSERTS.after, "k", "c"))},
        {
            "updates": replace(UPDATES, **_renamed(UPDATES), changed={"m": np.array([True])}),
            "inserts": replace(INSERTS, **_renamed(INSERTS)),
        },
        {"inserts": replace(INSERTS, after=_with(INSERTS.after, "n", None))},
    ],
)
def test_another_decision_has_another_fingerprint(other):
    assert account.fingerprint([replace(CHANGES, **other)]) != account.fingerprint([CHANGES])


TURNED = ["s", "n", "k"]


@pytest.mark.parametrize(
    "same",
    [
        {
            "updates": replace(UPDATES, after=UPDATES.after.select(TURNED), before=UPDATES.before.select(TURNED)),
            "inserts": replace(INSERTS, after=INSERTS.after.select(TURNED)),
        },
        {"inserts": replace(INSERTS, after=_with(INSERTS.after, "s", "later"))},
        {
            "outcomes": CHANGES.outcomes[::-1],
            "updates": replace(UPDATES, rows=np.array([3])),
            "inserts": replace(INSERTS, rows=np.array([2])),
        },
        {"inserts": replace(INSERTS, after=pa.concat_tables([INSERTS.after, INSERTS.after.slice(1)]))},
    ],
)
def test_the_same_decision_has_the_same_fingerprint(same):
    assert account.fingerprint([replace(CHANGES, **same)]) == account.fingerprint([CHANGES])
