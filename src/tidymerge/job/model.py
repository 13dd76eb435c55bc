"""What a run is asked to do."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from tidymerge.sources import ReadOptions


@dataclass(frozen=True, slots=True)
class Job:
    """Where rows come from, where they go, and how they are matched.

    `renames` maps target column to incoming column; `only` limits the target columns loaded;
    `header_row` counts from 1 and is found if it is None; with `strict` one rejected row stops the load.
    """

    incoming: str
    target: str
    key: tuple[str, ...] = ()
    renames: Mapping[str, str] = field(default_factory=dict)
    only: tuple[str, ...] = ()
    header_row: int | None = None
    read: ReadOptions = field(default_factory=ReadOptions)
    strict: bool = False
