"""The sky of a single picture: what lies above its skyline, softly along the edges of what stands before it.

A first border is the path across the picture along which colour steps most evenly, with what is finely textured below
it; near it a cut along the picture's edges follows trees and roofs (Rother, Kolmogorov & Blake 2004), and its edge is
made soft by the picture itself (He, Sun & Tang 2013).
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import to_view

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]

SIDE, FINE_SIDE = 480, 1400
STAR_PX = 5
LEAST_SKY, LEAST_GROUND = 0.01, 0.01
EDGE, GRAIN, COLOUR, SLOPE = 1.0, 1.5, 1.5, 0.06
TOP, BOTTOM, SHADES = 0.15, 0.3, 12
HIGHER_ROUNDS, HIGHER_GRAIN, PLAINLY, EVERYWHERE = 2, 0.25, 0.6, 0.25
SAME_COLOURS = 0.25
LINE_OFF, LINE_WAVERS, LINE_STEP, LINE_SHARE = 0.02, 6e-4, 0.7, 0.85
JUMP, STRIP, PLAIN_STEP = 0.06, 0.02, 30.0
BAND, MIDDLE_PX, UNLIKE = 0.08, 25, 26.0
ROUNDS = 3
GUIDE, EPSILON = 6, 3e-4
SPECK = 2e-4


def sky_of(light: F32) -> F32:
    """How much of each px (h, w) of a picture (h, w, 3), working light, is sky, 0..1; of the picture's own size.

    All 0 where no border is found that parts it.
    """
    h, w = light.shape[:2]
    fine = _sized(light, FINE_SIDE)
    seen = _without_stars(to_view(fine))
    k = SIDE / max(seen.shape[:2])
    small = cv2.resize(seen, (max(8, round(seen.shape[1] * k)), max(8, round(seen.shape[0] * k))),
                       interpolation=cv2.INTER_AREA) if k < 1 else seen
    border = _border(small, seen)
    if border is None:
        return np.zeros((h, w), np.float32)
    sky = _cut(small, border)
    rough = cv2.resize(sky.astype(np.float32), seen.shape[1::-1], interpolation=cv2.INTER_LINEAR)
    share = _softened(rough, seen)
    return np.clip(cv2.resize(share, (w, h), interpolation=cv2.INTER_CUBIC), 0, 1)


def _sized(light: F32, side: int) -> F32:
    h, w = light.shape[:2]
    k = side / max(h, w)
    if k >= 1:
        return light
    return cv2.resize(light, (max(8, round(w * k)), max(8, round(h * k))), interpolation=cv2.INTER_AREA)


def _without_stars(seen: U8) -> U8:
    """The picture without points of light, as bright as its darkest permit."""
    return cv2.medianBlur(seen, STAR_PX)


def _border(seen: U8, fine: U8) -> NDArray[np.intp] | None:
    """The row (w,) at which each column's sky ends: the path across the picture (dynamic programming) along which
    colour steps most evenly, with what is finely textured below it; None where it would be the picture's edge.
    """
    h, w = seen.shape[:2]
    data, steps = GRAIN * _grain(fine, (w, h)) + COLOUR * _ground_colours(seen), _steps(seen)
    above = np.cumsum(np.vstack([np.zeros((1, w), np.float32), data[:-1]]), axis=0)
    grain = (data.sum(axis=0, keepdims=True) - 2 * above) / h
    found = _path(EDGE * steps + grain)
    columns, rows = np.arange(w), np.arange(h)[:, None]
    for _ in range(HIGHER_ROUNDS):
        # of two plain borders the higher one is the sky's: below it water, walls, fields may be even too
        higher = _path(np.where(rows < found - round(2 * STRIP * h), steps + HIGHER_GRAIN * grain, np.float32(-1)))
        there = steps[higher, columns]
        if there.mean() < PLAINLY or np.quantile(there, 0.1) < EVERYWHERE or higher.mean() < LEAST_SKY * h:
            break
        # but where the same colours stand on both sides of it, it is the edge of a cloud, unless it is as straight as
        # water and far shores are
        if not _straight(higher, there, h) and (
                _in_common(seen, rows < higher, (rows > higher) & (rows < found)) > SAME_COLOURS):
            break
        found = higher
    share = float(found.mean()) / h
    return found if LEAST_SKY < share < 1 - LEAST_GROUND else None


def _straight(rows: NDArray[np.intp], steps: F32, height: int) -> bool:
    """Whether a border's rows (w,) lie along a line, stepping plainly (w,) all the way, but for a few columns: what
    stands before it, such as a tree.
    """
    columns = np.arange(len(rows))
    keep = np.ones(len(rows), bool)
    for _ in range(3):
        off = np.abs(rows - np.polyval(np.polyfit(columns[keep], rows[keep], 1), columns)) / height
        keep = off <= np.quantile(off, LINE_SHARE)
    inner = keep[1:] & keep[:-1]
    wavers = np.abs(np.diff(rows))[inner].mean() / height
    off = np.sqrt(np.mean(off[keep] ** 2))
    return bool(off < LINE_OFF and wavers < LINE_WAVERS and np.quantile(steps, 0.1) > LINE_STEP)


def _in_common(seen: U8, one: NDArray[np.bool_], other: NDArray[np.bool_]) -> float:
    """How much of their colours two parts of a picture have in common, 0..1."""
    lab = cv2.cvtColor(_lifted(seen), cv2.COLOR_RGB2LAB)
    found = [cv2.calcHist([lab], [0, 1, 2], m.astype(np.uint8), [12, 12, 12], [0, 256] * 3).ravel() + 1e-9
             for m in (one, other)]
    return float(np.minimum(*(cv2.GaussianBlur((f / f.sum()).reshape(12, -1), (3, 3), 0.8) for f in found)).sum())


def _path(worth: F32) -> NDArray[np.intp]:
    """The row (w,) of each column of the path across (h, w) that is worth most, steep ways counting less."""
    h, w = worth.shape
    reach = max(2, round(JUMP * h))
    costs = (-SLOPE * np.abs(np.arange(-reach, reach + 1))).astype(np.float32)
    best, came = worth[:, 0].copy(), np.zeros((h, w), np.int32)
    rows = np.arange(h)
    for x in range(1, w):
        padded = np.pad(best, reach, constant_values=-1e9)
        every = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1) + costs
        k = every.argmax(axis=1)
        came[:, x] = np.clip(rows + k - reach, 0, h - 1)
        best = every[rows, k] + worth[:, x]
    at = int(best.argmax())
    found = np.empty(w, np.intp)
    for x in range(w - 1, -1, -1):
        found[x] = at
        at = came[at, x]
    return found


def _steps(seen: U8) -> F32:
    """How much colour steps from just above to just below each px (h, w), 0..1; strong steps count no more than
    plain ones.
    """
    lab = cv2.cvtColor(_lifted(seen), cv2.COLOR_RGB2LAB).astype(np.float32)
    h = lab.shape[0]
    tall = max(2, round(STRIP * h))
    mean = cv2.blur(lab, (3, tall), borderType=cv2.BORDER_REPLICATE)
    half = tall // 2 + 1
    up, down = np.roll(mean, half, axis=0), np.roll(mean, -half, axis=0)
    up[:half], down[-half:] = mean[:1], mean[-1:]
    return np.minimum(np.linalg.norm(up - down, axis=2) / PLAIN_STEP, 1)


def _grain(fine: U8, size: tuple[int, int]) -> F32:
    """Whether each px (h, w) is finely textured, 1, or even, -1, as the picture itself parts into the two."""
    grey = cv2.cvtColor(_lifted(fine), cv2.COLOR_RGB2GRAY).astype(np.float32)
    rough = np.abs(cv2.Laplacian(grey, cv2.CV_32F))
    side = max(3, round(0.012 * max(grey.shape)))
    level = np.log2(cv2.resize(cv2.blur(rough, (side, side)), size, interpolation=cv2.INTER_AREA) + 0.5)
    low, high = np.quantile(level, (0.02, 0.98))
    spread = max(float(high - low), 0.5)
    eight = np.clip((level - low) / spread * 255, 0, 255).astype(np.uint8)
    middle, _ = cv2.threshold(eight, 0, 255, cv2.THRESH_OTSU)
    return np.clip((eight.astype(np.float32) - middle) / 64, -1, 1)


def _ground_colours(seen: U8) -> F32:
    """Whether each px (h, w) has colours of the picture's foot, 1, or of its head, -1."""
    lab = cv2.cvtColor(_lifted(seen), cv2.COLOR_RGB2LAB)
    h = lab.shape[0]
    head, foot = lab[: max(1, round(TOP * h))], lab[h - max(1, round(BOTTOM * h)) :]
    known = []
    for part in (head, foot):
        soft = _shades(part)
        known.append(soft / soft.sum() + 1e-4)
    at = _bins(lab)
    return np.clip(np.log2(known[1][at] / known[0][at]) / 4, -1, 1).astype(np.float32)


def _lifted(seen: U8) -> U8:
    """The picture as bright as its lights allow: a night's land is told from its sky too."""
    low, high = np.quantile(seen, (0.01, 0.99))
    return np.clip((seen.astype(np.float32) - low) / max(float(high - low), 24.0) * 255, 0, 255).astype(np.uint8)


def _cut(seen: U8, rows: NDArray) -> NDArray[np.bool_]:
    """Sky (h, w): what is plainly above or below the border stays so; between, the cut decides."""
    h = seen.shape[0]
    y = np.arange(h)[:, None]
    band = max(3, round(BAND * h))
    mask = np.where(y < rows, cv2.GC_PR_FGD, cv2.GC_PR_BGD).astype(np.uint8)
    mask[y < cv2.erode(rows.astype(np.float32)[None], np.ones((1, 2 * band + 1)))[0].astype(int) - band] = cv2.GC_FGD
    low = cv2.dilate(rows.astype(np.float32)[None], np.ones((1, 2 * band + 1)))[0].astype(int)
    mask[y > low + band] = cv2.GC_BGD
    # a mast or a tree that stands far above the border is not what is around it
    lab = cv2.cvtColor(_lifted(seen), cv2.COLOR_RGB2LAB)
    unlike = np.linalg.norm(lab.astype(np.float32) - cv2.medianBlur(lab, MIDDLE_PX), axis=2) > UNLIKE
    mask[unlike & (y < rows)] = cv2.GC_PR_BGD
    mask[0][(mask[0] == cv2.GC_PR_FGD) & ~unlike[0]] = cv2.GC_FGD
    fair = {cv2.GC_FGD, cv2.GC_PR_FGD} & set(np.unique(mask)) and {cv2.GC_BGD, cv2.GC_PR_BGD} & set(np.unique(mask))
    if fair:
        cv2.setRNGSeed(1)
        cv2.grabCut(np.ascontiguousarray(seen[..., ::-1]), mask, None, np.zeros((1, 65)), np.zeros((1, 65)), ROUNDS,
                    cv2.GC_INIT_WITH_MASK)
    sky = (mask == cv2.GC_FGD) | (mask == cv2.GC_PR_FGD)
    return _joined_to_the_top(sky)


def _shades(lab: U8) -> F32:
    """How often each shade of colour stands in a picture."""
    counts = cv2.calcHist([lab], [0, 1, 2], None, [SHADES] * 3, [0, 256] * 3)
    return cv2.GaussianBlur(counts.reshape(SHADES, -1), (1, 3), 0.7).reshape(counts.shape)


def _bins(lab: U8) -> tuple[NDArray[np.intp], ...]:
    return tuple((lab[..., c].astype(np.intp) * SHADES) // 256 for c in range(3))


def _joined_to_the_top(sky: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Sky that hangs together with the upper edge; holes in it as small as a speck closed."""
    _, labels = cv2.connectedComponents(sky.astype(np.uint8), connectivity=4)
    top = np.unique(labels[0][sky[0]])
    kept = np.isin(labels, top) & sky
    _, labels, stats, _ = cv2.connectedComponentsWithStats((~kept).astype(np.uint8), connectivity=4)
    small = np.flatnonzero(stats[:, cv2.CC_STAT_AREA] < SPECK * sky.size * 4)
    return kept | (np.isin(labels, small[small > 0]) & ~kept)


def _softened(rough: F32, seen: U8) -> F32:
    """A rough share with its edge where the picture has it."""
    guide = (cv2.cvtColor(seen, cv2.COLOR_RGB2LAB).astype(np.float32) / 255)[..., 0]
    sides = 2 * GUIDE + 1, 2 * GUIDE + 1
    mean = lambda v: cv2.blur(v, sides)  # noqa: E731
    m, p = mean(guide), mean(rough)
    a = (mean(guide * rough) - m * p) / (mean(guide * guide) - m * m + EPSILON)
    b = p - a * m
    share = np.clip(mean(a) * guide + mean(b), 0, 1)
    # what is far from the edge is one or the other
    inner, outer = cv2.erode(rough, np.ones(sides, np.uint8)), cv2.dilate(rough, np.ones(sides, np.uint8))
    share = np.where(inner > 0.999, 1, np.where(outer < 0.001, 0, share)).astype(np.float32)
    return np.clip((share - 0.15) / 0.7, 0, 1)
