"""What the strongest features of two frames say at a glance, and which pairs of a set need no closer look."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.candidates import ALL_UP_TO
from windfell.align.features import Features
from windfell.align.matching import matches
from windfell.align.same_light import same_light
from windfell.align.verify import TOLERANCE, objection
from windfell.cache import Cache, key_of
from windfell.geometry import planar
from windfell.job import Job

Array = NDArray[np.float64]

STRONGEST, SAMPLES = 550, 400
OPEN, FIRM = 7, 25
WIDER = 2.0
CELLS, OFTEN, LEAST_NEW = 8, 3, 0.2


@dataclass(frozen=True)
class Glance:
    """How many of the strongest features of frames `a` and `b` agree on some homography (3, 3) of `a` px to `b` px
    that sees them ahead, loosely. `firm`: so many that it stands.
    """

    count: int
    homography: Array | None = None
    firm: bool = False

    @property
    def open(self) -> bool:
        """Whether a closer look may find more."""
        return self.count >= OPEN


# frames that join or leave others do not have them compared again
KNOWN = Cache(64 * 2**20)


def glance_at(a: Features, b: Features) -> Glance:
    """The strongest features compared, once for the same features."""
    return KNOWN.get(key_of(a.digest, b.digest), lambda: _glance(a, b))


def _glance(a: Features, b: Features) -> Glance:
    pairs = matches(a, b, STRONGEST)
    if len(pairs) < OPEN:
        return Glance(len(pairs))
    pa, pb = a.points[pairs[:, 0]], b.points[pairs[:, 1]]
    tolerance = WIDER * TOLERANCE * max(b.width, b.height)
    homography, mask = cv2.findHomography(
        pa, pb, cv2.USAC_MAGSAC, tolerance, maxIters=SAMPLES, confidence=0.99)
    if homography is None:
        return Glance(0)
    inlier = mask.ravel() > 0
    if np.median(pa[inlier] @ homography[2, :2] + homography[2, 2]) < 0:
        homography = -homography
    count = int(inlier.sum())
    firm = count >= FIRM and objection(homography, pa, pb, inlier, tolerance, a, b) is None
    # all may lie on one thing that moved: a closer look has to find what else there is
    firm = firm and same_light(a, b, homography, pa[inlier]).firm
    return Glance(count, homography, firm)


def found_and_glanced(
    find: Callable[[int], Features], count: int, job: Job, stage: str
) -> tuple[list[Features], dict[tuple[int, int], Glance] | None]:
    """Features of so many frames as `find` gives them, and what all pairs of a small set say at a glance: a core
    that has no frame left looks at pairs already. Of a large set no glances: it has too many pairs.
    """
    if count > ALL_UP_TO:
        return job.map(find, range(count), stage), None
    features: dict[int, Features] = {}
    looks: dict[tuple[int, int], Glance] = {}
    tasks: list[tuple[int, ...]] = [(n,) for n in range(count)]

    def work(task: tuple[int, ...]) -> Features | Glance:
        return find(*task) if len(task) == 1 else glance_at(*(features[n] for n in task))

    for number, found in job.stream(work, tasks, stage, ordered=False, total=count * (count + 1) // 2):
        task = tasks[number]
        if isinstance(found, Glance):
            looks[task] = found
        else:
            tasks += [(min(n, *task), max(n, *task)) for n in features]
            features[task[0]] = found
    return [features[n] for n in range(count)], dict(sorted(looks.items()))


def spare_pairs(
    features: Sequence[Features], looks: Mapping[tuple[int, int], Glance]
) -> set[tuple[int, int]]:
    """Firm pairs (a, b) that show next to nothing that firmer pairs do not show often enough, in either frame."""
    seen = [np.zeros((CELLS, CELLS), int) for _ in features]
    firm = sorted((p for p, g in looks.items() if g.firm), key=lambda p: -looks[p].count)
    spare = set()
    for a, b in firm:
        h = looks[a, b].homography
        parts = (a, _shared(features[a], features[b], h)), (b, _shared(features[b], features[a], np.linalg.inv(h)))
        new = max(float(np.mean(seen[n][part] < OFTEN)) if part.any() else 0.0 for n, part in parts)
        if new < LEAST_NEW:
            spare.add((a, b))
            continue
        for n, part in parts:
            seen[n] += part
    return spare


def _shared(a: Features, b: Features, homography: Array) -> NDArray[np.bool_]:
    """(CELLS, CELLS): whether `b` shows the middle of each cell of `a`."""
    steps = (np.arange(CELLS) + 0.5) / CELLS
    points = np.stack(np.meshgrid(steps * a.width, steps * a.height), axis=-1)
    there = planar.ahead(homography, points)
    return np.all((there >= 0) & (there < [b.width, b.height]), axis=-1)
