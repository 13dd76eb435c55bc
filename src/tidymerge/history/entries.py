"""A run as a JSON file, with its receipt as it was printed at the time."""

import json
from dataclasses import asdict
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any

from tidymerge.errors import LogDamaged
from tidymerge.run import Run

FORMAT = "tidymerge-run/1"
_DAMAGED = "The run log's file {path} can't be read: {said}. Move it away to go on without it."


def to_json(run: Run) -> str:
    """The entry of a run."""
    return json.dumps({"format": FORMAT, **asdict(run)}, default=_plain, ensure_ascii=False, indent=1)


def _plain(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.isoformat()
    raise TypeError(type(value).__name__)


def read_entry(path: Path) -> Run:
    """The run of an entry. Raises LogDamaged."""
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
        known = data.pop("format") == FORMAT
        found: Run = _reader()(data)
    except (OSError, ValueError, KeyError, AttributeError) as error:
        raise LogDamaged(_DAMAGED.format(path=path, said=str(error).partition("\n")[0])) from None
    if not known:
        raise LogDamaged(_DAMAGED.format(path=path, said=f"it is not of the format {FORMAT}"))
    return found


@cache
def _reader() -> Any:
    from pydantic import TypeAdapter

    return TypeAdapter(Run).validate_python


def is_settled(path: Path) -> bool:
    """Whether an entry's run is settled, told without taking all of it apart; one that is gone is no longer open."""
    try:
        return b'"settled": false' not in path.read_bytes()
    except FileNotFoundError:
        return True
