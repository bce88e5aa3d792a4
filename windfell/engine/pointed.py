"""What is pointed at in a series: the thing under a press, told by its edges in most of the frames."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.areas.growing import thing_cut
from windfell.combine.strips import Layer as FrameInPlace
from windfell.combine.strips import shown_within
from windfell.engine.best_of import Box
from windfell.engine.stack_pile import PileStages
from windfell.job import Job
from windfell.pixels.colour import perceptual
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]

MOST_FRAMES, LOOK_SIDE = 9, 1000
# half sides of the windows that are tried, of the picture's longer side, the smallest first
WINDOWS = tuple(0.03 * 1.5**n for n in range(7))
LEAST_PX = 12
BRUSH, LEAST_BRUSH = 0.09, 1.0
FREE, LEAST_AREA = 0.06, 0.03
# of 255, along most of the rim: a thing has an edge of its own
EDGE, OF_RIM = 9.0, 0.3
# of the thing's box: a face has hair above it, and turns
BESIDE, ABOVE, BELOW = 0.25, 0.45, 0.25
# so many frames may see it larger: in them it is grown too far
FEW = 0.25


def pointed_box(stages: PileStages, at: tuple[float, float], job: Job) -> Box | None:
    """The box (x, y, width, height; px of the ground) of the thing at (x, y), with a margin: in each frame it is
    grown from the press until it closes within its edges (`areas.growing.thing_cut`), in windows from small to large;
    what all but a few frames say is taken. None where nothing closes in half of the frames.
    """
    width, height = stages.whole_size(job)
    scale = min(1.0, LOOK_SIDE / max(width, height))
    frames, _ = stages.frames_in_place(scale, job)
    some = [frames[k] for k in np.unique(np.linspace(0, len(frames) - 1, MOST_FRAMES).astype(int))]
    whole = Region(0, 0, *stages.whole_at(scale, job))
    x, y = (v * scale for v in at)
    for share in WINDOWS:
        reach = share * max(whole.width, whole.height)
        window = Region(round(x - reach), round(y - reach), round(2 * reach), round(2 * reach)).shared(whole)
        if window is None or min(window.width, window.height) < LEAST_PX:
            continue
        spot = np.array([[x - window.left, y - window.top]]) - 0.5
        boxes = [b for b in job.map(lambda f, w=window, s=spot: _thing_in(f, w, whole, s), some, "pointing")
                 if b is not None]
        if len(boxes) > len(some) / 2:
            low, high = (np.quantile(boxes, q, axis=0) for q in (FEW, 1 - FEW))
            return _with_margin(np.concatenate([low[:2], high[2:]]) / scale, width, height)
    return None


def around_both(a: Box, b: Box) -> Box:
    """The least box around both."""
    left, top = min(a[0], b[0]), min(a[1], b[1])
    return left, top, max(a[0] + a[2], b[0] + b[2]) - left, max(a[1] + a[3], b[1] + b[3]) - top


def _with_margin(edges: NDArray[np.float64], width: int, height: int) -> Box:
    left, top, right, bottom = edges
    wide, high = right - left, bottom - top
    left, right = max(0, left - BESIDE * wide), min(width, right + BESIDE * wide)
    top, bottom = max(0, top - ABOVE * high), min(height, bottom + BELOW * high)
    return round(left), round(top), round(right - left), round(bottom - top)


def _thing_in(frame: FrameInPlace, window: Region, whole: Region, spot: NDArray[np.float64]
              ) -> tuple[int, int, int, int] | None:
    """(left, top, right, bottom) of what a frame shows at a spot of a window, px of the whole, if it closes there."""
    light = shown_within(frame, window, whole)
    if not np.isfinite(light).all():
        return None
    side = max(window.width, window.height)
    thing = thing_cut(light, [spot], [], max(LEAST_BRUSH, BRUSH * side / 2)) > 0.5
    if thing.mean() < LEAST_AREA or not _has_edge(light, thing):
        return None
    x0, y0, w, h = cv2.boundingRect(thing.astype(np.uint8))
    left, top, right, bottom = window.left + x0, window.top + y0, window.left + x0 + w, window.top + y0 + h
    closes = window.grown(-round(FREE * side))
    # at the picture's own rim a thing may end
    inside = (left > closes.left or window.left == 0, top > closes.top or window.top == 0,
              right < closes.left + closes.width or window.left + window.width == whole.width,
              bottom < closes.top + closes.height or window.top + window.height == whole.height)
    return (left, top, right, bottom) if all(inside) else None


def _has_edge(light: F32, thing: NDArray[np.bool_]) -> bool:
    """Whether along most of its rim a thing's colours differ from those beside it."""
    seen, inside = 255 * perceptual(light), thing.astype(np.float32)
    means = []
    for share in (inside, 1 - inside):
        weight = cv2.GaussianBlur(share, (0, 0), 2.0)
        means.append(cv2.GaussianBlur(seen * share[..., None], (0, 0), 2.0) / np.maximum(weight, 1e-3)[..., None])
    rim = thing & (cv2.erode(thing.astype(np.uint8), np.ones((3, 3), np.uint8), borderValue=1) == 0)
    if not rim.any():
        return False
    return float(np.quantile(np.linalg.norm(means[0] - means[1], axis=2)[rim], OF_RIM)) > EDGE
