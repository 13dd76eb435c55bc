"""Last year's file: rows that are older than those of the last run from such a file into the same table."""

import re
from collections.abc import Mapping
from contextlib import suppress
from pathlib import PurePath

from tidymerge.address import is_server, same_table
from tidymerge.errors import LogDamaged
from tidymerge.model.receipt import State
from tidymerge.model.run import Run
from tidymerge.ports.log import RunLog

_LOOKED_AT = 60  # runs of the log, the latest ones


def older_than_before(
    log: RunLog, target: str, files: Mapping[str, str | None], latest: Mapping[str, str]
) -> list[str]:
    """A warning if the log knows of a later file of the same kind in the same table. Runs that were undone don't count.

    `files` are the incoming addresses with the SHA-256 of each, `latest` the greatest values of the columns of dates.
    """
    before = [run for run in standing_loads(log, target, _LOOKED_AT) if _alike(run.files, files)]
    if not before:
        return []
    last, when = before[0], f"{before[0].started:%Y-%m-%d %H:%M}"
    contents = {checksum for checksum in files.values() if checksum}
    if contents & {*last.files.values()}:
        return []
    for run in before[1:]:
        if contents & {*run.files.values()}:
            already = f"This very file was loaded on {run.started:%Y-%m-%d %H:%M} already"
            return [f"{already}; since then {_names(last)} was loaded, on {when}. Is it the right file?"]
    common = [name for name in latest if name in last.latest]
    if common and all(latest[name] < last.latest[name] for name in common):
        name = common[0]
        older = f"The rows are older than those of {_names(last)}, loaded on {when}"
        dates = f"the latest {name} is {latest[name]}, and was {last.latest[name]} there"
        return [f"{older}: {dates}. Is it the right file?"]
    return []


def standing_loads(log: RunLog, target: str, most: int | None = None, *, damaged: bool = True) -> list[Run]:
    """The loads into a table that are not taken back, the latest first, among the latest runs of the log.

    Entries that can't be read are left out if `damaged` ones may be. Raises LogDamaged.
    """
    found, undone = [], set()
    for name in log.names()[:most]:
        with suppress(*([LogDamaged] if damaged else [])):
            run = log.read(name)
            if run.undoes and run.wrote and name not in undone:
                undone.add(run.undoes)
            elif run.state is State.LOADED and run.wrote and name not in undone and same_table(run.target, target):
                found.append(run)
    return found


def _alike(one: Mapping[str, str | None], other: Mapping[str, str | None]) -> bool:
    """Whether files are called alike but for numbers: week31.xlsx and week32.xlsx."""
    return bool(_kinds(one) & _kinds(other))


def _kinds(files: Mapping[str, str | None]) -> set[str]:
    names = (PurePath(address.partition("#")[0]).name for address in files if not is_server(address))
    return {re.sub(r"[0-9]+", "0", name) for name in names}


def _names(run: Run) -> str:
    return ", ".join(PurePath(address).name for address in run.files)
