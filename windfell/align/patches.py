"""How far the light of one patch lies in another, to a fraction of a pixel.

A small shift is searched for by normalised correlation, then solved by least squares on the patches' gradients
(Lucas & Kanade 1981), with the mean of both patches' gradients, which takes away the error of first order.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

HALF, SEARCH = 8, 5
ROUNDS = 4


@dataclass(frozen=True)
class Shifts:
    """What was found for m pairs of patches: shifts (m, 2) in patch px, likeness (m,) -1..1, and
    the expected error (m,) in patch px, inf where nothing was found.
    """

    shift: Array
    likeness: Array
    error: Array


def patch_offsets(half: int) -> Array:
    steps = np.arange(-half, half + 1, dtype=float)
    return np.stack(np.meshgrid(steps, steps), axis=-1)


def steps_seen(grids: Array, steps: Array) -> Array:
    """(m, h, w, 2): `steps` (h, w, 2) as each of `grids` (m, 2, 2) shows them."""
    return (steps.reshape(-1, 2) @ grids.transpose(0, 2, 1)).reshape(len(grids), *steps.shape)


def patch_shifts(one: F32, other: F32) -> Shifts:
    """How far the light of patches `one` (m, k, k) lies in `other` (m, k + 2 r, k + 2 r), in px."""
    m, k = len(one), one.shape[1]
    if m == 0:
        return Shifts(np.zeros((0, 2)), np.zeros(0), np.zeros(0))
    margin = (other.shape[1] - k) // 2
    window = _window(k).astype(np.float32)
    fair = np.isfinite(one).all((1, 2)) & np.isfinite(other).all((1, 2))
    one = np.where(fair[:, None, None], one, 0).astype(np.float32)
    other = np.where(fair[:, None, None], other, 0).astype(np.float32)
    normal_one = _normalised(one, window)
    start = _searched(one, other, min(SEARCH, margin - 2))
    shift = start.astype(float)
    error = np.full(m, np.inf)
    for _ in range(ROUNDS):
        there = _normalised(_shifted(other, shift, k), window)
        slope = 0.5 * (normal_one + there)
        gy, gx = np.gradient(slope, axis=(1, 2))
        off = normal_one - there
        xx, xy, yy, bx, by = (
            np.einsum("myx,myx,yx->m", p, q, window, dtype=np.float64)
            for p, q in ((gx, gx), (gx, gy), (gy, gy), (gx, off), (gy, off)))
        det = np.maximum(xx * yy - xy * xy, 1e-12)
        step = np.stack([(yy * bx - xy * by) / det, (xx * by - xy * bx) / det], axis=-1)
        shift = shift + np.clip(step, -0.7, 0.7)
        shift = np.clip(shift, start - 1.5, start + 1.5)
        left = np.einsum("myx,myx,yx->m", off, off, window, dtype=np.float64) / np.sum(window)
        # neighbouring pixels err alike: a quarter of them count
        error = np.sqrt(4 * left * (xx + yy) / det)
    there = _normalised(_shifted(other, shift, k), window)
    likeness = np.sum(window * normal_one * there, axis=(1, 2)) / np.sum(window)
    inner = np.abs(shift).max(axis=1) < SEARCH + 0.6
    return Shifts(shift, np.where(fair & inner, likeness, -1.0), np.where(fair & inner, error, np.inf))


def _window(k: int) -> Array:
    x = np.arange(k) - (k - 1) / 2
    g = np.exp(-0.5 * (x / (k / 3)) ** 2)
    return np.outer(g, g)


def _normalised(p: F32, window: F32) -> F32:
    """Patches with weighted mean and slope 0 and deviation 1: what darkens towards a corner moves nothing."""
    k = p.shape[1]
    x = np.arange(k, dtype=np.float32) - (k - 1) / 2
    planes = np.stack([np.ones((k, k), np.float32), np.broadcast_to(x, (k, k)), np.broadcast_to(x[:, None], (k, k))])
    planes /= np.sqrt(np.sum(planes * planes * window, axis=(1, 2), keepdims=True))
    flat, basis = p.reshape(len(p), -1), planes.reshape(3, -1)
    weight = window.reshape(-1)
    flat = flat - (flat @ (basis * weight).T) @ basis
    deviation = np.sqrt((flat * flat) @ weight / np.sum(weight) + 1e-9)
    return (flat / deviation[:, None]).reshape(p.shape)


def _searched(one: F32, other: F32, reach: int) -> NDArray[np.intp]:
    """The best whole shift (m, 2) within `reach` by normalised correlation."""
    margin = (other.shape[1] - one.shape[1]) // 2
    room = slice(margin - reach, other.shape[1] - margin + reach)
    at = np.zeros((len(one), 2), int)
    for n in range(len(one)):
        score = cv2.matchTemplate(other[n, room, room], one[n], cv2.TM_CCOEFF_NORMED)
        at[n] = cv2.minMaxLoc(score)[3]
    return at - reach


def _shifted(other: F32, shift: Array, k: int) -> F32:
    """The middle (m, k, k) of patches looked at `shift` px aside (cubic convolution, Keys 1981)."""
    margin = (other.shape[1] - k) // 2
    whole = np.floor(shift).astype(int)
    corner = np.clip(whole + margin - 1, 0, other.shape[1] - k - 3)
    near = np.empty((len(other), k + 3, k + 3), np.float32)
    for n, (x, y) in enumerate(corner):
        near[n] = other[n, y : y + k + 3, x : x + k + 3]
    wx, wy = (_cubic(shift[:, c] - whole[:, c]).astype(np.float32)[:, :, None, None] for c in (0, 1))
    across = sum(wx[:, i] * near[:, :, i : i + k] for i in range(4))
    return sum(wy[:, i] * across[:, i : i + k] for i in range(4))


def _cubic(t: Array) -> Array:
    """(m, 4) weights of the four neighbours at fractions `t`."""
    t2, t3 = t * t, t * t * t
    return np.stack([-0.5 * t3 + t2 - 0.5 * t, 1.5 * t3 - 2.5 * t2 + 1,
                     -1.5 * t3 + 2 * t2 + 0.5 * t, 0.5 * t3 - 0.5 * t2], axis=-1)
