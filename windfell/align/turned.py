"""The turn of a camera under which the light of two small looks is most alike.

The best of all shifts of the looks, laid on a cylinder, says roughly which (masked normalised correlation, Padfield
2012); Gauss-Newton steps on the correlation coefficient (Evangelidis & Psarakis 2008), over three angles alone,
settle it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.by_look import COARSE as WIDE
from windfell.align.by_look import FINE, best_shift
from windfell.align.features import Features
from windfell.align.same_light import around, likeness_of_all, texture, to_look
from windfell.geometry import planar
from windfell.geometry.rotation import from_rotvec

Array = NDArray[np.float64]
F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]

# px of the looks between which the light's texture lies: at first, and at last
ROUGHLY, FINELY = (3.0, 20.0), (FINE, WIDE)
LEAST_SHARED, LEAST_ALIKE = 0.1, 0.5
STEPS, NUDGE, MOST_STEP, STILL, GAINED = 15, 0.25, 4.0, 0.02, 1e-5
DAMPED = 1e-3


@dataclass(frozen=True)
class ByTurn:
    """The rotation (3, 3) of rays of `a` to those of `b` under which their light is most alike, the `homography`
    (3, 3) of px that it means, and how alike it is, -1..1; `moved` (n, 2): points of `a` that were left out.
    """

    rotation: Array
    homography: Array
    alike: float
    moved: Array


def turned_by_light(
    a: Features, b: Features, focal_a: float, focal_b: float, moved: Array, moved_too: Array
) -> ByTurn | None:
    """The turn under which the light of both frames, focal lengths in px, is most alike; None where it is not. What
    lies around points of either that may have moved, (n, 2) and (m, 2), or none, is left out.
    """
    inner = [_inner(f, focal) for f, focal in ((a, focal_a), (b, focal_b))]
    fair = [np.ones(f.look.shape, bool) if not len(p) else ~around(p, f) for f, p in ((a, moved), (b, moved_too))]
    textures = [[texture(f.look, *band, m) for f, m in zip((a, b), fair, strict=True)] for band in (ROUGHLY, FINELY)]
    best = None
    for start in _starts(textures, inner, fair):
        turn = start
        for both in textures:
            turn = turn if turn is None else _settled(both, inner, turn, fair)
        if turn is None:
            continue
        homography = np.linalg.inv(to_look(b)) @ inner[1] @ turn @ np.linalg.inv(inner[0]) @ to_look(a)
        alike = likeness_of_all(a, b, homography, moved)
        if alike > LEAST_ALIKE and (best is None or alike > best.alike):
            best = ByTurn(turn, homography, alike, moved)
    return best


def _inner(f: Features, focal_px: float) -> Array:
    """(3, 3): rays of a frame to px of its look."""
    return to_look(f) @ np.array([[focal_px, 0, (f.width - 1) / 2], [0, focal_px, (f.height - 1) / 2], [0, 0, 1.0]])


def _starts(textures: Sequence[Sequence[F32]], inner: Sequence[Array], fair: Sequence[Mask]) -> Iterator[Array]:
    """Rotations (3, 3) of rays of one frame to the other's at which a pair of textures is most alike."""
    focal = inner[0][0, 0]
    seen = [_on_cylinder(m.astype(np.float32), k, focal) > 0.99 for m, k in zip(fair, inner, strict=True)]
    for both in textures:
        shift = best_shift(*(_on_cylinder(x, k, focal) for x, k in zip(both, inner, strict=True)), LEAST_SHARED,
                           tuple(seen))
        if shift is not None:
            yield from_rotvec(np.array([-shift[1] / focal, 0, 0])) @ from_rotvec(np.array([0, shift[0] / focal, 0]))


def _on_cylinder(picture: F32, inner: Array, focal_px: float) -> F32:
    """A look's picture on an upright cylinder around its camera, of so many px a radian, its middle in the middle."""
    high, wide = picture.shape
    x, y = np.meshgrid((np.arange(wide) - (wide - 1) / 2) / focal_px, (np.arange(high) - (high - 1) / 2) / focal_px)
    x = np.clip(x, -1.4, 1.4)
    at = planar.apply(inner, np.stack([np.tan(x), y / np.cos(x)], axis=-1)).astype(np.float32)
    return cv2.remap(picture, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)


def _settled(textures: Sequence[F32], inner: Sequence[Array], turn: Array, fair: Sequence[Mask]) -> Array | None:
    """The turn near another under which textures of two looks correlate best; None where they share too little."""
    size, back = textures[0].shape[::-1], np.linalg.inv(inner[0])
    masks = [m.astype(np.float32) for m in fair]
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP

    def seen(picture: F32, by: Array) -> F32:
        return cv2.warpPerspective(picture, inner[1] @ by @ back, size, flags=flags)

    best, unit = -1.0, inner[0][0, 0]
    for _ in range(STEPS):
        both = masks[0] * (seen(masks[1], turn) > 0.99)
        if both.mean() < LEAST_SHARED / 2:
            return None
        one, other = (_unit(x, both) for x in (textures[0], seen(textures[1], turn)))
        like = float(np.sum(one * other))
        if like < best + GAINED:
            break
        best = like
        slopes = np.stack([
            (_unit(seen(textures[1], from_rotvec(NUDGE / unit * axis) @ turn), both) - other).ravel()
            for axis in np.eye(3)], axis=1) * (unit / NUDGE)
        normal = slopes.T @ slopes
        step = np.linalg.solve(normal + DAMPED * np.trace(normal) / 3 * np.eye(3), slopes.T @ (one - other).ravel())
        far = unit * float(np.linalg.norm(step))
        turn = from_rotvec(step * min(1.0, MOST_STEP / max(far, 1e-9))) @ turn
        if far < STILL:
            break
    return turn


def _unit(picture: F32, where: F32) -> F32:
    """A picture's changes where the mask (h, w) is 1, of unit length together."""
    off = (picture - np.sum(picture * where) / np.sum(where)) * where
    return off / np.sqrt(np.sum(off * off) + np.float32(1e-6))
