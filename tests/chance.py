"""What is made by chance: how much of it runs, from which start, and for how long.

The short suite tries a part that is always the same. The long proofs begin somewhere else each time and say where; each
has a share of the time, and tries as many cases as fit into it, up to its full number.

* `TIDYMERGE_LONG`: the minutes that all long proofs may take together, or `full` for the full numbers.
* `TIDYMERGE_SEED`: where they begin; `scripts/test --long` draws it, and prints it.
"""

import os
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, settings

LONG = bool(os.environ.get("TIDYMERGE_LONG"))
SEED = int(os.environ.get("TIDYMERGE_SEED", "0"))
PARTS = range(4)  # of each proof, so that several workers share it
ODATA_VERSIONS = ["4.01", pytest.param("4.0", marks=pytest.mark.long)]
_APART = 100_000  # from one start to the next
_seconds = pytest.StashKey[float]()  # that a test of weight 1 may take


def some(number: int) -> int:
    """How many of so many examples to try."""
    return number if LONG else max(number // 9, 4)


# Without shrinking: an example here makes a database, and what fails is small as it is.
PROPERTY = settings(
    deadline=None,
    max_examples=some(100),
    derandomize=not LONG,
    phases=(Phase.explicit, Phase.reuse, Phase.generate),
    suppress_health_check=[HealthCheck.too_slow],
)


@contextmanager
def fresh_folder() -> Iterator[Path]:
    """An empty folder for one case, and in it a run log of its own: what other cases did is not looked through."""
    with tempfile.TemporaryDirectory() as name, pytest.MonkeyPatch.context() as patch:
        patch.setenv("TIDYMERGE_HOME", f"{name}/home")
        yield Path(name)


class Share:
    """What a test may take of the time, from now on; `note` keeps how many cases it tried of how many."""

    def __init__(self, item: pytest.Item) -> None:
        limit = item.config.stash.get(_seconds, None)
        self._until = None if limit is None else time.monotonic() + limit * _weight(item)
        self._properties = item.user_properties

    @property
    def lasts(self) -> bool:
        """Whether there is time left."""
        return self._until is None or time.monotonic() < self._until

    def note(self, tried: int, full: int) -> None:
        """Keep how many cases were tried, for the table at the end."""
        self._properties[:] = [*(one for one in self._properties if one[0] != "cases"), ("cases", (tried, full))]

    def of(self, short: int, full: int, part: int | None = None, fixed: tuple[int, ...] = ()) -> Iterator[int]:
        """The numbers of the cases to try, of one of the `PARTS` or of all; those that once failed come first."""
        if not part:
            yield from fixed
        numbers = (
            range(full if LONG else short)[part :: len(PARTS)] if part is not None else range(full if LONG else short)
        )
        for tried, number in enumerate(numbers):
            self.note(tried, len(numbers))
            if tried and not self.lasts:
                return
            yield SEED * _APART + number
        self.note(len(numbers), len(numbers))


@pytest.fixture
def share(request: pytest.FixtureRequest) -> Share:
    """What this test may take of the time."""
    return Share(request.node)


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Divide the time among the long proofs that were chosen."""
    minutes = os.environ.get("TIDYMERGE_LONG") or "full"
    if minutes != "full":
        workers = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
        config.stash[_seconds] = float(minutes) * 60 * workers / max(sum(map(_weight, items)), 1)


@pytest.hookimpl(tryfirst=True)
def pytest_runtest_setup(item: pytest.Item) -> None:
    """Let a property end with its share: what Hypothesis makes after that is not tried."""
    inner = getattr(getattr(getattr(item, "obj", None), "hypothesis", None), "inner_test", None)
    if LONG and inner is not None:
        item.obj.hypothesis.inner_test = _within(Share(item), inner)  # type: ignore[attr-defined]


def _within(share: Share, inner: Callable[..., Any]) -> Callable[..., Any]:
    made = tried = 0

    def example(*arguments: Any, **named: Any) -> None:
        nonlocal made, tried
        made += 1
        # What draws more within the test can't end early: Hypothesis would take it for another test.
        if share.lasts or not tried or any(type(one).__name__ == "DataObject" for one in (*arguments, *named.values())):
            tried += 1
            inner(*arguments, **named)
        share.note(tried, made)

    return example


def _weight(item: pytest.Item) -> float:
    mark = item.get_closest_marker("by_chance")
    return mark.kwargs.get("share", 1) if mark else 0.5  # a property of Hypothesis, which most often is quick


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """In the long proofs: where they began, and how many cases were tried of how many."""
    if not LONG:
        return
    totals: dict[str, list[int]] = {}
    for report in terminalreporter.getreports("passed") + terminalreporter.getreports("failed"):
        for tried, full in (value for name, value in report.user_properties if name == "cases"):
            total = totals.setdefault(report.nodeid.partition("[")[0], [0, 0])
            total[0] += tried
            total[1] += full
    terminalreporter.section(f"cases made by chance, from TIDYMERGE_SEED={SEED}")
    for name, (tried, full) in sorted(totals.items()):
        terminalreporter.write_line(f"{tried:>7,} of {full:>7,}  {name}")
