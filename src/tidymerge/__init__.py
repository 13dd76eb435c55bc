"""Load incoming rows into existing tables: matched by key, every row accounted for.

    import tidymerge
    receipt = tidymerge.preview("week32.xlsx#Inspections", into="coop.db#hives")
    receipt = tidymerge.load("week32.xlsx#Inspections", into="coop.db#hives", expect=receipt.fingerprint)
    tidymerge.undo(receipt.run)
    tidymerge.change("coop.db#hives", {"honey_kg": "honey_kg * 1.05"}, where="apiary_code = '101'")

All return a `Receipt` and print nothing; all raise a `TidyMergeError` when they can't do their work.
"""

from typing import TYPE_CHECKING

from tidymerge.api.loading import extract, load, preview
from tidymerge.api.records import change, remove, undo
from tidymerge.errors import ProofFailed, SourceError, Stopped, TargetError, TidyMergeError, UsageError

if TYPE_CHECKING:
    from tidymerge.job.model import Change, Job, Removal
    from tidymerge.job.tables import TablesJob
    from tidymerge.model.receipt import Receipt
    from tidymerge.model.rules import Limits, Most

__all__ = [
    "Change",
    "Job",
    "Limits",
    "Most",
    "ProofFailed",
    "Receipt",
    "Removal",
    "SourceError",
    "Stopped",
    "TablesJob",
    "TargetError",
    "TidyMergeError",
    "UsageError",
    "__version__",
    "change",
    "extract",
    "load",
    "preview",
    "remove",
    "undo",
]
__version__ = "0.1.0"


def __getattr__(name: str) -> object:
    """Import the records when they are asked for: importing the package must stay quick."""
    if name in ("Job", "Change", "Removal"):
        from tidymerge.job import model

        return getattr(model, name)
    if name == "TablesJob":
        from tidymerge.job.tables import TablesJob

        return TablesJob
    if name == "Receipt":
        from tidymerge.model.receipt import Receipt

        return Receipt
    if name in ("Limits", "Most"):
        from tidymerge.model import rules

        return getattr(rules, name)
    raise AttributeError(f"module 'tidymerge' has no attribute {name!r}")
