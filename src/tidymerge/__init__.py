"""Load incoming rows into existing tables: matched by key, every row accounted for.

    import tidymerge
    receipt = tidymerge.preview("week32.xlsx#Inspections", into="coop.db#hives")
    receipt = tidymerge.load("week32.xlsx#Inspections", into="coop.db#hives", expect=receipt.fingerprint)
    tidymerge.undo(receipt.run)
    tidymerge.change("coop.db#hives", {"honey_kg": "honey_kg * 1.05"}, where="apiary_code = '101'")

All return a `Receipt` and print nothing; all raise a `TidyMergeError` when they can't do their work.
"""

import logging
from typing import TYPE_CHECKING

from tidymerge.api.asking import CompareOptions, changes, compare, draft, look, receipt, runs
from tidymerge.api.given import ArrowTable
from tidymerge.api.loading import extract, load, preview, read_job
from tidymerge.api.options import LoadOptions
from tidymerge.api.records import change, remove, undo
from tidymerge.errors import ProofFailed, SourceError, Stopped, TargetError, TidyMergeError, UsageError

if TYPE_CHECKING:
    from tidymerge.job.model import Change, Job, Removal
    from tidymerge.job.tables import TablesJob
    from tidymerge.model.receipt import Receipt
    from tidymerge.model.rules import Blanks, ColumnRule, Find, Limits, Most, Rules

__all__ = [
    "ArrowTable",
    "Blanks",
    "Change",
    "ColumnRule",
    "CompareOptions",
    "Find",
    "Job",
    "Limits",
    "LoadOptions",
    "Most",
    "ProofFailed",
    "Receipt",
    "Removal",
    "Rules",
    "SourceError",
    "Stopped",
    "TablesJob",
    "TargetError",
    "TidyMergeError",
    "UsageError",
    "__version__",
    "change",
    "changes",
    "compare",
    "draft",
    "extract",
    "load",
    "look",
    "preview",
    "read_job",
    "receipt",
    "remove",
    "runs",
    "undo",
]
__version__ = "0.1.0"
logging.getLogger("tidymerge").addHandler(logging.NullHandler())  # nothing is said unless the program asks for it

_LATE = {
    **dict.fromkeys(("Job", "Change", "Removal"), "tidymerge.job.model"),
    "TablesJob": "tidymerge.job.tables",
    "Receipt": "tidymerge.model.receipt",
    **dict.fromkeys(("Limits", "Most", "Rules", "ColumnRule", "Find", "Blanks"), "tidymerge.model.rules"),
}


def __getattr__(name: str) -> object:
    """Import the records when they are asked for: importing the package must stay quick."""
    if name in _LATE:
        from importlib import import_module

        return getattr(import_module(_LATE[name]), name)
    raise AttributeError(f"module 'tidymerge' has no attribute {name!r}")
