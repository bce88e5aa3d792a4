"""A thing found from rough strokes on it: cut out of the picture along its edges."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.areas.look import Look
from windfell.areas.paths import Path, along_path
from windfell.areas.spots import Pixels, Spots
from windfell.pixels.colour import perceptual
from windfell.recipe.areas import Grown

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

AROUND = 1.2
SIDE = 240
ROUNDS = 3
SURE, NEAR = 0.5, 0.5
GUIDE_RADIUS, GUIDE_EPSILON = 4, 1e-3


def grown_share(part: Grown, spots: Spots, look: Look | None) -> F32:
    """The thing that the strokes touch, softly along its edge; nothing where no picture is told."""
    ground = spots.ground
    inside = [ground.points(np.array(s, float)) for s in part.inside if s]
    outside = [ground.points(np.array(s, float)) for s in part.outside if s]
    if look is None or not inside:
        return np.zeros(spots.shape, np.float32)
    every = np.concatenate(inside)
    middle = every.mean(axis=0)
    extent = float(np.linalg.norm(every - middle, axis=1).max()) + part.size * ground.unit

    def find() -> tuple[F32, Callable[[NDArray], F32]]:
        light, place = look.around(every, AROUND * extent)
        strokes = [[place(p) for p in some] for some in (inside, outside)]
        return thing_cut(light, *strokes, _brush_px(part, spots, place, every)), place

    share, place = look.kept(part, find)
    where = np.nan_to_num(place(spots.at), nan=-9.0).astype(np.float32)
    return cv2.remap(share, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)


def _brush_px(part: Grown, spots: Spots, place, points: Array) -> float:
    """Half the brush in px of the picture that is cut."""
    step = part.size / 2 * spots.ground.unit
    beside = points[:1] + step * np.eye(points.shape[1])[:1]
    return max(1.0, float(np.linalg.norm(place(beside) - place(points[:1]))))


def thing_cut(light: F32, inside: list[Array], outside: list[Array], half: float) -> F32:
    """How much of each px (h, w) of a picture (h, w, 3) belongs to what strokes (n, 2) px touch, 0..1: the graph cut
    of Rother, Kolmogorov & Blake 2004, its edge made soft along the picture's own (He, Sun & Tang 2013).
    """
    h, w = light.shape[:2]
    k = min(1.0, SIDE / max(h, w))
    small = cv2.resize(light, None, fx=k, fy=k, interpolation=cv2.INTER_AREA) if k < 1 else light
    seen = np.ascontiguousarray((255 * perceptual(small) + 0.5).astype(np.uint8))
    sure = _drawn(inside, small.shape[:2], k, half)
    if not sure.any():
        return np.zeros((h, w), np.float32)
    kept_out = _drawn(outside, small.shape[:2], k, half) & ~sure
    labels = np.full(sure.shape, cv2.GC_PR_BGD, np.uint8)
    reach = max(3.0, NEAR * max(np.ptp(np.argwhere(sure), axis=0).max(initial=0), 6))
    labels[cv2.distanceTransform((~sure).astype(np.uint8), cv2.DIST_L2, 3) < reach] = cv2.GC_PR_FGD
    rim = np.ones(sure.shape, bool)
    rim[2:-2, 2:-2] = False
    labels[(rim & ~sure) | kept_out] = cv2.GC_BGD
    labels[sure] = cv2.GC_FGD
    cv2.setRNGSeed(7)
    models = np.zeros((1, 65)), np.zeros((1, 65))
    cv2.grabCut(seen, labels, None, *models, ROUNDS, cv2.GC_INIT_WITH_MASK)
    found = ((labels == cv2.GC_FGD) | (labels == cv2.GC_PR_FGD)).astype(np.uint8)
    _, parts = cv2.connectedComponents(found)
    touched = np.unique(parts[sure])
    thing = np.isin(parts, touched[touched > 0]).astype(np.float32)
    guide = cv2.cvtColor(seen, cv2.COLOR_RGB2GRAY).astype(np.float32) / 255
    soft = np.clip(_guided(thing, guide), 0, 1)
    # no further than the edge's own softness: the middle stays whole, the outside empty
    soft = np.clip((soft - 0.15) / 0.7, 0, 1)
    return cv2.resize(soft, (w, h), interpolation=cv2.INTER_CUBIC).clip(0, 1) if k < 1 else soft


def _drawn(strokes: list[Array], shape: tuple[int, int], k: float, half: float) -> NDArray[np.bool_]:
    """Where strokes (n, 2) px of a larger picture run on one `k` times as large."""
    y, x = np.mgrid[: shape[0], : shape[1]].astype(np.float32)
    spots, out = Spots(Pixels(), np.stack([x, y], -1), 1.0, 1.0), np.zeros(shape, bool)
    for px in strokes:
        px = px[np.isfinite(px).all(axis=1)]
        if len(px):
            path = Path.through(Pixels(), (px + 0.5) * k - 0.5, np.full(len(px), max(0.7, half * k)))
            share = along_path(spots.blocks, path, 0.0, lambda far, wide, _: (far <= wide).astype(np.float32))
            out |= spots.blocks.picture(share, shape) > SURE
    return out


def _guided(mask: F32, guide: F32) -> F32:
    """The mask (h, w) as far as it is a linear function of the guide nearby (He, Sun & Tang 2013, algorithm 1)."""
    size = (2 * GUIDE_RADIUS + 1,) * 2
    mean = lambda v: cv2.blur(v, size)  # noqa: E731
    mean_i, mean_p = mean(guide), mean(mask)
    a = (mean(guide * mask) - mean_i * mean_p) / (mean(guide * guide) - mean_i**2 + GUIDE_EPSILON)
    b = mean_p - a * mean_i
    return mean(a) * guide + mean(b)
