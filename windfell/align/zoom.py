"""Frames of one size without metadata, taken at several focal lengths: told apart by how large things are seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from windfell.align.pairs import Link
from windfell.align.solve import LensHint
from windfell.later import Later

sparse = Later("scipy.sparse")
csgraph = Later("scipy.sparse.csgraph")

APART, FIRM = 0.12, 25


def told_apart(hints: Sequence[LensHint], links: Sequence[Link]) -> list[LensHint]:
    """The hints, where frames whose focal length nobody knows no longer share a lens if links show that they see
    things at different sizes: by a jump of an eighth among all of a lens.
    """
    out = list(hints)
    for key in dict.fromkeys(h.key for h in hints if h.focal_px is None):
        own = [n for n, h in enumerate(hints) if h.key == key]
        inner = [k for k in links if k.a in own and k.b in own and k.count >= FIRM]
        for number, zoom in enumerate(_zooms(len(hints), inner)):
            for n in zoom:
                out[n] = replace(hints[n], key=(*key, "zoom", number))
    return out


def _zooms(count: int, links: Sequence[Link]) -> list[list[int]]:
    """Groups of linked frames that see things equally large; those of the largest group are left out."""
    size = _relative_sizes(count, links)
    order = sorted(size, key=size.__getitem__)
    groups: list[list[int]] = []
    for n in order:
        if groups and size[n] - size[groups[-1][-1]] < APART:
            groups[-1].append(n)
        else:
            groups.append([n])
    return sorted(groups, key=len)[:-1]


def _relative_sizes(count: int, links: Sequence[Link]) -> dict[int, float]:
    """log of how large the frames of the largest linked group see things, along its firmest links."""
    if not links:
        return {}
    a, b = np.array([k.a for k in links]), np.array([k.b for k in links])
    weights = sparse.csr_matrix((1 / np.array([k.count for k in links]), (a, b)), (count, count))
    tree = csgraph.minimum_spanning_tree(weights)
    growth = {(k.a, k.b): _growth(k) for k in links}
    found: dict[int, float] = {}
    for start in dict.fromkeys(a.tolist()):
        if start in found:
            continue
        order, before = csgraph.breadth_first_order(tree, start, directed=False)
        own = {start: 0.0}
        for n in order[1:]:
            p = int(before[n])
            own[int(n)] = own[p] + (growth[p, n] if (p, n) in growth else -growth[n, p])
        if len(own) > len(found):
            found = own
    return found


def _growth(link: Link) -> float:
    """log of how much larger `b` shows what `a` shows: the root of the area's growth, the median over the inliers."""
    h, points = link.homography, link.points_a[link.inlier]
    w = points @ h[2, :2] + h[2, 2]
    area = np.abs(np.linalg.det(h) / np.where(np.abs(w) < 1e-9, 1e-9, w) ** 3)
    return float(0.5 * np.median(np.log(area)))
