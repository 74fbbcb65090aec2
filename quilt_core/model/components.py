"""What hangs together by pairs."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def components(count: int, a: NDArray[np.integer], b: NDArray[np.integer]) -> NDArray[np.int64]:
    """The connected component (count,) that each of some things is of, by scipy.

    Parameters
    ----------
    a, b : (k,) each, pairs that hang together

    Returns
    -------
    numbers from 0 without gaps, in order of appearance
    """
    if not count:
        return np.zeros(0, np.int64)
    from scipy.sparse import coo_matrix  # these take a tenth of a second to load, and what looks into a file mostly needs neither
    from scipy.sparse.csgraph import connected_components

    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(count, count))
    return np.asarray(connected_components(graph, directed=False)[1], np.int64)
