"""Over the whole field: the edges darker or lighter, the empty field's colour and slope taken off."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from windfell.combine.calibrated import Plane, black_plane
from windfell.finish.scene import Scene
from windfell.pixels.easing import eased
from windfell.pixels.planes import times
from windfell.recipe.finishing import Channels, Vignette

F32 = NDArray[np.float32]


def edged(light: F32, v: Vignette, scene: Scene) -> F32:
    """By the way from the middle to the corners; `round_pct` 0 follows the picture's shape, 100 is a circle."""
    w, h = scene.size
    r = scene.region
    x = ((np.arange(r.left, r.left + r.width) + 0.5) / w * 2 - 1).astype(np.float32)
    y = ((np.arange(r.top, r.top + r.height) + 0.5) / h * 2 - 1).astype(np.float32)
    k = np.float32(v.round_pct / 100)
    longest = max(w, h)
    kx, ky = 1 + k * (np.float32(w / longest) - 1), 1 + k * (np.float32(h / longest) - 1)
    far = np.sqrt((kx * x)[None] ** 2 + (ky * y)[:, None] ** 2) / np.hypot(kx, ky)
    start = np.float32(v.from_pct / 100)
    share = eased((far - start) / (1 - start))
    return times(light, np.exp2(np.float32(v.edges_ev) * share))


def levelled(light: F32, v: Channels, scene: Scene) -> F32:
    """The empty field without colour and without slope, as bright as it was."""
    found: Plane = scene.keep(("field",), lambda: black_plane(scene.small()))
    r, (w, h) = scene.region, scene.size
    x = (np.arange(r.left, r.left + r.width) + 0.5) / w * 2 - 1
    y = (np.arange(r.top, r.top + r.height) + 0.5) / h * 2 - 1
    level = sum(a for a, _, _ in found.values) / 3
    colour, slope = v.colour_pct / 100, v.slope_pct / 100
    mean = np.mean([[b, c] for _, b, c in found.values], axis=0)
    off = []
    for a, b, c in found.values:
        # what slopes alike in all channels is no colour
        own = colour * (a - level), slope * b + (1 - slope) * colour * (b - mean[0]), (
            slope * c + (1 - slope) * colour * (c - mean[1]))
        off.append(own)
    return light - Plane(tuple(off)).at(x, y)
