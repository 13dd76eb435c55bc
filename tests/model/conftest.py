"""The kinds of targets that the models share."""

import random
from collections.abc import Callable, Iterator
from typing import Any

import pytest

from model import places

WEIGHTS = {"sqlite": 12, "csv": 8, "parquet": 8, "xlsx": 3, "postgresql": 3, "mariadb": 2}  # by how quick they are


@pytest.fixture(scope="module")
def place_of(request: pytest.FixtureRequest) -> Iterator[Callable[..., Any]]:
    """The kind of target of a case, drawn by the number of the case."""
    made: dict[str, Any] = {}

    def place_of(number: int, but: str | None = None) -> Any:
        kinds = [name for name in WEIGHTS if name != but]
        (name,) = random.Random(f"place {number}").choices(kinds, [WEIGHTS[name] for name in kinds])
        if name not in made:
            server = [request.getfixturevalue(f"{name}_server")] if name in ("postgresql", "mariadb") else []
            made[name] = getattr(places, name.capitalize())(*server)
        return made[name]

    yield place_of
    for place in made.values():
        getattr(place, "close", lambda: None)()
