"""What follows what, put in chains: border loops of charts."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def chains(to):  # type: ignore[no-untyped-def]
    """The chains of what follows what: numbers (n,) one chain after the other, each from its least one on, and offsets (L + 1,). `to` (n,): what follows each, -1
    for nothing. Linear in n."""
    n = len(to)
    order, first, seen = np.empty(n, np.int64), np.empty(n + 1, np.int64), np.zeros(n, np.bool_)
    count, loops = 0, 0
    first[0] = 0
    for begin in range(n):
        if seen[begin]:
            continue
        at = begin
        while at >= 0 and not seen[at]:
            seen[at] = True
            order[count] = at
            count += 1
            at = to[at]
        loops += 1
        first[loops] = count
    return order, first[: loops + 1].copy()
