"""A lens that bends much and of which nothing is known: how much, by how many features agree once it is undone.

Two frames through such a lens lie on each other by no homography: features agree in parts only, and each part by one
of its own. They are matched as lenses of several bends would have them straight, and the bend under which most agree
starts the adjustment. One coefficient says it (Brown 1966), by its pull: how far it draws the frame's corners in.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from windfell.align.adjust import Observations
from windfell.align.cameras import Cameras
from windfell.align.features import Features, unbent
from windfell.align.pairs import Link, NoLink, largest_connected
from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics, tabled

Array = NDArray[np.float64]
Links = tuple[list[Link], list[NoLink]]

PULLS = (0.09, 0.17)
PLAINLY, NO_LESS, BENT, STRANGERS = 1.25, 0.9, 0.07, 10


@lru_cache(maxsize=8)
def optics_of_pull(pull: float) -> Optics | None:
    """What a lens does that draws the corners in by a share `pull`; None for none."""
    return Optics(bend=tabled(lambda r: r * (1 + _k1(pull) * r * r))) if pull else None


def k1_of_pull(pull: float, lens: Lens) -> float:
    """The k1 that draws a frame's corners in by a share."""
    return _k1(pull) * (lens.focal_px / lens.half_diagonal) ** 2


def _k1(pull: float) -> float:
    """Likewise, where radii count 1 at the corner."""
    return -pull * (1 - pull) ** 2


def pull_of(lens: Lens) -> float:
    """By which share a lens draws a frame's corners in, or pushes them out; 1 if they lie beyond where it folds."""
    corner = lens.half_diagonal / lens.focal_px
    ideal = float(np.linalg.norm(lens.undistort(lens.centre + [lens.half_diagonal, 0.0])))
    fold = lens.fold_radius
    return 1.0 if np.isfinite(fold) and ideal >= 0.998 * fold else abs(1 - corner / ideal)


def straightened(features: Sequence[Features], pull: float) -> list[Features]:
    """The features where a lens without that pull would have put them."""
    return [unbent(f, optics_of_pull(pull)) for f in features]


def straight(o: Observations, sizes: Array, pull: float) -> Observations:
    """Observations between cameras of `sizes` (n, 2) px, likewise."""
    return o if not pull else replace(
        o, points_a=_moved(o.points_a, sizes[o.a], pull, True), points_b=_moved(o.points_b, sizes[o.b], pull, True))


def as_seen(k: Link, features: Sequence[Features], pull: float) -> Link:
    """A link of straightened features with its points where the frames themselves show them."""
    if not pull:
        return k
    a, b = ((features[n].width, features[n].height) for n in (k.a, k.b))
    moved = None if k.moved is None else _moved(k.moved, a, pull, False)
    return replace(
        k, points_a=_moved(k.points_a, a, pull, False), points_b=_moved(k.points_b, b, pull, False), moved=moved)


def _moved(points: Array, size: Sequence[float], pull: float, ideal: bool) -> Array:
    optics, lens = optics_of_pull(pull), Lens(int(size[0]), int(size[1]), 1.0)
    return (optics.ideal if ideal else optics.seen)(points, lens.centre, lens.half_diagonal)


def unmoved(features: Sequence[Features]) -> bool:
    """Whether no feature lies farther out than its frame's corners: some of a fisheye's that was laid flat do."""
    lenses = [Lens(f.width, f.height, 1.0) for f in features]
    return all(bool(np.all(np.linalg.norm(f.points - x.centre, axis=1) <= x.half_diagonal))
               for f, x in zip(features, lenses, strict=True))


def may_bend(cameras: Cameras, members: Sequence[int], lenses: int) -> bool:
    """Whether a much bent lens may be behind what was found: frames do not hold together (of many more than one in
    ten: a few may be strangers), or only as more lenses than the `lenses` there are, or through one that bends much.
    """
    if cameras.count - len(members) > cameras.count // STRANGERS or len(cameras.lenses) > lenses:
        return True
    return bends(cameras, members, BENT)


def bends(cameras: Cameras, members: Sequence[int], pull: float) -> bool:
    """Whether a member's lens draws its corners in, or pushes them out, by more than a share."""
    return any(pull_of(cameras.lens(n)) > pull for n in members)


def bent_more(links: Sequence[Link], count: int, linked: Callable[[float], Links]) -> tuple[float, Links] | None:
    """The pull under which most agrees, of `count` frames, and what is `linked` then; None if less does than in
    `links`.
    """
    best, most = None, NO_LESS * agreeing(links, count)
    for pull in PULLS:
        found = linked(pull)
        agree = agreeing(found[0], count)
        if agree > most:
            best, most = (pull, found), agree
    return best


def agreeing(links: Sequence[Link], count: int) -> int:
    """How many features agree in the largest group of frames that holds together."""
    members = set(largest_connected(count, links))
    return sum(k.count for k in links if k.a in members)
