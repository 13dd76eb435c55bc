"""Errors as JSON, in place of a receipt (docs/receipt.md)."""

from typing import Any

from tidymerge.errors import TidyMergeError
from tidymerge.model.receipt_form import FORMAT


def failure_to_dict(error: TidyMergeError) -> dict[str, Any]:
    """What stands for a run that ended before there was a receipt."""
    return {"format": FORMAT, "run": None, "state": "failed", "error": error_to_dict(error)}


def error_to_dict(error: TidyMergeError) -> dict[str, Any]:
    """An error with its facts, as far as they are plain values."""
    facts = {name: value for name, value in error.facts.items() if isinstance(value, str | int | tuple)}
    return {"code": error.code, "message": str(error), "facts": facts}
