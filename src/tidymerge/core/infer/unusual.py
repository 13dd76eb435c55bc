"""Which of some counts stand out from the others."""

from collections.abc import Sequence

import numpy as np

from tidymerge.model import Mask

_FEWEST = 5  # with fewer there is no usual to stand out from
_FAR = 3.5  # modified z-scores: Iglewicz and Hoaglin, How to Detect and Handle Outliers (1993)
_TO_DEVIATIONS = 1.4826  # the median absolute deviation of a normal distribution, in standard deviations
_LEAST = 0.25  # so that among counts that are all but equal a small difference does not count


def unusual(counts: Sequence[int]) -> Mask:
    """The counts far from the median, on a logarithmic scale: half of the usual is as odd as twice of it."""
    logs = np.log1p(np.asarray(counts, np.float64))
    if len(logs) < _FEWEST:
        return np.zeros(len(logs), bool)
    middle = np.median(logs)
    spread = max(float(np.median(np.abs(logs - middle))) * _TO_DEVIATIONS, _LEAST)
    far: Mask = np.abs(logs - middle) > _FAR * spread
    return far
