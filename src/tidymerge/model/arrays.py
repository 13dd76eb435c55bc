"""Arrays that the records are made of."""

import numpy as np
import numpy.typing as npt

Indices = npt.NDArray[np.int64]

Mask = npt.NDArray[np.bool_]
