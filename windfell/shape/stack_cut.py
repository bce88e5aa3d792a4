"""What part of a stack's reference its picture shows: straightened, brought to a ratio, cropped."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry import planar
from windfell.geometry.mesh import Bounds, Mesh
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.outline import BentLine, Outline
from windfell.shape import rectangle
from windfell.shape.held import Held, asked_line
from windfell.shape.pull import Task
from windfell.shape.pull_solver import solved
from windfell.shape.trim import largest_rectangle

Array = NDArray[np.float64]

TRIM_SIDE = 700
CELLS = 900


@dataclass(frozen=True)
class StackCut:
    """The picture is `box` (px of the reference turned by `roll` rad about its middle, edges at whole numbers) of a
    reference of `whole` px. `mesh` bends the reference's px before that.
    """

    whole: tuple[int, int]
    roll: float
    box: tuple[float, float, float, float]
    mesh: Mesh | None = None

    @property
    def plain(self) -> bool:
        """Whether the picture is just the reference's area."""
        return not self.moves and self.box == (0.0, 0.0, float(self.whole[0]), float(self.whole[1]))

    @property
    def size(self) -> tuple[int, int]:
        left, top, right, bottom = self.box
        return max(1, round(right - left)), max(1, round(bottom - top))

    def region_of(self, region: Region, scale: float) -> Region:
        """A region of the picture at a scale as one of the reference at that scale; only if nothing is turned."""
        return Region(region.left + round(self.box[0] * scale), region.top + round(self.box[1] * scale),
                      region.width, region.height)

    @property
    def moves(self) -> bool:
        """Whether px are turned or bent, not just shifted."""
        return self.roll != 0 or self.mesh is not None

    @property
    def goes_beyond(self) -> bool:
        """Whether the picture reaches beyond the reference."""
        left, top, right, bottom = self.box
        return left < 0 or top < 0 or right > self.whole[0] or bottom > self.whole[1]

    def onto_reference(self, scale: float) -> Callable[[Array], Array]:
        """The map from px (..., 2) of the picture at a scale to px of the reference at that scale."""
        turned = self._turned(scale)
        if self.mesh is None:
            return lambda points: planar.apply(turned, points)
        whole = scaled_size(self.whole, scale)
        to_full = planar.resized(whole, self.whole)
        from_full = planar.resized(self.whole, whole)

        def onto(points: Array) -> Array:
            full = planar.apply(to_full @ turned, points)
            return planar.apply(from_full, self.mesh.backward(full))

        return onto

    def from_reference(self, points: Array) -> Array:
        """The px (..., 2) of the picture at full size where those of the reference lie."""
        bent = points if self.mesh is None else self.mesh.forward(points)
        return planar.apply(np.linalg.inv(self._turned(1.0)), bent)

    def _turned(self, scale: float) -> Array:
        """(3, 3): from px of the picture at a scale to px of the bent reference at that scale."""
        out, whole = scaled_size(self.size, scale), scaled_size(self.whole, scale)
        left, top = self.box[:2]
        shift = np.array([[1, 0, left], [0, 1, top], [0, 0, 1.0]])
        c, s = np.cos(self.roll), np.sin(self.roll)
        x, y = (self.whole[0] - 1) / 2, (self.whole[1] - 1) / 2
        turn = np.array([[c, -s, x - c * x + s * y], [s, c, y - s * x - c * y], [0, 0, 1.0]])
        return planar.resized(self.whole, whole) @ turn @ shift @ planar.resized(out, self.size)


@lru_cache(maxsize=4)
def lines_mesh(whole: tuple[int, int], lines: tuple[BentLine, ...]) -> Mesh | None:
    """What bends a picture of `whole` px until lines drawn on it, through shares of its sides in %, are what they are
    to be; None where there are none.
    """
    held = [_held(whole, line) for line in lines if len(line.points) > 1]
    held = [h for h in held if h is not None]
    if not held:
        return None
    width, height = whole
    none = [np.zeros((0, 2))] * 4
    seen = np.ones((max(8, 100 * height // max(whole)), max(8, 100 * width // max(whole))), bool)
    pull = solved(Task(Bounds(-0.5, -0.5, width - 0.5, height - 0.5), none, seen, held, cells=CELLS))
    return pull.mesh((0, 0, 0, 0))[0]


def _held(whole: tuple[int, int], line: BentLine) -> Held | None:
    spots = np.array(line.points, float) / 100 * [whole[0], whole[1]] - 0.5
    return asked_line(spots, str(line.kind), line.strength_pct / 100)


def stack_cut(whole: tuple[int, int], roll_deg: float, outline: Outline) -> StackCut:
    """The cut that an outline asks for: of a turned picture the largest upright rectangle in it; a ratio takes the
    largest part of that form.
    """
    width, height = whole
    roll = float(np.radians(roll_deg))
    wide = abs(width * np.cos(roll)) + abs(height * np.sin(roll))
    high = abs(width * np.sin(roll)) + abs(height * np.cos(roll))
    x, y = width / 2, height / 2
    box = Bounds(x - wide / 2, y - high / 2, x + wide / 2, y + high / 2)
    ratio = outline.ratio and outline.ratio.width / outline.ratio.height
    if roll:
        box = _covered(box, whole, roll, ratio)
    if ratio is not None:
        box = rectangle.inside(box, ratio)
    if outline.crop is not None:
        c = outline.crop
        left, top = box.left + c.left_pct / 100 * box.width, box.top + c.top_pct / 100 * box.height
        box = Bounds(left, top, left + c.width_pct / 100 * box.width, top + c.height_pct / 100 * box.height)
    if not roll:  # whole px, so that nothing is resampled
        box = Bounds(*(float(round(v)) for v in (box.left, box.top, box.right, box.bottom)))
    mesh = lines_mesh(whole, outline.lines)
    return StackCut(whole, roll, (box.left, box.top, box.right, box.bottom), mesh)


def _covered(box: Bounds, whole: tuple[int, int], roll: float, ratio: float | None) -> Bounds:
    """The largest rectangle within the turned reference."""
    scale = TRIM_SIDE / max(box.width, box.height)
    size = max(2, int(box.width * scale)), max(2, int(box.height * scale))
    c, s = np.cos(roll), np.sin(roll)
    corners = (np.array([[0, 0], [whole[0], 0], [whole[0], whole[1]], [0, whole[1]]], float)
               - [whole[0] / 2, whole[1] / 2]) @ np.array([[c, -s], [s, c]])
    px = (corners + [box.width / 2, box.height / 2]) * scale - 0.5
    mask = np.zeros(size[::-1], np.uint8)
    cv2.fillConvexPoly(mask, np.rint(px * 16).astype(np.int32), 1, shift=4)
    inner = cv2.erode(np.pad(mask, 1), np.ones((3, 3), np.uint8))[1:-1, 1:-1] > 0
    found = largest_rectangle(inner) if ratio is None else rectangle.largest_of_ratio(inner, ratio)
    left, top, right, bottom = (v / scale for v in found)
    return Bounds(box.left + left, box.top + top, box.left + right, box.top + bottom)
