"""The ground under turning stars: brought onto the reference by what it shows besides stars."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from windfell.align.features import Features
from windfell.align.series import NotOnto, Onto, align_series
from windfell.align.stars import Stars
from windfell.align.view import View
from windfell.job import Job
from windfell.later import Later

spatial = Later("scipy.spatial")

NEAR_STAR = 1 / 250


def ground_places(
    features: Sequence[Features], stars: Sequence[Stars], reference: int, job: Job,
    view: Callable[[int], View] | None = None,
) -> list[Onto | NotOnto]:
    """Each frame's place on the reference by the ground alone; still where the tripod stood.

    By shift, turn and size, which carry well beyond the ground; in perspective only where that fits much better.
    """
    clean = [without_stars(f, s) for f, s in zip(features, stars, strict=True)]
    plain, free = (align_series(clean, reference, way, job, view) for way in ("similarity", "perspective"))
    return [b if _much_better(b, a) else a for a, b in zip(plain, free, strict=True)]


def _much_better(one: Onto | NotOnto, other: Onto | NotOnto) -> bool:
    if isinstance(one, NotOnto) or isinstance(other, NotOnto):
        return isinstance(one, Onto)
    return not other.still and one.rms_px < 0.6 * other.rms_px - 0.1


def without_stars(features: Features, stars: Stars) -> Features:
    """The features that lie at no star; the look of the turning sky, and spots in it, say nothing of the ground."""
    features = replace(features, look=None, spots=np.zeros((0, 2)))
    if not len(stars.points) or not len(features):
        return features
    away, _ = spatial.cKDTree(stars.points).query(features.points)
    kept = away > NEAR_STAR * max(features.width, features.height)
    return replace(features, points=features.points[kept], descriptors=features.descriptors[kept])


