"""What frames cover, held once on the sphere around them and looked up from any canvas."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.pixels.resample import inside_frame
from windfell.pixels.tiles import Region
from windfell.shape.canvas import Canvas


@dataclass(frozen=True, eq=False)
class Coverage:
    """Which px (h, w) of `surface`, a canvas around all frames, they cover."""

    surface: Canvas
    seen: NDArray[np.bool_]

    @property
    def nbytes(self) -> int:
        return self.seen.nbytes

    def on(self, canvas: Canvas) -> NDArray[np.bool_]:
        """What of a canvas is covered, (h, w), as finely as the surface knows it: for canvases about as coarse."""
        x, y = np.meshgrid(np.arange(canvas.width), np.arange(canvas.height))
        with np.errstate(invalid="ignore"):
            places = self.surface.pixels(canvas.rays(np.stack([x, y], -1).astype(np.float64)))
        height, width = self.seen.shape
        out = inside_frame(places, width, height)
        column, row = np.rint(places[out]).astype(np.intp).T
        # half a px beyond the last one is still the last one
        out[out] = self.seen[row.clip(0, height - 1), column.clip(0, width - 1)]
        drawn = canvas.drawn(Region(0, 0, canvas.width, canvas.height))
        return out if drawn is None else out & drawn
