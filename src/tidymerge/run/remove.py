"""A removal of records."""

from functools import partial

from tidymerge.job.model import Removal
from tidymerge.model.receipt import State
from tidymerge.run.checks import check_hindered
from tidymerge.run.decide_remove import decide_removal, request_of
from tidymerge.run.task import Task


def removal_task(asked: Removal) -> Task:
    """The removal as a task. One record that can't go stops it."""
    return Task(
        asked.target,
        asked.types,
        request_of(asked),
        State.REMOVED,
        partial(decide_removal, asked),
        check_hindered,
        asked.trust_triggers,
        asked.file,
    )
