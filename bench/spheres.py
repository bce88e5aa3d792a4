"""Spheres joined from generated frames against the true sphere, with the vision library's stitching class on the same
frames in the same run.

Wanted: SSIM at least 0.97, no window of 16 px whose mean error is above 8 % and that holds no moving thing.
Usage: spheres.py [COUNT] [--tiny]
"""

from __future__ import annotations

import tempfile
import time
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from common import limited, parser_of
from numpy.typing import NDArray

from windfell.demo.photograph import Photographer
from windfell.demo.scenes import paint_ridge
from windfell.demo.truth import START, canvas_width, write_shots
from windfell.demo.turned import ROUND, paint_feet, turned_shots
from windfell.engine.core import Engine
from windfell.geometry.rotation import nearest_rotation
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.recipe.model import FrameSet, Kind, Project, View, frame_from_path

WIDTH, WINDOW, SCALE = 1600, 16, 0.6
WORST, LEAST_SSIM = 8.0, 0.97
SOFT = 0.4  # px: what a px of the true picture gathers around it, as a Gaussian
SPOTS = [(a, b, np.exp(-(a * a + b * b) / (2 * SOFT * SOFT))) for a in np.arange(-1, 1.1, 0.25)
         for b in np.arange(-1, 1.1, 0.25) if a * a + b * b < 1.01]
AROUND = [(a, b, w / sum(s[2] for s in SPOTS)) for a, b, w in SPOTS]


def true_sphere(canvas, turn: NDArray, width: int) -> NDArray[np.uint8]:
    """What the painted sphere shows on an equirectangular picture whose world is turned onto it by `turn`, as finely
    everywhere as a px of the horizon: at the poles it is painted finer than any camera sees it.
    """
    height = width // 2
    lon = ((np.arange(width) + 0.5) / width - 0.5) * 2 * np.pi
    lat = ((np.arange(height) + 0.5) / height - 0.5) * np.pi  # down
    lon, lat = np.meshgrid(lon, lat)
    ahead = np.stack([np.sin(lon) * np.cos(lat), np.sin(lat), np.cos(lon) * np.cos(lat)], -1)
    east = np.stack([np.cos(lon), np.zeros_like(lon), -np.sin(lon)], -1)
    south = np.cross(ahead, east)
    wide = np.concatenate([canvas.colour[:, -8:], canvas.colour, canvas.colour[:, :8]], axis=1)
    seen = 0.0
    for across, down, weight in AROUND:
        rays = (ahead + (east * across + south * down) * 2 * np.pi / width) @ turn.T
        rays /= np.linalg.norm(rays, axis=-1, keepdims=True)
        x = (np.degrees(np.arctan2(rays[..., 0], rays[..., 2])) + 180) * canvas.per_deg - 0.5
        y = (canvas.high + np.degrees(np.arcsin(np.clip(rays[..., 1], -1, 1)))) * canvas.per_deg - 0.5
        seen = seen + weight * cv2.remap(
            wide, (x % canvas.width + 8).astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_REPLICATE)
    return np.rint(255 * np.clip(seen, 0, 1)).astype(np.uint8)


def halved(picture: NDArray) -> NDArray:
    """Half as wide: a camera's px tell less than the painted sphere's of their finest detail."""
    return cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)


def lit_alike(picture: NDArray, truth: NDArray, mask: NDArray) -> NDArray[np.float32]:
    """The picture with the truth's exposure and white balance, channel by channel."""
    gain = [np.median(truth[mask][:, c].astype(float)) / max(np.median(picture[mask][:, c].astype(float)), 1) for c in
            range(3)]
    return np.clip(picture * np.float32(gain), 0, 255).astype(np.float32)


def ssim(a: NDArray, b: NDArray, mask: NDArray) -> float:
    """Mean structural similarity of the brightness where the mask holds (Wang et al. 2004)."""
    a, b = (v @ np.float32([0.299, 0.587, 0.114]) for v in (a.astype(np.float32), b.astype(np.float32)))
    blur = lambda v: cv2.GaussianBlur(v, (11, 11), 1.5)  # noqa: E731
    ma, mb = blur(a), blur(b)
    va, vb, ab = blur(a * a) - ma * ma, blur(b * b) - mb * mb, blur(a * b) - ma * mb
    c1, c2 = 6.5025, 58.5225
    found = (2 * ma * mb + c1) * (2 * ab + c2) / ((ma * ma + mb * mb + c1) * (va + vb + c2))
    return float(found[mask].mean())


def worst_window(a: NDArray, b: NDArray, mask: NDArray) -> tuple[float, float, float]:
    """The largest mean error of a window of 16 px, in % of white, and its latitude, degrees; and the largest of those
    whose px stand for more than a sixth of what they do at the horizon.
    """
    off = np.abs(a.astype(np.float32) - b).mean(axis=2) * mask
    means = cv2.boxFilter(off, -1, (WINDOW, WINDOW))
    whole = cv2.erode(mask.astype(np.uint8), np.ones((WINDOW, WINDOW), np.uint8)) > 0
    means = 100 / 255 * means * whole
    latitude = 90 - 180 * (np.arange(len(means)) + 0.5) / len(means)
    plain = np.cos(np.radians(latitude)) > 1 / 6
    if not whole.any():
        return (float("nan"),) * 3
    return float(means.max()), float(latitude[means.max(axis=1).argmax()]), float(means[plain].max())


def stitched(paths: list[str], truth: NDArray) -> tuple[str, float]:
    """What the library's stitching class makes of the frames, laid onto the truth by what both show; and its s."""
    begun = time.perf_counter()
    status, picture = cv2.Stitcher.create(cv2.Stitcher_PANORAMA).stitch([cv2.imread(p) for p in paths])
    took = time.perf_counter() - begun
    if status != cv2.Stitcher_OK:
        return f"none (status {status})", took
    finder = cv2.SIFT_create(4000)
    k = min(1.0, WIDTH / picture.shape[1])
    picture = cv2.resize(picture[..., ::-1], None, fx=k, fy=k, interpolation=cv2.INTER_AREA)
    (pa, da), (pb, db) = (finder.detectAndCompute(np.ascontiguousarray(v), None) for v in (picture, truth))
    pairs = [m for m, n in cv2.BFMatcher().knnMatch(da, db, k=2) if m.distance < 0.75 * n.distance]
    if len(pairs) < 20:
        return "not comparable", took
    onto, _ = cv2.estimateAffine2D(np.float32([pa[m.queryIdx].pt for m in pairs]),
                                   np.float32([pb[m.trainIdx].pt for m in pairs]), ransacReprojThreshold=4)
    laid = cv2.warpAffine(picture, onto, truth.shape[1::-1])
    mask = cv2.warpAffine((picture.max(axis=2) > 0).astype(np.uint8), onto, truth.shape[1::-1]) > 0
    lit, whole = halved(lit_alike(laid, truth, mask)), halved(truth)
    seen = cv2.resize(mask.astype(np.uint8), whole.shape[1::-1], interpolation=cv2.INTER_NEAREST) > 0
    return f"SSIM {ssim(lit, whole, seen):.3f} on {100 * mask.mean():.0f} %", took


def one(seed: int, scale: float) -> tuple[float, float]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        shots = turned_shots(replace(ROUND, seed=seed), scale)
        canvas = paint_ridge(canvas_width(shots[0].lens.focal_px), 3 + seed % 5, low=-90, high=90)
        paint_feet(canvas)
        write_shots(folder, Photographer(canvas), shots, "round", START, Job())
        paths = sorted(str(p) for p in folder.glob("*.jpg"))
        project = Project((FrameSet("s", "S", Kind.PANORAMA, tuple(map(frame_from_path, paths)),
                                    view=View(full_sphere=True)),))
        engine, begun = Engine(None, 2**29), time.perf_counter()
        stages = engine.stages(project, "s")
        found = stages.registration(Job())
        full = engine.size(project, "s", Job())
        picture = engine.picture(project, "s", min(1.0, WIDTH / full[0]), Job())
        took = time.perf_counter() - begun
        posed = stages.posed(Job())
        common = nearest_rotation(sum(shots[n].rotation @ p.rotation.T
                                      for n, p in zip(found.placed, posed, strict=True)))
        truth = true_sphere(canvas, common, picture.light.shape[1])
        truth = truth[: picture.light.shape[0]]
        mask = picture.covered
        ours, whole = halved(lit_alike(to_view(picture.light), truth, mask)), halved(truth)
        seen = cv2.resize(mask.astype(np.uint8), whole.shape[1::-1], interpolation=cv2.INTER_NEAREST) > 0
        worst, latitude, plainly = worst_window(ours, whole, seen)
        rated = ssim(ours, whole, seen), worst
        theirs, their_s = stitched(paths, truth)
        print(f"sphere {seed}: {len(found.placed)} of {len(paths)} placed, SSIM {rated[0]:.3f} on "
              f"{100 * mask.mean():.0f} %, worst window {worst:.1f} % at {latitude:.0f} deg, off the poles "
              f"{plainly:.1f} %, {took:.1f} s; stitching class: {theirs}, {their_s:.1f} s", flush=True)
        return rated


def main() -> None:
    options = parser_of(__doc__, "count", 6).parse_args()
    limited(300 if options.tiny else 1800)
    if options.tiny:
        one(61, 0.16)
        return
    rated = np.array([one(61 + n, SCALE) for n in range(options.count)])
    print(f"SSIM at least {rated[:, 0].min():.3f} (wanted {LEAST_SSIM}), worst window {rated[:, 1].max():.1f} % "
          f"(wanted {WORST:.0f})")


if __name__ == "__main__":
    main()
