"""Parallax: what is left between frames because the camera did not turn about one spot."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.align.registration import PairFit, PanoramaRegistration

Array = NDArray[np.float64]

NEAR = 0.06
LEAST_POINTS = 20
NEIGHBOURS = 6


@dataclass(frozen=True)
class Parallax:
    """Of one link: `rating_px`, the errors that neighbouring points share, rms px; `shared` (n, 2) px of `b`, what
    each point's neighbours err on the whole, 0 for a point without any.
    """

    a: int
    b: int
    rating_px: float
    shared: Array


def parallax_of(link: PairFit, errors: Array, scale_px: float) -> Parallax | None:
    """The part of the errors (n, 2) that is alike among neighbours in the frame: depth, not noise.

    Noise of neighbouring points has nothing in common; what a point's neighbours say in the mean of its error,
    times its own, is free of it. `scale_px` is the frame's longer side. None for too few points.
    """
    n = len(errors)
    if n < LEAST_POINTS:
        return None
    away = np.linalg.norm(link.points_a[:, None] - link.points_a[None], axis=-1) / scale_px
    np.fill_diagonal(away, np.inf)
    near = np.argsort(away, axis=1)[:, :NEIGHBOURS]
    close = np.take_along_axis(away, near, axis=1) < NEAR
    weight = close / np.maximum(close.sum(axis=1, keepdims=True), 1)
    around = np.einsum("nk,nkc->nc", weight, errors[near])
    shared = np.sum(around * errors, axis=1)[close.any(axis=1)]
    rating = float(np.sqrt(max(0.0, np.mean(shared)))) if len(shared) else 0.0
    return Parallax(link.a, link.b, rating, around)


def link_errors(found: PanoramaRegistration, link: PairFit) -> Array:
    """(n, 2): where each point of `a` lands in `b`, less where it was found."""
    a, b = found.frames[link.a], found.frames[link.b]
    return b.posed.project(a.posed.rays(link.points_a)) - link.points_b


def all_parallax(found: PanoramaRegistration) -> list[Parallax]:
    """Of every link that has points enough."""
    out = []
    for link in found.links:
        side = max(found.frames[link.a].lens.width, found.frames[link.a].lens.height)
        errors = np.nan_to_num(link_errors(found, link), nan=0.0)
        rated = parallax_of(link, errors, side)
        if rated is not None:
            out.append(rated)
    return out


def parallax_px(found: PanoramaRegistration) -> float | None:
    """The whole's rating: the rms over links, px; None where it cannot be told."""
    rated = all_parallax(found)
    return float(np.sqrt(np.mean([r.rating_px**2 for r in rated]))) if rated else None


@dataclass(frozen=True)
class Depth:
    """How much depth a registration shows: the whole's rating, px, each frame's that would better be left out, and
    each link's.
    """

    rating_px: float | None
    worst: dict[int, float]
    links: tuple[Parallax, ...] = ()


def depth_of(found: PanoramaRegistration, limit_px: float) -> Depth:
    """`parallax_px`, and the frames all of whose links show more than the limit while others do not."""
    rated = all_parallax(found)
    if not rated:
        return Depth(None, {})
    bad = worst_frames(rated, limit_px)
    most = len(found.placed) // 2
    return Depth(float(np.sqrt(np.mean([r.rating_px**2 for r in rated]))), bad if len(bad) <= most else {},
                 tuple(rated))


def worst_frames(rated: list[Parallax], limit_px: float) -> dict[int, float]:
    """Frames whose links all show more parallax than the limit, and the least of it."""
    by_frame: dict[int, list[float]] = {}
    for r in rated:
        for n in (r.a, r.b):
            by_frame.setdefault(n, []).append(r.rating_px)
    return {n: min(v) for n, v in by_frame.items() if min(v) > limit_px}
