"""Whether two frames' light agrees all over what a homography says they share.

Features that agree on a homography may all lie on one thing that moved, or that stands in two places. What lies
around it then differs: the frames are laid on each other small, and blocks of them compared where there is anything
to compare.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features
from windfell.geometry import planar
from windfell.pixels.colour import srgb_decoded

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

BLOCK, ASIDE = 16, 3
ALIKE, NEIGHBOURS = 0.62, 3
LEAST_BLOCKS, LEAST_SHARE, FIRM_SHARE = 7, 0.22, 0.8
LEAST_APART, APART_SHARE, CONCENTRATED = 6, 0.5, 0.5
OUTER, RIM, LARGER = 2.5, 4, 1.2
PLAINLY = 0.1
DARKEST, BRIGHTEST, LEAST_SEEN = 6, 247, 200
LINEAR = srgb_decoded(np.arange(256) / 255.0)


@dataclass(frozen=True)
class Band:
    """Texture between so many px of the looks, and how much of it there must be at least to be compared."""

    fine: float
    coarse: float
    least: float


FINELY, SOFTLY = Band(0.8, 7.0, 0.6), Band(3.0, 20.0, 0.3)


@dataclass(frozen=True)
class SameLight:
    """Of so many blocks that show anything in both frames, so many that are alike; and of those of them apart from
    what the explanation rests on.
    """

    alike: int = 0
    compared: int = 0
    alike_apart: int = 0
    compared_apart: int = 0

    @property
    def concentrated(self) -> bool:
        """Whether most of what could be compared lies apart from what the explanation rests on."""
        return self.compared_apart >= LEAST_APART and self.compared_apart >= CONCENTRATED * self.compared

    @property
    def firm(self) -> bool:
        """Whether most of it is alike, or nothing can be said; what rests on a small part needs a closer look."""
        if self.denies or self.concentrated:
            return False
        return self.compared < LEAST_BLOCKS or self.alike >= FIRM_SHARE * self.compared

    @property
    def denies(self) -> bool:
        """Whether what the frames would share differs nearly everywhere."""
        if self.concentrated and self.alike_apart < APART_SHARE * self.compared_apart:
            return True
        return self.compared >= LEAST_BLOCKS and self.alike < LEAST_SHARE * self.compared


def same_light(a: Features, b: Features, homography: Array, points: Array) -> SameLight:
    """How the light of two frames agrees under a homography (3, 3) of `a` px to `b` px that rests on `points` (n, 2)
    of `a`; nothing compared for features without a look.
    """
    if a.look is None or b.look is None or min(a.look.shape) < BLOCK + 2 * ASIDE:
        return SameLight()
    compared, apart, _, found = _compared(a, b, homography, points)
    alike = compared & (found(0) > ALIKE)
    return SameLight(*(int(x.sum()) for x in (alike, compared, alike & apart, compared & apart)))


def likeness(a: Features, b: Features, homography: Array, points: Array, aside: int = ASIDE) -> float:
    """How alike all blocks are together, each 0..1, where neighbours must be so at one place. Arguments as of
    `same_light`, of features with looks; `aside`: up to so many px of the looks beside where the homography says.
    """
    compared, _, _, alike = _compared(a, b, homography, points, aside)
    return float(alike(NEIGHBOURS)[compared].clip(0).sum())


def likeness_apart(
    a: Features, b: Features, homography: Array, points: Array, aside: int = ASIDE, band: Band = FINELY
) -> float:
    """As `likeness`, the mean, -1..1, of the blocks apart from `points`; 0 for too few. `band`: of which texture."""
    compared, _, _, alike = _compared(a, b, homography, points, aside, True, band)
    return 0.0 if compared.sum() < LEAST_APART else float(alike(NEIGHBOURS)[compared].mean())


def likeness_of_all(a: Features, b: Features, homography: Array, moved: Array) -> float:
    """As `likeness_apart`, from what `moved` (n, 2), which may be nothing."""
    far = np.full((1, 2), -2.0 * max(a.width, a.height))
    return likeness_apart(a, b, homography, moved if len(moved) else far, 1)


def better_explained(a: Features, b: Features, homographies: Sequence[Array], aside: int) -> list[int]:
    """How many blocks of `a` each homography (3, 3) explains: those that are alike under it, and plainly more
    so than under any other, or that lie beyond the others; not those that one of them has across the rim, which a
    fraction of a px decides. Features must have looks; `aside` as of `likeness`.
    """
    anywhere = np.zeros((1, 2))
    found = [_compared(a, b, h, anywhere, aside) for h in homographies]
    alike = np.stack([np.where(seen, likeness_at(0), np.float32(-1)) for seen, _, _, likeness_at in found])
    fair = ~np.any([across for _, _, across, _ in found], axis=0)
    first = np.argmax(alike, axis=0)
    best, next_ = np.sort(alike, axis=0)[: -3 : -1] if len(alike) > 1 else (alike[0], np.full_like(alike[0], -1))
    sure = fair & (best > ALIKE) & (best - next_ > PLAINLY)
    return [int(np.sum(sure & (first == n))) for n in range(len(found))]


def _compared(
    a: Features, b: Features, homography: Array, points: Array, aside: int = ASIDE, alone: bool = False,
    band: Band = FINELY,
):
    """Of blocks (m, n) which could be compared, which lie apart and which across the rim of what `b` shows; and their
    likeness, by so many neighbours.

    `alone`: just those apart are, and nothing of what lies at the points shows around it.
    """
    to_b = to_look(b) @ homography @ np.linalg.inv(to_look(a))
    size = a.look.shape[1], a.look.shape[0]
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    seen = cv2.warpPerspective(b.look, to_b, size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
    there = cv2.warpPerspective(np.full(b.look.shape, 255, np.uint8), to_b, size, flags=flags)
    there[~_ahead(to_b, size)] = 0
    near = around(points, a)
    one, other = (texture(x, band.fine, band.coarse, ~near if alone else None) for x in (a.look, seen))
    inside = _means((there == 255).astype(np.float32), BLOCK + 2 * aside)
    compared, across = inside > 1 - 1e-4, (inside > 1e-4) & (inside < 1 - 1e-4)
    compared &= _deviation(_inside(one, aside), BLOCK) >= band.least
    compared &= _deviation(other, BLOCK + 2 * aside) >= band.least
    apart = _means(_inside(near, aside).astype(np.float32), BLOCK) < 1e-6
    compared, apart, across = (x[:: BLOCK // 2, :: BLOCK // 2] for x in (compared, apart, across))
    if alone:
        compared &= apart
    return compared, apart, across, lambda side: _best_likeness(one, other, compared.astype(np.float32), side, aside)


def brighter_by(a: Features, b: Features, homography: Array) -> float | None:
    """How much brighter `b` shows what both share, EV, from looks that are taken for sRGB; None where nothing tells.

    `homography` (3, 3) takes px of `a` to px of `b`. The median of the ratios of what is neither burnt nor black.
    """
    if a.look is None or b.look is None:
        return None
    to_b = to_look(b) @ homography @ np.linalg.inv(to_look(a))
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    one = cv2.blur(a.look, (3, 3))
    other = cv2.warpPerspective(cv2.blur(b.look, (3, 3)), to_b, one.shape[::-1], flags=flags)
    fair = (np.minimum(one, other) > DARKEST) & (np.maximum(one, other) < BRIGHTEST)
    if fair.sum() < LEAST_SEEN:
        return None
    return float(np.median(np.log2(LINEAR[other[fair]] / LINEAR[one[fair]])))


def _means(picture: F32, side: int) -> F32:
    """Means over squares of so many px, by their upper left corners, of those inside the picture."""
    out = cv2.boxFilter(picture, cv2.CV_32F, (side, side), anchor=(0, 0), borderType=cv2.BORDER_REPLICATE)
    return out[: picture.shape[0] - side + 1, : picture.shape[1] - side + 1]


def _deviation(picture: F32, side: int) -> F32:
    mean = _means(picture, side)
    return np.sqrt(np.maximum(_means(picture * picture, side) - mean * mean, 0))


def _block_means(picture: F32) -> F32:
    """Means of the picture's blocks, one beginning every half block."""
    half = BLOCK // 2
    rows, columns = (n // half for n in picture.shape)
    cells = cv2.resize(picture[: rows * half, : columns * half], (columns, rows), interpolation=cv2.INTER_AREA)
    pairs = cells[1:] + cells[:-1]
    return np.float32(0.25) * (pairs[:, 1:] + pairs[:, :-1])


def _inside(picture: NDArray, aside: int) -> NDArray:
    return picture[aside : picture.shape[0] - aside, aside : picture.shape[1] - aside]


def _best_likeness(one: F32, other: F32, compared: F32, side: int, aside: int) -> F32:
    """The greatest normalised correlation of each block of one texture with the other's, up to `aside` px aside;
    with its neighbours' in a square of `side` blocks, if that is not 0.
    """
    inner = np.ascontiguousarray(_inside(one, aside))
    high, wide = inner.shape
    mean = _block_means(inner)
    spread = np.sqrt(np.maximum(_block_means(inner * inner) - mean * mean, 0))
    means, spreads = _means(other, BLOCK), _deviation(other, BLOCK)
    best = np.full(mean.shape, -1, np.float32)
    for dy in range(2 * aside + 1):
        for dx in range(2 * aside + 1):
            at = np.s_[dy : dy + high - BLOCK + 1 : BLOCK // 2, dx : dx + wide - BLOCK + 1 : BLOCK // 2]
            both = _block_means(inner * other[dy : dy + high, dx : dx + wide])
            found = (both - mean * means[at]) / (spread * spreads[at] + 1e-9)
            if side:
                weighed, weight = (cv2.blur(x, (side, side), borderType=cv2.BORDER_CONSTANT)
                                   for x in (found * compared, compared))
                found = weighed / np.maximum(weight, np.float32(1e-6))
            np.maximum(best, found, out=best)
    return best


def around(points: Array, a: Features) -> NDArray[np.bool_]:
    """(h, w): where on the look of `a` the convex hull of points, and a little around it, lies."""
    out = np.zeros(a.look.shape, np.uint8)
    at = points @ to_look(a)[:2, :2].T
    middle = np.median(at, axis=0)
    # lone matches that fit by chance lie far from the others
    at = planar.without_lone(at, OUTER)
    # features lie within what has them; its rim is farther out
    at = middle + LARGER * (at - middle)
    hull = cv2.convexHull(np.rint(at).astype(np.int32))
    cv2.fillConvexPoly(out, hull, 1)
    return cv2.dilate(out, np.ones((2 * RIM + 1,) * 2, np.uint8)) > 0


def to_look(f: Features) -> Array:
    """(3, 3): px of the frame to px of its look."""
    kx, ky = f.look.shape[1] / f.width, f.look.shape[0] / f.height
    return np.array([[kx, 0, 0.5 * kx - 0.5], [0, ky, 0.5 * ky - 0.5], [0, 0, 1]])


def _ahead(h: Array, size: tuple[int, int]) -> NDArray[np.bool_]:
    """Where a look's px lie ahead of the other camera."""
    w = h[2, 0] * np.arange(size[0]) + (h[2, 1] * np.arange(size[1]) + h[2, 2])[:, None]
    middle = h[2, 0] * size[0] / 2 + h[2, 1] * size[1] / 2 + h[2, 2]
    return w * np.sign(middle) > 1e-9


def texture(look: NDArray[np.uint8], fine: float, coarse: float, fair: NDArray[np.bool_] | None = None) -> F32:
    """The look without its slow changes of light, which all frames have alike, and without noise. Where not `fair`
    it is 0, and nothing of what is there shows around it.
    """
    light = look.astype(np.float32)
    if fair is None:
        return cv2.GaussianBlur(light, (0, 0), fine) - _widely(light, coarse)
    weight = fair.astype(np.float32)
    near, far = (blur(light * weight, s) / np.maximum(blur(weight, s), np.float32(1e-3))
                 for blur, s in ((lambda x, s: cv2.GaussianBlur(x, (0, 0), s), fine), (_widely, coarse)))
    return np.where(fair, near - far, np.float32(0))


def _widely(picture: F32, sigma: float) -> F32:
    """The picture blurred by a wide Gaussian, made at half its size."""
    high, wide = picture.shape
    small = cv2.resize(picture, ((wide + 1) // 2, (high + 1) // 2), interpolation=cv2.INTER_AREA)
    return cv2.resize(cv2.GaussianBlur(small, (0, 0), sigma / 2), (wide, high), interpolation=cv2.INTER_LINEAR)
