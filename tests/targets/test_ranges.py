"""Ranges of staged positions."""

import numpy as np
import pytest

from tidymerge.targets.sql.ranges import stretches


@pytest.mark.parametrize(
    ("positions", "wanted"),
    [([], []), ([3], [(3, 3)]), ([4, 1, 2, 9, 2], [(1, 2), (4, 4), (9, 9)]), ([0, 1, 3, 5], [(0, 1), (3, 3), (5, 5)])],
)
def test_neighbours_are_one_stretch_and_a_gap_ends_it(positions, wanted):
    assert list(stretches(np.array(positions, np.int64))) == wanted
