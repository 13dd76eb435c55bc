"""A change of records that are there."""

from functools import partial

from tidymerge.job.model import Change
from tidymerge.model.receipt import Action, Request, State
from tidymerge.run.checks import check_drop, check_strict
from tidymerge.run.decide_change import decide_change, request_of
from tidymerge.run.decide_drop import decide_drop
from tidymerge.run.task import Task


def change_task(asked: Change) -> Task:
    """The change as a task. With `strict` one rejected record stops it."""
    if asked.drop:
        return Task(
            asked.target,
            asked.types,
            Request(Action.CHANGE, drops=asked.drop),
            State.CHANGED,
            partial(decide_drop, asked),
            check_drop,
            asked.trust_triggers,
            asked.file,
            firmly=True,
        )
    return Task(
        asked.target,
        asked.types,
        request_of(asked),
        State.CHANGED,
        partial(decide_change, asked),
        partial(check_strict, strict=asked.strict),
        asked.trust_triggers,
        asked.file,
    )
