"""Load incoming rows into existing tables: matched by key, every row accounted for.

    import tidymerge
    receipt = tidymerge.preview("week32.xlsx#Inspections", into="coop.db#hives")
    receipt = tidymerge.load("week32.xlsx#Inspections", into="coop.db#hives", expect=receipt.fingerprint)

Both return a `Receipt` and print nothing; both raise a `TidyMergeError` when they can't do their work.
"""

from collections.abc import Mapping, Sequence
from os import PathLike, fspath
from typing import TYPE_CHECKING

from tidymerge.errors import (
    ProofFailed,
    SourceError,
    Stopped,
    TargetError,
    TidyMergeError,
    UsageError,
)

if TYPE_CHECKING:
    from tidymerge.job.model import Job
    from tidymerge.receipt import Receipt

__all__ = [
    "ProofFailed",
    "Receipt",
    "SourceError",
    "Stopped",
    "TargetError",
    "TidyMergeError",
    "UsageError",
    "__version__",
    "load",
    "preview",
]
__version__ = "0.1.0"


def __getattr__(name: str) -> object:
    """Import `Receipt` when it is asked for: importing the package must stay quick for `--help`."""
    if name == "Receipt":
        from tidymerge.receipt import Receipt

        return Receipt
    raise AttributeError(f"module 'tidymerge' has no attribute {name!r}")


def preview(
    incoming: str | PathLike[str],
    into: str | PathLike[str],
    *,
    key: str | Sequence[str] = (),
    columns: Mapping[str, str] | None = None,
    only: Sequence[str] = (),
    header_row: int | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    encoding: str | None = None,
    rejects: str | PathLike[str] | None = None,
) -> "Receipt":
    """Decide what a load would do, and write nothing to the target.

    `incoming` and `into` are addresses (`week32.xlsx#Inspections`, `coop.db#hives`). `key` names the
    target columns that find a record and defaults to the primary key; `columns` maps target column
    to incoming column where the names differ; `only` limits the target columns loaded. `header_row`
    counts from 1. With `rejects`, the rejected rows are written to that file as CSV.
    Raises UsageError, SourceError or TargetError.
    """
    from pathlib import Path

    from tidymerge import flow

    job = _job(incoming, into, key, columns, only, header_row, (delimiter, quote, encoding), strict=False)
    return flow.preview(job, rejects=None if rejects is None else Path(rejects))


def load(
    incoming: str | PathLike[str],
    into: str | PathLike[str],
    *,
    key: str | Sequence[str] = (),
    columns: Mapping[str, str] | None = None,
    only: Sequence[str] = (),
    header_row: int | None = None,
    delimiter: str | None = None,
    quote: str | None = None,
    encoding: str | None = None,
    rejects: str | PathLike[str] | None = None,
    strict: bool = False,
    accept_warnings: bool = False,
    expect: str | None = None,
) -> "Receipt":
    """Load the incoming rows, in one transaction that is proved before it is committed.

    Takes what `preview` takes. Rejected rows go to `rejects`, or to a new file in the current
    folder that the receipt names. Raises what `preview` raises; Stopped when `expect` is not the
    fingerprint of the changes, when there are warnings and `accept_warnings` is false, or when
    `strict` and a row was rejected; ProofFailed when the run does not add up. Then nothing was written.
    """
    from pathlib import Path

    from tidymerge import flow

    job = _job(incoming, into, key, columns, only, header_row, (delimiter, quote, encoding), strict=strict)
    return flow.load(
        job, accept_warnings=accept_warnings, expect=expect, rejects=None if rejects is None else Path(rejects)
    )


def _job(
    incoming: str | PathLike[str],
    into: str | PathLike[str],
    key: str | Sequence[str],
    columns: Mapping[str, str] | None,
    only: Sequence[str],
    header_row: int | None,
    read: tuple[str | None, str | None, str | None],
    *,
    strict: bool,
) -> "Job":
    from tidymerge.job.model import Job
    from tidymerge.sources import ReadOptions

    keys = (key,) if isinstance(key, str) else tuple(key)
    return Job(
        fspath(incoming), fspath(into), keys, dict(columns or {}), tuple(only), header_row, ReadOptions(*read), strict
    )
