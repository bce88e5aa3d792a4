"""Which features of two frames look alike: of all of them, or near where they are expected."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features
from windfell.geometry import planar
from windfell.later import Later

spatial = Later("scipy.spatial")

Array = NDArray[np.float64]

RATIO, BINARY_RATIO = 0.82, 0.8
NEAREST, ASIDE = 8, 1 / 200
ALIKE_BITS, ALIKE_SIFT = 64.0, 0.6


def matches(a: Features, b: Features, most: int | None = None) -> NDArray[np.intp]:
    """Indices (n, 2) of mutual nearest neighbours that pass the distance ratio (Lowe 2004)."""
    da, db = a.vectors(most), b.vectors(most)
    if min(len(da), len(db)) < 3:
        return np.zeros((0, 2), np.intp)
    likeness = da @ db.T
    rows = np.arange(len(likeness))
    best = np.argmax(likeness, axis=1)
    first = likeness[rows, best]
    mutual = first >= likeness.max(axis=0)[best]
    likeness[rows, best] = -2.0
    d1, d2 = 2 - 2 * first, 2 - 2 * likeness.max(axis=1)
    distinct = d1 < (BINARY_RATIO if a.binary else RATIO**2) * np.maximum(d2, 1e-9)
    keep = np.flatnonzero(mutual & distinct)
    # bits often tie: the first of several that are as near to one stands
    _, one_each = np.unique(best[keep], return_index=True)
    keep = keep[np.sort(one_each)]
    return np.stack([keep, best[keep]], axis=1)


def matches_near(a: Features, b: Features, homography: Array, reach_px: float) -> NDArray[np.intp]:
    """As `matches`, of features of `b` within `reach_px` of where the homography (3, 3) puts those of `a`.

    So few come into question that each is looked at by itself (guided matching, Hartley & Zisserman 2004, sec.
    11.6). One is taken if it looks alike and no other of them, but for those on the same spot, is nearly as like.
    """
    there = planar.ahead(homography, a.points)
    own = np.flatnonzero(np.isfinite(there).all(axis=1))
    if not len(own) or not len(b):
        return np.zeros((0, 2), np.intp)
    away, near = spatial.cKDTree(b.points).query(there[own], k=min(NEAREST, len(b)), distance_upper_bound=reach_px)
    near, found = near.reshape(len(own), -1), np.isfinite(away).reshape(len(own), -1)
    near = np.where(found, near, 0)
    unlike = np.where(found, _unlike(a, b, own, near), np.inf)
    rows = np.arange(len(own))
    best = np.argmin(unlike, axis=1)
    first, spot = unlike[rows, best], b.points[near[rows, best]]
    elsewhere = np.linalg.norm(b.points[near] - spot[:, None], axis=2) > ASIDE * max(b.width, b.height)
    second = np.where(elsewhere, unlike, np.inf).min(axis=1)
    distinct = first < (BINARY_RATIO if a.binary else RATIO**2) * second
    keep = np.flatnonzero(distinct & (first < (ALIKE_BITS if a.binary else ALIKE_SIFT)))
    keep = keep[np.argsort(first[keep], kind="stable")]
    to = near[keep, best[keep]]
    _, one_each = np.unique(to, return_index=True)
    keep = np.sort(keep[one_each])
    return np.stack([own[keep], near[keep, best[keep]]], axis=1)


def _unlike(a: Features, b: Features, own: NDArray[np.intp], near: NDArray[np.intp]) -> NDArray[np.float32]:
    """(n, k) how much descriptors of `a` differ from k each of `b`: squared distances, of bits how many differ."""
    if a.binary:
        words_a, words_b = (np.ascontiguousarray(f.descriptors).view(np.uint64) for f in (a, b))
        return np.bitwise_count(words_a[own, None] ^ words_b[near]).sum(axis=2, dtype=np.float32)
    return 2 - 2 * np.einsum("nd,nkd->nk", a.descriptors[own], b.descriptors[near])
