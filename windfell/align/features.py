"""Features of a frame: places that are found again in another."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.pixels.colour import to_view

MOST = 3000
FEW = 600
CELLS, SHARES = 8, 2
LEVEL_STEP, LEVELS, CORNERS = 1.4, 5, (20, 7)
LEAST_SIDE, SQUARES = 32, 24
LOOK = 256


@dataclass(frozen=True)
class Features:
    """Points (n, 2) float64 in px of the frame's full size; descriptors (n, 128) float32 of
    unit length (RootSIFT, Arandjelovic & Zisserman 2012), or (n, 32) uint8 of 256 bits (ORB). Strongest
    first. `problem` says why the frame could not be looked at. `spots` (m, 2), px: in each square of the frame the
    place where the light varies most in all directions, be it ever so little; the most first. `look`: the frame's
    encoded grey (h, w), LOOK px at its longer side; None if it is not to be compared.
    """

    points: NDArray[np.float64]
    descriptors: NDArray[np.float32] | NDArray[np.uint8]
    width: int
    height: int
    problem: str = ""
    spots: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 2)))
    look: NDArray[np.uint8] | None = None

    def __len__(self) -> int:
        return len(self.points)

    @cached_property
    def digest(self) -> str:
        """Alike for features of which all is the same."""
        out = hashlib.blake2b(repr((self.width, self.height, self.problem)).encode(), digest_size=16)
        for part in (self.points, self.descriptors, self.spots, self.look):
            if part is not None:
                out.update(repr((part.shape, part.dtype.str)).encode())
                out.update(np.ascontiguousarray(part))
        return out.hexdigest()

    @property
    def binary(self) -> bool:
        return self.descriptors.dtype == np.uint8

    def vectors(self, most: int | None = None) -> NDArray[np.float32]:
        """The first descriptors as unit vectors; of bits, so that a squared distance counts those that differ."""
        first = self.descriptors[:most]
        if not self.binary:
            return first
        return np.unpackbits(first, axis=1).astype(np.float32) / 8 - 1 / 16


def unbent(features: Features, optics: Optics | None) -> Features:
    """Features with their points where a lens without distortion would have put them."""
    if optics is None or not optics.bends:
        return features
    lens = Lens(features.width, features.height, 1.0)
    (ideal, near), (spots, spots_near) = (unbent_points(p, lens, optics) for p in (features.points, features.spots))
    look = None if features.look is None else _unbent_look(features, optics, lens)
    return replace(
        features, points=ideal[near], descriptors=features.descriptors[near], spots=spots[spots_near], look=look)


def unbent_points(points: NDArray, lens: Lens, optics: Optics) -> tuple[NDArray, NDArray[np.bool_]]:
    """Where a lens without distortion would have put points (n, 2) of a frame, and which (n,) lie near enough to its
    axis to be matched as on a flat view.
    """
    ideal = optics.ideal(points, lens.centre, lens.half_diagonal)
    return ideal, optics.in_reach(ideal, lens.centre, lens.half_diagonal)


def _unbent_look(features: Features, optics: Optics, lens: Lens) -> NDArray[np.uint8]:
    """The look as a lens without distortion would have seen it."""
    high, wide = features.look.shape
    ratio = np.array([features.width / wide, features.height / high])
    places = (np.stack(np.meshgrid(np.arange(wide), np.arange(high)), axis=-1) + 0.5) * ratio - 0.5
    seen = (optics.seen(places, lens.centre, lens.half_diagonal) + 0.5) / ratio - 0.5
    where = np.nan_to_num(seen, nan=-1e4, posinf=-1e4, neginf=-1e4).clip(-1e4, 1e4).astype(np.float32)
    return cv2.remap(features.look, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)


def look_of(grey: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """`Features.look` of encoded grey (h, w)."""
    k = min(1.0, LOOK / max(grey.shape))
    size = max(1, round(grey.shape[1] * k)), max(1, round(grey.shape[0] * k))
    return cv2.resize(grey, size, interpolation=cv2.INTER_AREA)


def find_features(
    linear: NDArray[np.float32], width: int, height: int, ignore: NDArray[np.uint8] | None = None,
    most: int = MOST,
) -> Features:
    """SIFT features (Lowe 2004) of a frame of width x height px seen at a smaller size.

    `linear` is the frame's working-space light at that size. Where `ignore` (any size,
    stretched over the frame) is above 127 no point is taken. At most `most` are kept.
    """
    return grey_features(cv2.cvtColor(to_view(linear), cv2.COLOR_RGB2GRAY), width, height, ignore, most)


def grey_features(
    grey: NDArray[np.uint8], width: int, height: int, ignore: NDArray[np.uint8] | None = None, most: int = MOST,
) -> Features:
    """As `find_features`, of encoded grey (h, w)."""
    points, descriptors = _detected(grey, _allowed(ignore, grey), most)
    return Features(_at_full_size(points, grey, width, height), descriptors, width, height, look=look_of(grey))


def _allowed(ignore: NDArray[np.uint8] | None, grey: NDArray[np.uint8]) -> NDArray[np.uint8] | None:
    """255 where points may be taken, at the size of `grey`."""
    if ignore is None:
        return None
    mask = cv2.resize(ignore, (grey.shape[1], grey.shape[0]), interpolation=cv2.INTER_NEAREST)
    return np.where(mask > 127, 0, 255).astype(np.uint8)


def _at_full_size(points: NDArray, grey: NDArray[np.uint8], width: int, height: int) -> NDArray[np.float64]:
    return (points + 0.5) * [width / grey.shape[1], height / grey.shape[0]] - 0.5


def quick_features(
    grey: NDArray[np.uint8], width: int, height: int, ignore: NDArray[np.uint8] | None = None, most: int = MOST,
) -> Features:
    """Oriented corners with binary descriptors (ORB, Rublee et al. 2011): found five times as fast as
    `grey_features`, and told apart less surely.
    """
    mask, keys = _allowed(ignore, grey), ()
    for faintest in CORNERS if min(grey.shape) >= LEAST_SIDE else ():
        orb = cv2.ORB_create(3 * most, LEVEL_STEP, LEVELS, fastThreshold=faintest)
        keys = orb.detect(grey, mask)
        if len(keys) >= 2 * most:
            break
    if not keys:
        return Features(np.zeros((0, 2)), np.zeros((0, 32), np.uint8), width, height, look=look_of(grey))
    keys, descriptors = orb.compute(grey, _spread_choice(keys, grey.shape, most))
    points = cv2.KeyPoint.convert(keys).astype(np.float64)
    spots = _spots(grey, mask, width, height)
    points = _at_full_size(points, grey, width, height)
    return Features(points, descriptors, width, height, spots=spots, look=look_of(grey))


def _spots(grey: NDArray[np.uint8], mask: NDArray[np.uint8] | None, width: int, height: int) -> NDArray[np.float64]:
    """`Features.spots`, by the lesser eigenvalue of the gradients' moments (Shi & Tomasi 1994), at half the size."""
    size = grey.shape[1] // 2, grey.shape[0] // 2
    small = cv2.resize(grey, size, interpolation=cv2.INTER_LINEAR)
    vary = cv2.cornerMinEigenVal(small, 3)
    if mask is not None:
        vary *= cv2.resize(mask, size, interpolation=cv2.INTER_NEAREST) > 0
    side = max(1, max(size) // SQUARES)
    high, wide = (n // side for n in vary.shape)
    squares = vary[: high * side, : wide * side].reshape(high, side, wide, side).swapaxes(1, 2)
    squares = squares.reshape(high * wide, side * side)
    best, most = np.argmax(squares, axis=1), squares.max(axis=1)
    row, column = np.divmod(np.arange(high * wide), wide)
    points = np.stack([column * side + best % side, row * side + best // side], axis=-1)
    order = np.argsort(-most, kind="stable")
    return _at_full_size(points[order[most[order] > 0]], small, width, height)


def _detected(grey: NDArray[np.uint8], mask: NDArray | None, most: int) -> tuple[NDArray, NDArray]:
    for contrast in (0.03, 0.008):
        sift = cv2.SIFT_create(
            nfeatures=most * 3 // 2, contrastThreshold=contrast, enable_precise_upscale=True
        )
        keys = sift.detect(grey, mask)
        if len(keys) >= min(FEW, most // 2):
            break
    if not keys:
        return np.zeros((0, 2)), np.zeros((0, 128), np.float32)
    keys, raw = sift.compute(grey, _spread_choice(keys, grey.shape, most))
    root = np.sqrt(raw / (np.sum(raw, axis=1, keepdims=True) + 1e-9))
    return cv2.KeyPoint.convert(keys).astype(np.float64), root.astype(np.float32)


def _spread_choice(keys: Sequence[cv2.KeyPoint], shape: tuple, most: int) -> list[cv2.KeyPoint]:
    """The strongest points, strongest first, but each cell of the frame takes turns: its next one waits for so many
    others that all of the first of them, however few, lie all over the frame.
    """
    points = cv2.KeyPoint.convert(keys).astype(np.float64)
    strength = np.array([k.response for k in keys])
    _, first = np.unique(np.round(100 * points) @ (1.0, 1e7), return_index=True)
    order = first[np.argsort(-strength[first], kind="stable")]
    cell = (points[order] / [shape[1] + 1, shape[0] + 1] * CELLS).astype(int)
    number = cell[:, 1] * CELLS + cell[:, 0]
    turn = np.maximum(np.arange(len(order)), CELLS**2 / SHARES * ranks_within(number))
    return [keys[n] for n in order[np.argsort(turn, kind="stable")][:most]]


def ranks_within(cells: NDArray[np.intp]) -> NDArray[np.intp]:
    """(n,) how many before each lie in the same of the cells (n,)."""
    order = np.argsort(cells, kind="stable")
    ranks = np.empty(len(cells), int)
    ranks[order] = np.arange(len(cells)) - np.searchsorted(cells[order], cells[order])
    return ranks
