"""Gaps between exposures bridged: lights that moved on from one frame to the next are swept along their way.

Lights are spots that stand out of a frame's surroundings; those of neighbouring frames that are each other's nearest
and alike in light are one light. What it showed before is carried along the straight way to where it shows next.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.channels import most_of
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

SURROUND = 21
SPREADS, LEAST_LIGHT = 8.0, 0.02
MOST_LIGHTS = 600
FARTHEST_SHARE = 0.18
ALIKE = 3.0
RIM = 4
MOST_STEPS = 400
AROUND, LIKE_PX, LIKE_SPREADS = 8, 3.0, 4.0


@dataclass(frozen=True)
class Way:
    """A light of a frame that is seen in the next one: its box (left, top, right, bottom) in the first and how far it
    moved, both in shares of the picture's width (x) and height (y).
    """

    box: tuple[float, float, float, float]
    move: tuple[float, float]


def ways(one: F32, other: F32) -> list[Way]:
    """The ways of lights from one small frame (h, w, 3) to the next."""
    first, second = _lights(one), _lights(other)
    if not len(first) or not len(second):
        return []
    h, w = one.shape[:2]
    apart = np.linalg.norm(first[:, None, :2] - second[None, :, :2], axis=2)
    far = apart > FARTHEST_SHARE * w
    unlike = np.abs(np.log(first[:, None, 6] / second[None, :, 6]))
    cost = apart * (1 + unlike) + np.where(far | (unlike > np.log(ALIKE)), np.inf, 0)
    there, back = np.argmin(cost, axis=1), np.argmin(cost, axis=0)
    mutual = np.array([n for n, m in enumerate(there) if back[m] == n and np.isfinite(cost[n, m])], int)
    mine = first[mutual]
    moves = second[there[mutual], :2] - mine[:, :2]
    fair = _as_others(mine[:, :2], moves)
    return [Way((left / w, top / h, right / w, bottom / h), (dx / w, dy / h))
            for (left, top, right, bottom), (dx, dy) in zip(mine[fair, 2:6], moves[fair], strict=True)]


def _as_others(places: Array, moves: Array) -> NDArray[np.bool_]:
    """Which of the lights (n, 2) moved about as those around them, where those agree: of many stars some have no
    successor that stands out, and another star would be taken for it. A few lights may each go their own way.
    """
    if len(places) <= AROUND:
        return np.ones(len(places), bool)
    apart = np.linalg.norm(places[:, None] - places[None], axis=2)
    near = np.argsort(apart, axis=1)[:, 1 : AROUND + 1]
    middle = np.median(moves[near], axis=1)
    spread = np.median(np.linalg.norm(moves[near] - middle[:, None], axis=2), axis=1)
    return np.linalg.norm(moves - middle, axis=1) <= LIKE_PX + LIKE_SPREADS * spread


def _lights(frame: F32) -> Array:
    """Rows of x, y, box and light of what stands out of its surroundings, the brightest first."""
    grey = most_of(frame)
    around = cv2.medianBlur((np.clip(np.sqrt(np.maximum(grey, 0)), 0, 1) * 255).astype(np.uint8), SURROUND)
    off = grey - (around.astype(np.float32) / 255) ** 2
    spread = 1.4826 * float(np.median(np.abs(off - np.median(off))))
    mask = (off > max(SPREADS * spread, LEAST_LIGHT)).astype(np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(mask, connectivity=8)
    rows = []
    for n in np.argsort(-stats[1:, cv2.CC_STAT_AREA])[:MOST_LIGHTS] + 1 if count > 1 else ():
        x, y, w, h, _area = stats[n]
        part = np.where(labels[y : y + h, x : x + w] == n, off[y : y + h, x : x + w], 0)
        total = float(part.sum())
        if total <= 0:
            continue
        yy, xx = np.mgrid[y : y + h, x : x + w]
        rows.append([float((xx * part).sum() / total), float((yy * part).sum() / total), x, y, x + w, y + h, total])
    return np.array(rows).reshape(-1, 7)


def swept(light: F32, one: F32, other: F32, found: Sequence[Way], region: Region, size: tuple[int, int],
          inner: tuple[slice, slice]) -> F32:
    """`light` (of a region) with the ways between two frames filled: where it is brighter, the carried light.

    `one` and `other` (h, w, 3): both frames on a wider region, of a picture of `size` px; `inner`: where `light` lies
    in it.
    """
    low = cv2.min(one, other)
    out = np.zeros_like(one)
    width, height = size
    for way in found:
        x0, x1 = (int(v * width) - region.left for v in (way.box[0], way.box[2]))
        y0, y1 = (int(v * height) - region.top for v in (way.box[1], way.box[3]))
        x0, y0, x1, y1 = x0 - RIM, y0 - RIM, x1 + RIM + 1, y1 + RIM + 1
        if x0 < 0 or y0 < 0 or x1 > one.shape[1] or y1 > one.shape[0]:
            continue
        patch = np.maximum(one[y0:y1, x0:x1] - low[y0:y1, x0:x1], 0)
        dx, dy = way.move[0] * width, way.move[1] * height
        steps = min(MOST_STEPS, max(1, int(np.ceil(max(abs(dx), abs(dy))))))
        for k in range(1, steps):
            _carried(out, patch, x0 + dx * k / steps, y0 + dy * k / steps)
    return cv2.max(light, (low + out)[inner] * (most_of(out[inner]) > 0)[..., None])


def _carried(out: F32, patch: F32, x: float, y: float) -> None:
    """Lay a patch where it is brighter, at a place between px."""
    left, top = int(np.floor(x)), int(np.floor(y))
    if left < 0 or top < 0 or left + patch.shape[1] > out.shape[1] or top + patch.shape[0] > out.shape[0]:
        return
    move = np.array([[1, 0, x - left], [0, 1, y - top]])
    moved = cv2.warpAffine(patch, move, patch.shape[1::-1], flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    at = out[top : top + patch.shape[0], left : left + patch.shape[1]]
    np.maximum(at, moved, out=at)
