"""Where a frame of a series lies by its light as a whole: what features of things that moved are held against.

Land that is out of focus, in mist or plain has hardly a feature, and whoever walks before it has many. But the frames
of a series show nearly the same, so the best of all shifts of their softest light, each part of it counting alike
however faint, says roughly where the land lies.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.by_look import best_shift, between_looks
from windfell.align.features import Features
from windfell.align.same_light import ASIDE as FINELY_ASIDE
from windfell.align.same_light import better_explained, texture, to_look

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

# px of the looks: the texture's finest and widest, over how much it is evened and compared; how far aside
FINE, COARSE, EVENED, BLOCK = 3.0, 20.0, 12.0, 25
ASIDE, TIGHT = 3, 1
FAINT, LEAST_TEXTURE = 0.3, 0.5
LEAST_SHARED, ABOUT = 0.7, 0.03
ALIKE, PLAINLY = 0.7, 0.25
LEAST_SHARE, MORE = 0.5, 2.0
LEAST_COMPARED, LEAST_BETTER = 0.15, 0.05
STEP = 8


def shift_of_land(a: Features, b: Features) -> Array | None:
    """The shift (3, 3) of `a` px to `b` px under which most of their light is alike; None where it is not alike."""
    textures = (_evened(texture(x.look, FINE, COARSE)) for x in (a, b))
    shift = best_shift(*textures, LEAST_SHARED, about=ABOUT)
    if shift is None:
        return None
    place = between_looks(a, b, shift)
    compared, alike, _ = _alike(a, b, place, ASIDE)
    enough = compared.mean() >= LEAST_COMPARED
    return place if enough and np.mean(alike[compared] > ALIKE) >= LEAST_SHARE else None


def denied_by_land(a: Features, b: Features, homography: Array, land: Array) -> bool:
    """Whether plainly more of the light speaks for the shift of the land than for a homography (3, 3) of `a` px to
    `b` px that features found.
    """
    (seen, one, rim), (seen_too, other, rim_too) = (_alike(a, b, h, TIGHT) for h in (homography, land))
    one, other = np.where(seen, one, np.float32(-1)), np.where(seen_too, other, np.float32(-1))
    # what either has across its rim, a fraction of a px decides
    fair = ~(rim | rim_too)
    for_land, for_features = (
        int(np.sum(fair & (x > ALIKE) & (x - y > PLAINLY))) for x, y in ((other, one), (one, other)))
    if for_land <= MORE * for_features or for_land < LEAST_BETTER * seen_too.sum():
        return False
    # soft light may be alike in many places; what is fine must not contradict
    finely = better_explained(a, b, [homography, land], FINELY_ASIDE)
    return finely[1] > finely[0]


def _evened(texture_: F32) -> F32:
    """Texture whose contrast is about the same everywhere, but for what is hardly there."""
    spread = cv2.GaussianBlur(texture_ * texture_, (0, 0), EVENED)
    return texture_ / np.sqrt(spread + np.float32(FAINT**2))


def _alike(
    a: Features, b: Features, homography: Array, aside: int
) -> tuple[NDArray[np.bool_], F32, NDArray[np.bool_]]:
    """Of spots of the look of `a`, every STEP px, which can be compared; how alike (-1..1) the light around each is
    to that of `b`, up to some px aside; and which lie across the rim of what `b` shows.
    """
    to_b = to_look(b) @ homography @ np.linalg.inv(to_look(a))
    size = a.look.shape[1], a.look.shape[0]
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    seen = cv2.warpPerspective(b.look, to_b, size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
    there = cv2.warpPerspective(np.full(b.look.shape, 255, np.uint8), to_b, size, flags=flags) == 255
    one, other = (texture(x, FINE, COARSE) for x in (a.look, seen))
    block = np.ones((BLOCK, BLOCK), np.uint8)
    fair = cv2.erode(there.astype(np.uint8), block, borderValue=0) > 0
    rim = cv2.dilate(there.astype(np.uint8), block, borderValue=0) > fair
    squares = [_around(x * x) for x in (one, other)]
    compared = fair & (np.minimum(*squares) > LEAST_TEXTURE**2)
    best = np.full(one.shape, -1, np.float32)
    for dy in (-aside, 0, aside):
        for dx in (-aside, 0, aside):
            moved, square = (np.roll(x, (dy, dx), (0, 1)) for x in (other, squares[1]))
            np.maximum(best, _around(one * moved) / np.sqrt(squares[0] * square + np.float32(1e-6)), out=best)
    at = np.s_[STEP // 2 :: STEP, STEP // 2 :: STEP]
    return compared[at], best[at], rim[at]


def _around(values: F32) -> F32:
    return cv2.blur(values, (BLOCK, BLOCK))
