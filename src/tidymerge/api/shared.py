"""What the functions of the Python interface share."""

import logging
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from tidymerge.api.options import Names, Place, Tell

if TYPE_CHECKING:
    from tidymerge.model.receipt import Receipt
    from tidymerge.model.rules import Limits, Most
    from tidymerge.ports.progress import Progress
    from tidymerge.run.outputs import Outputs

log = logging.getLogger("tidymerge")


class _Told:
    """Progress that goes to a function."""

    def __init__(self, tell: Tell) -> None:
        self._tell = tell
        self._words, self._done = "", 0
        self._of: int | None = None

    def stage(self, words: str, rows: int | None = None) -> None:
        """A stage begins, or goes on with its rows known."""
        self._words, self._done, self._of = words, 0, rows
        self._tell(words, 0, rows)

    def rows(self, count: int) -> None:
        """So many more rows are done."""
        self._done += count
        self._tell(self._words, self._done, self._of)


def told(progress: Tell | None) -> "Progress":
    """Who is told how far a run has come."""
    from tidymerge.ports.progress import Quiet

    return Quiet() if progress is None else _Told(progress)


def names(given: Names) -> tuple[str, ...]:
    """One name, or several."""
    return (given,) if isinstance(given, str) else tuple(given)


def outputs(rejects: Place | Literal[False] | None = None, **others: Place | None) -> "Outputs":
    """Where rejected rows go: to that file, to a new one, or with False to none; and the other files, by name."""
    from tidymerge.run.outputs import Outputs

    files: dict[str, Any] = {name: Path(place) for name, place in others.items() if place is not None}
    return Outputs(rejects=Path(rejects) if rejects else None, save_rejects=rejects is not False, **files)


def limits_of(given: "Limits | Mapping[str, int | str | Most] | None") -> "Limits | dict[str, Any]":
    """Limits as a whole, or single ones by name: {"updated": "20%", "fewest_rows": 100}. Raises BadOption."""
    from tidymerge.core.warn.limits import parse_most
    from tidymerge.errors import BadOption
    from tidymerge.model.rules import Limits, Most

    if isinstance(given, Limits):
        return given
    known = Limits.__struct_fields__
    for name in given or ():
        if name not in known:
            raise BadOption(f"There is no limit {name!r}; known are {', '.join(known)}.")
    counts = {name for name in known if name.startswith(("expect_", "fewest_"))}
    found: dict[str, Any] = {}
    for name, limit in (given or {}).items():
        if name in counts and not isinstance(limit, int):
            raise BadOption(f"The limit {name} is a whole number, not {limit!r}.")
        found[name] = limit if name in counts or isinstance(limit, Most) else parse_most(str(limit), name)
    return found


def after_commit(receipt: "Receipt", files: "Outputs") -> "Receipt":
    """Write the views of a run that is done; the receipt, with a note if that failed: the run must not look as if."""
    from msgspec.structs import replace

    from tidymerge.run.views import write_views

    try:
        write_views(receipt, None, files)
    except Exception as error:  # noqa: BLE001 - the run is done
        said = f"The run is done, but not all of its views are written: {error}"
        log.warning("%s: %s", receipt.place, said)
        return replace(receipt, notes=(*receipt.notes, said))
    return receipt


def done(receipt: "Receipt") -> "Receipt":
    """The receipt, of which the logger is told."""
    rows = receipt.rows
    counts = (rows.inserted, rows.updated, rows.unchanged, rows.skipped, rows.rejected, rows.removed)
    log.info(
        "%s %s: %d inserted, %d updated, %d unchanged, %d skipped, %d rejected, %d removed",
        receipt.run or "preview", receipt.place, *counts,
        extra={"run": receipt.run, "state": receipt.state.value, "fingerprint": receipt.fingerprint},
    )  # fmt: skip
    for warning in receipt.warnings:
        log.warning("%s: %s", receipt.place, warning)
    return receipt
