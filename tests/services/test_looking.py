"""Records that are looked at again: how each stands to what was to be done to it."""

import pytest

from tidymerge.services.odata.changes import Change, Doing, Standing
from tidymerge.services.odata.looking import _standing

OLD, NEW, OTHER = {"kg": "1"}, {"kg": "2"}, {"kg": "9"}


@pytest.mark.parametrize(
    ("doing", "now", "standing"),
    [
        (Doing.INSERT, None, Standing.BEFORE), (Doing.INSERT, NEW, Standing.AFTER), (Doing.INSERT, OLD, Standing.OTHER),
        (Doing.UPDATE, None, Standing.OTHER), (Doing.UPDATE, OLD, Standing.BEFORE), (Doing.UPDATE, NEW, Standing.AFTER),
        (Doing.UPDATE, OTHER, Standing.OTHER),
        (Doing.REMOVE, None, Standing.AFTER), (Doing.REMOVE, OLD, Standing.BEFORE), (Doing.REMOVE, OTHER, Standing.OTHER),
    ],
)  # fmt: skip
def test_a_record_stands_as_before_or_as_after_or_otherwise(doing, now, standing):
    after, before = ({} if doing is Doing.REMOVE else NEW), ({} if doing is Doing.INSERT else OLD)
    change = Change(None, doing, {"id": "1"}, None, before, after, {}, "hive 1")
    assert _standing(change, None if now is None else (now, None)).standing is standing
