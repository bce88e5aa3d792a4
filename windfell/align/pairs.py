"""Do two frames show the same thing? Matching, and the test that can say no."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.special import gammaln

from windfell.align.candidates import likely_pairs
from windfell.align.features import Features
from windfell.geometry import planar
from windfell.job import Job

Array = NDArray[np.float64]

RATIO, BINARY_RATIO = 0.82, 0.8
QUICK = 750
QUICK_LEAST = 7
QUICK_SAMPLES = 400
ALL_PAIRS_UP_TO = 4
TOLERANCE = 1 / 260
LEAST_INLIERS = 10
LOG_CHANCE = -8.0


@dataclass(frozen=True)
class Link:
    """Frames `a` and `b` show the same thing at these points (n, 2), px at full size.

    `inlier` marks those the verified homography (3, 3) of `a` px to `b` px explains.
    """

    a: int
    b: int
    points_a: Array
    points_b: Array
    inlier: NDArray[np.bool_]
    homography: Array

    @property
    def count(self) -> int:
        return int(self.inlier.sum())


@dataclass(frozen=True)
class NoLink:
    """Frames `a` and `b` have nothing in common that could be told from chance.

    `glanced`: just their strongest features were looked at.
    """

    a: int
    b: int
    reason: str
    glanced: bool = False


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


def link(a: int, b: int, fa: Features, fb: Features) -> Link | NoLink:
    """The verified link of two frames, or why there is none."""
    if fa.problem or fb.problem:
        return NoLink(a, b, fa.problem or fb.problem)
    pairs = matches(fa, fb)
    if len(pairs) < LEAST_INLIERS:
        return NoLink(a, b, f"only {len(pairs)} features look alike")
    pa, pb = fa.points[pairs[:, 0]], fb.points[pairs[:, 1]]
    tolerance = TOLERANCE * max(fb.width, fb.height)
    homography, mask = cv2.findHomography(
        pa, pb, cv2.USAC_MAGSAC, tolerance, maxIters=4000, confidence=0.9999
    )
    if homography is None:
        return NoLink(a, b, "the features that look alike lie in no common geometry")
    error = np.linalg.norm(planar.apply(homography, pa) - pb, axis=1)
    inlier = (mask.ravel() > 0) & (error < tolerance)
    reason = _objection(homography, pa, pb, inlier, tolerance, fa, fb)
    if reason:
        return NoLink(a, b, reason)
    return Link(a, b, pa, pb, inlier, homography)


def _objection(
    homography: Array, pa: Array, pb: Array, inlier: NDArray, tolerance: float,
    fa: Features, fb: Features,
) -> str | None:
    count = int(inlier.sum())
    if count < LEAST_INLIERS:
        return f"only {count} features agree on where they lie"
    chance = log_false_alarms(len(pa), count, np.pi * tolerance**2 / (fb.width * fb.height))
    if chance > LOG_CHANCE:
        return f"{count} of {len(pa)} features agree, which chance could do"
    if not _plausible(homography, pa[inlier]):
        return "the frames would have to be mirrored or torn to fit"
    for points, frame in ((pa[inlier], fa), (pb[inlier], fb)):
        if _spread(points) < 0.012 * max(frame.width, frame.height):
            return "all that agrees lies on one spot or line"
    return None


def log_false_alarms(n: int, k: int, probability: float) -> float:
    """log10 of the expected number of homographies that k of n matches fit by chance.

    An a-contrario criterion (Moisan & Stival 2004, eq. 9) with samples of four.
    """
    def log_choose(top: int, bottom: int) -> float:
        return (gammaln(top + 1) - gammaln(bottom + 1) - gammaln(top - bottom + 1)) / np.log(10)

    if k <= 4:
        return 0.0
    return float(
        np.log10(n - 4) + log_choose(n, k) + log_choose(k, 4) + (k - 4) * np.log10(probability)
    )


def _plausible(h: Array, points: Array) -> bool:
    """Orientation kept, and scale between 1/4 and 4, at all but a few inliers far aside."""
    w = points @ h[2, :2] + h[2, 2]
    side = np.sign(np.median(w))
    w = w * side
    area = side * np.linalg.det(h) / np.maximum(w, 1e-9) ** 3
    return bool(np.mean((w > 1e-9) & (area > 1 / 16) & (area < 16)) > 0.97)


def _spread(points: Array) -> float:
    """The lesser standard deviation of points, px."""
    return float(np.sqrt(max(0.0, np.linalg.eigvalsh(np.cov(points.T))[0])))


def find_links(
    features: Sequence[Features], job: Job, only: Sequence[tuple[int, int]] | None = None
) -> tuple[list[Link], list[NoLink]]:
    """All verified links (among the pairs `only` lists, if it does), and for the other pairs why not.

    Small sets try every pair in full; larger ones look at their strongest features first, and
    the largest only at pairs that look alike.
    """
    pairs = likely_pairs(features) if only is None else list(only)
    refused: list[NoLink] = []
    if only is None and len(features) > ALL_PAIRS_UP_TO:
        pairs, refused = _plausible_pairs(features, pairs, job)
    found = job.map(
        lambda p: link(*p, features[p[0]], features[p[1]]), pairs, "matching frames"
    )
    links = [f for f in found if isinstance(f, Link)]
    return links, refused + [f for f in found if isinstance(f, NoLink)]


def _plausible_pairs(features, pairs, job):
    counts = job.map(
        lambda p: _quick_agreement(features[p[0]], features[p[1]]), pairs, "looking for overlap"
    )
    likely, refused = [], []
    for pair, count in zip(pairs, counts, strict=True):
        if count >= QUICK_LEAST:
            likely.append(pair)
        else:
            refused.append(NoLink(*pair, f"only {count} strong features agree", glanced=True))
    return likely, refused


def _quick_agreement(a: Features, b: Features) -> int:
    """How many of the strongest features agree on some homography, loosely."""
    pairs = matches(a, b, QUICK)
    if len(pairs) < QUICK_LEAST:
        return len(pairs)
    tolerance = 2 * TOLERANCE * max(b.width, b.height)
    _, mask = cv2.findHomography(
        a.points[pairs[:, 0]], b.points[pairs[:, 1]], cv2.USAC_MAGSAC, tolerance,
        maxIters=QUICK_SAMPLES, confidence=0.99,
    )
    return 0 if mask is None else int(mask.sum())
