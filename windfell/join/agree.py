"""Where frames agree, and how their light differs there: what only one of them shows may not speak.

A picture blended by bands is linear in its frames: with C the picture as it is owned, frame n = C + D_n, and what
blending adds to C comes from the differences D_n alone, which are 0 where frame n owns. A thing that only one frame
shows would be a large difference, and its colour would spread along the seam that leaves it out. So a difference is
heard only where it is about what the two frames' light differs by all over their overlap; elsewhere the frame is
taken to show what the owner shows, in its own light.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.join.warp import Warped
from windfell.pixels.pyramid import filled
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

DARK = np.float32(0.012)
SMOOTH_SIGMA = 1.2
SAMPLES = 3000
ROUNDS = 10
SURE, LEAST, MOST = 2.8, 0.05, 0.16
EDGE, AROUND = 2, 3
LEAST_SAMPLES = 40


@dataclass(frozen=True)
class Difference:
    """How a frame differs from the picture as it is owned, on a box of a surface (columns count around it).

    `light` (h, w, 3): what the frame shows more, 0 where it owns. `heard` (h, w) 0..1: where it may speak (1 where it
    owns). `tone` (h, w, 3): the log of its light against the owner's, smoothly. float16.
    """

    box: Region
    light: NDArray[np.float16]
    heard: NDArray[np.float16]
    tone: NDArray[np.float16]

    @property
    def nbytes(self) -> int:
        return self.light.nbytes + self.heard.nbytes + self.tone.nbytes



def reaching(owner: NDArray[np.int16], n: int, margin: int, wraps: bool) -> Region | None:
    """The box of what frame `n` owns and `margin` px around it, its columns counted around the surface; None if it
    owns nothing. A box that would meet itself is the whole surface, with the margin at both sides.
    """
    height, width = owner.shape
    mine = owner == n
    rows, columns = np.flatnonzero(mine.any(axis=1)), np.flatnonzero(mine.any(axis=0))
    if not len(rows):
        return None
    top, bottom = max(0, rows[0] - margin), min(height, rows[-1] + 1 + margin)
    first, last = int(columns[0]), int(columns[-1]) + 1
    if wraps:
        # the run that leaves out the longest gap around the surface
        gaps = np.diff(np.append(columns, columns[0] + width))
        widest = int(gaps.argmax())
        first, last = int(columns[(widest + 1) % len(columns)]), int(columns[widest]) + 1
        last += width if last <= first else 0
        if last - first + 2 * margin >= width:
            return Region(-margin, int(top), width + 2 * margin, int(bottom - top))
        return Region(first - margin, int(top), last - first + 2 * margin, int(bottom - top))
    left, right = max(0, first - margin), min(width, last + margin)
    return Region(left, int(top), right - left, int(bottom - top))


def added(total: F32, part: F32, box: Region, wraps: bool) -> None:
    """Add a box's values to those of the surface."""
    width = total.shape[1]
    if box.width > width:
        part, left = part[:, (box.width - width) // 2 :][:, :width], box.left + (box.width - width) // 2
    else:
        left = box.left
    columns = np.arange(left, left + part.shape[1]) % width if wraps else np.arange(left, left + part.shape[1])
    total[box.top : box.top + box.height, columns] += part


def taken(values: NDArray, box: Region, wraps: bool) -> NDArray:
    """A box of a surface's values; columns around it where it closes, held at its edges elsewhere."""
    rows = np.clip(np.arange(box.top, box.top + box.height), 0, values.shape[0] - 1)
    columns = np.arange(box.left, box.left + box.width)
    columns = columns % values.shape[1] if wraps else np.clip(columns, 0, values.shape[1] - 1)
    return values[rows][:, columns]


def owned_picture(frames: Sequence[tuple[Region, Warped] | None], owner: NDArray[np.int16]) -> F32:
    """The picture (h, w, 3) as it is owned, continued to what no owner sees. Frames come with their boxes."""
    out = np.zeros((*owner.shape, 3), np.float32)
    seen = np.zeros(owner.shape, np.float32)
    for n, placed in enumerate(frames):
        if placed is None:
            continue
        box, frame = placed
        at = np.s_[box.top : box.top + box.height, box.left : box.left + box.width]
        mine = (owner[at] == n) & frame.mask()
        out[at][mine] = frame.light[mine]
        seen[at][mine] = 1.0
    return out if seen.all() else filled(out, seen)


def difference(
    n: int, placed: tuple[Region, Warped], picture: F32, owner: NDArray[np.int16], box: Region, wraps: bool,
    rng: np.random.Generator, reach: int = 10_000,
) -> Difference:
    """How frame `n`, given on its own box, differs from the picture over a box around it.

    Farther than `reach` px from what it owns nobody asks whether it is heard.
    """
    own_box, frame = placed
    base, owners = taken(picture, box, wraps), taken(owner, box, wraps)
    light, valid = _moved(frame, own_box, box, picture.shape[1] if wraps else 0)
    mine = owners == n
    both = valid & ~mine
    ratio = _log(light, valid) - _log(base, np.ones_like(valid))
    expected = np.zeros_like(ratio)
    heard = mine.copy()
    for m in np.unique(owners[both]):
        where = both & (owners == m)
        level, agrees = _agreeing(ratio, where, rng)
        heard |= agrees
        expected[where] = level[where]
    spoken = _without_edges(heard, both) & ~mine
    if spoken.any():
        tone = filled(np.where(spoken[..., None], ratio, 0), spoken.astype(np.float32))
    else:
        tone = expected
    heard = cv2.GaussianBlur((spoken | mine).astype(np.float32), (0, 0), 1.0)
    heard[~valid] = 0.0
    told = base * (cv2.exp(tone.astype(np.float32)) - 1)
    out = heard[..., None] * (light - base) + (1 - heard[..., None]) * told
    out[mine] = 0
    heard[mine] = 1.0
    if reach < max(mine.shape):
        heard[cv2.distanceTransform((~mine).astype(np.uint8), cv2.DIST_L2, 3) > reach] = 1.0
    return Difference(box, *(np.ascontiguousarray(v, np.float16) for v in (out, heard, tone)))


def _moved(frame: Warped, own: Region, box: Region, around: int) -> tuple[F32, NDArray[np.bool_]]:
    """The frame's light and where it is valid on another box, whose columns may be counted around the surface."""
    light = np.zeros((box.height, box.width, 3), np.float32)
    valid = np.zeros((box.height, box.width), bool)
    turns = (0,) if not around else range(-((box.left + box.width) // around) - 1, box.left // around + 3)
    for turn in sorted({0, *turns, *(-t for t in turns)}):
        left = own.left + turn * around
        x0, x1 = max(box.left, left), min(box.left + box.width, left + own.width)
        y0, y1 = max(box.top, own.top), min(box.top + box.height, own.top + own.height)
        if x0 >= x1 or y0 >= y1:
            continue
        to = np.s_[y0 - box.top : y1 - box.top, x0 - box.left : x1 - box.left]
        of = np.s_[y0 - own.top : y1 - own.top, x0 - left : x1 - left]
        fresh = frame.mask()[of] & ~valid[to]
        light[to][fresh] = frame.light[of][fresh]
        valid[to] |= fresh
    return light, valid


def _log(light: F32, valid: NDArray[np.bool_]) -> F32:
    """Log of the light, a little smoothed within what is valid."""
    weight = valid.astype(np.float32)
    smooth = cv2.GaussianBlur(np.maximum(light, 0) * weight[..., None], (0, 0), SMOOTH_SIGMA)
    if not valid.all():
        smooth /= np.maximum(cv2.GaussianBlur(weight, (0, 0), SMOOTH_SIGMA), 1e-3)[..., None]
    return cv2.log(smooth + DARK)


def _agreeing(
    ratio: F32, where: NDArray[np.bool_], rng: np.random.Generator
) -> tuple[F32, NDArray[np.bool_]]:
    """(level, agrees): what the ratio of two frames' light is all over their overlap, smoothly, (h, w, 3), and where
    it is about that, (h, w).

    The level is a polynomial of the place, by Geman-McClure weights whose scale shrinks, so that things which
    cover less than half of the overlap do not move it.
    """
    y, x = np.nonzero(where)
    rows, columns = where.shape
    level = np.zeros_like(ratio)
    if len(y) < LEAST_SAMPLES:
        return level, np.zeros_like(where)
    pick = rng.choice(len(y), SAMPLES, replace=False) if len(y) > SAMPLES else np.arange(len(y))
    basis = _basis(x.astype(np.float32) / columns, y.astype(np.float32) / rows, pick)
    values = ratio[y[pick], x[pick]].astype(np.float64)
    terms = np.zeros((basis.shape[1], 3))
    terms[0] = np.median(values, axis=0)
    scale = max(0.15, 1.5 * float(np.median(np.abs(values - terms[0]))))
    rows_picked = basis[pick].astype(np.float64)
    belief = np.diag([1e-6] + [0.5] * (basis.shape[1] - 1))
    for _ in range(ROUNDS):
        far = np.abs(values - rows_picked @ terms).max(axis=1)
        weight = 1 / (1 + (far / scale) ** 2) ** 2
        normal = rows_picked.T @ (rows_picked * weight[:, None]) + belief
        terms = np.linalg.solve(normal, rows_picked.T @ (values * weight[:, None]))
        scale = max(0.04, scale / 1.4)
    found = basis @ terms.astype(np.float32)
    apart = np.abs(ratio[y, x] - found)
    off = np.maximum(np.maximum(apart[:, 0], apart[:, 1]), apart[:, 2])
    level[y, x] = found
    few = np.median(off[off < 0.3]) if (off < 0.3).any() else 0.0
    agrees = np.zeros_like(where)
    agrees[y, x] = off < np.clip(SURE * 1.48 * few, LEAST, MOST)
    return level, agrees


def _basis(x: F32, y: F32, pick: NDArray[np.intp]) -> F32:
    """Terms (n, 6) of a quadratic of the place, centred on and scaled to the picked ones."""
    sx, sy = (max(float(np.ptp(v[pick])) / 2, 1e-6) for v in (x, y))
    u, v = (x - x[pick].mean()) / np.float32(sx), (y - y[pick].mean()) / np.float32(sy)
    return np.stack([np.ones_like(u), u, v, u * v, u * u, v * v], axis=1)


def _without_edges(heard: NDArray[np.bool_], both: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """What agrees, without lone specks, without a rim along what does not: the edges of things lie there."""
    silent = both & ~heard
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * EDGE - 1,) * 2)
    # specks of noise and edges of texture a little aside are no things
    things = cv2.morphologyEx(silent.astype(np.uint8), cv2.MORPH_OPEN, kernel)
    around = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * AROUND + 1,) * 2)
    return heard & both & ~(cv2.dilate(things, around) > 0)
