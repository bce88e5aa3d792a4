"""What another frame shows where a repair is painted: it may see behind what is to go, truly, not made up."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.combine.strips import shown_within
from windfell.engine.picture import Picture
from windfell.engine.repairs import around_area, painted_over
from windfell.engine.stack_repairs import ground_below
from windfell.job import Job
from windfell.pixels.channels import most_of
from windfell.pixels.tiles import Region
from windfell.recipe.model import Kind

F32 = NDArray[np.float32]
Mask = NDArray[np.bool_]

LOOK_SIDE = 500
# of the area's size: what is looked at around it
AROUND, LEAST_AROUND = 0.25, 4
# roots of light: a frame agrees around the area, and differs plainly within
ALIKE, DIFFERS, NOISY = 0.025, 0.06, 4.0
SEEN, SEEN_AROUND, OTHER = 0.99, 0.8, 0.35


def seen_behind(stages: Any, n: int, job: Job) -> str | None:
    """The id of the frame in use that agrees with the picture all around repair `n` and shows something else within;
    of several the one that differs most. None if there is none.
    """
    found = (_of_panorama if stages.set.kind is Kind.PANORAMA else _of_stack)(stages, n, job)
    if found is None:
        return None
    picture, inside, frames = found
    if not inside.any():
        return None
    size = max(LEAST_AROUND, round(AROUND * float(np.sqrt(inside.sum()))))
    wide = cv2.dilate(inside.astype(np.uint8), np.ones((2 * size + 1,) * 2, np.uint8)) > 0
    ring = wide & ~inside & picture.covered
    shares = {frame: other_within(picture.light, light, inside, ring) for frame, light in frames}
    best = max(shares, key=shares.get, default=None)
    return best if best is not None and shares[best] > OTHER else None


def other_within(picture: F32, frame: F32, inside: Mask, ring: Mask) -> float:
    """Of the px (h, w) inside, the share at which a frame's light (h, w, 3), NaN where it shows nothing, is plainly
    another than the picture's; 0 if it does not show the place, or is another around it too.
    """
    seen = np.isfinite(frame).all(axis=2)
    around = ring & seen
    if seen[inside].mean() < SEEN or not ring.any() or around.sum() < SEEN_AROUND * ring.sum():
        return 0.0
    roots = [np.sqrt(np.maximum(np.nan_to_num(p), 0)).astype(np.float32) for p in (picture, frame)]
    off = most_of(cv2.absdiff(*roots))
    usual = float(np.median(off[around]))
    return 0.0 if usual > ALIKE else float((off[inside] > max(DIFFERS, NOISY * usual)).mean())


def _of_panorama(stages: Any, n: int, job: Job):
    """(the picture below the repair, where it is, each frame's id and light as joined) on a flat canvas around it."""
    canvas = stages.canvas(job)
    flat = around_area(stages.area_ground, stages.set.repairs[n], canvas.px_per_unit)
    if flat is None:
        return None
    flat = flat.scaled(min(1.0, LOOK_SIDE / flat.width))
    whole = Region(0, 0, flat.width, flat.height)
    picture, inside = painted_over(stages, n, stages.set.repairs[n], flat, job)
    frames = []
    for k, at in enumerate(stages.registration(job).placed):
        seen = stages.warped_frame(k, flat, whole, job)
        if seen is not None:
            frames.append((stages.set.used[at].id, np.where(seen.mask()[..., None], seen.light, np.nan)))
    return picture, inside, frames


def _of_stack(stages: Any, n: int, job: Job):
    """The same on the reference's ground."""
    found: tuple[Picture, Mask, Region, float] | None = ground_below(stages, n, LOOK_SIDE, job)
    if found is None:
        return None
    picture, inside, region, scale = found
    frames, numbers = stages.frames_in_place(scale, job)
    whole = Region(0, 0, *stages.whole_at(scale, job))
    return picture, inside, [(stages.set.used[k].id, shown_within(f, region, whole))
                             for f, k in zip(frames, numbers, strict=True)]
