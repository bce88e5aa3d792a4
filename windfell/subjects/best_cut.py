"""Where to cut so that what is laid in meets what is around it: along a line on which both agree."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later

sparse = Later("scipy.sparse")
csgraph = Later("scipy.sparse.csgraph")

F32 = NDArray[np.float32]
Bools = NDArray[np.bool_]

STEPS, MOST = 60.0, 1 << 24


def best_cut(off: F32, inner: Bools, beyond: Bools) -> Bools:
    """The px (h, w) to take: all of `inner`, nothing of `beyond`, cut where the pictures differ least (`off`, h x w,
    about 1 for a plain difference): the minimum cut of the grid (Kwatra et al. 2003), by maximum flow.
    """
    h, w = off.shape
    at = np.arange(h * w).reshape(h, w)
    cost = 1 + np.rint(STEPS * np.clip(off, 0, 50)).astype(np.int32)
    rows, columns, capacities = [], [], []
    for one, other in ((np.s_[:, :-1], np.s_[:, 1:]), (np.s_[:-1], np.s_[1:])):
        a, b, c = at[one].ravel(), at[other].ravel(), (cost[one] + cost[other]).ravel()
        rows += [a, b]
        columns += [b, a]
        capacities += [c, c]
    source, sink = h * w, h * w + 1
    for where, pair in ((at[inner], (source, None)), (at[beyond & ~inner], (None, sink))):
        ends = np.full(len(where), pair[0] if pair[0] is not None else pair[1])
        rows.append(ends if pair[0] is not None else where)
        columns.append(where if pair[0] is not None else ends)
        capacities.append(np.full(len(where), MOST, np.int32))
    graph = sparse.csr_matrix(
        (np.concatenate(capacities), (np.concatenate(rows), np.concatenate(columns))), (h * w + 2, h * w + 2),
        dtype=np.int32)
    left = graph - csgraph.maximum_flow(graph, source, sink).flow
    left.data[left.data < 0] = 0
    left.eliminate_zeros()
    reached = csgraph.breadth_first_order(left, source, return_predecessors=False)
    out = np.zeros(h * w + 2, bool)
    out[reached] = True
    return out[: h * w].reshape(h, w)
