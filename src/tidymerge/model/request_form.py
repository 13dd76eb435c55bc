"""What was asked of records that are there, in its published form: a part of receipts and of the log's entries."""

from collections.abc import Mapping
from typing import NotRequired, TypedDict

from tidymerge.model.receipt import Action, Request


class RequestForm(TypedDict):
    """What was asked of records that are there."""

    action: str
    set: Mapping[str, str]
    where: str | None
    keys: NotRequired[str | None]
    drop: NotRequired[tuple[str, ...]]
    with_referring: NotRequired[bool]
    archive: NotRequired[Mapping[str, str]]


def request_to_dict(request: Request | None) -> RequestForm | None:
    """What was asked, as plain data."""
    if request is None:
        return None
    return {
        "action": request.action.value,
        "set": dict(request.sets),
        "where": request.where,
        "keys": request.keys,
        "drop": request.drops,
        "with_referring": request.with_referring,
        "archive": dict(request.archive),
    }


def request_from_dict(form: RequestForm | None) -> Request | None:
    """What was asked, of its form. Raises ValueError for an action that there is not."""
    if form is None:
        return None
    given = (
        form["set"],
        form["where"],
        form.get("keys"),
        tuple(form.get("drop", ())),
        form.get("with_referring", False),
        form.get("archive", {}),
    )
    return Request(Action(form["action"]), *given)
