"""Errors as JSON, in place of a receipt (docs/receipt.md)."""

from collections.abc import Mapping
from typing import Any, TypedDict

from tidymerge.errors import TidyMergeError
from tidymerge.model.receipt_form import FORMAT, ReceiptForm


class ErrorForm(TypedDict):
    """An error with its facts."""

    code: str
    message: str
    facts: Mapping[str, Any]


class FailureForm(TypedDict):
    """What stands for a run that ended before there was a receipt."""

    format: str
    run: None
    state: str
    error: ErrorForm


class StoppedForm(ReceiptForm):
    """The receipt of a run that was stopped."""

    error: ErrorForm


def failure_to_dict(error: TidyMergeError) -> FailureForm:
    """What stands for a run that ended before there was a receipt."""
    return {"format": FORMAT, "run": None, "state": "failed", "error": error_to_dict(error)}


def error_to_dict(error: TidyMergeError) -> ErrorForm:
    """An error with its facts, as far as they are plain values."""
    facts = {name: value for name, value in error.facts.items() if isinstance(value, str | int | tuple)}
    return {"code": error.code, "message": str(error), "facts": facts}
