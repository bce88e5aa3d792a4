"""The chapel's inside: dark pews and stone, windows bright as the day outside."""

from __future__ import annotations

import numpy as np

from windfell.demo.canvas import Canvas, kept

STONE, MORTAR, OAK, LIME = (0.40, 0.38, 0.35), (0.30, 0.29, 0.27), (0.24, 0.16, 0.10), (0.52, 0.49, 0.44)
GLASS = ((0.93, 0.95, 0.98), (0.86, 0.90, 0.97), (0.97, 0.93, 0.82), (0.80, 0.90, 0.84), (0.95, 0.84, 0.80))


@kept
def paint_chapel_inside(width: int, seed: int = 23, low: float = -45, high: float = 45) -> Canvas:
    """Walls with windows all around, rows of pews before them, sRGB-encoded at the middle exposure."""
    c = Canvas(width, low, high, seed)
    c.colour[:] = np.array(STONE, np.float32)
    c.grain[:] = 0.8
    c.colour *= (1 + 0.10 * c.noise((7, 4), 6))[..., None]
    for lat in np.arange(-14, 40, 3.0):
        c.stroke([(-180, lat), (180, lat)], 0.12, MORTAR)
        for lon in np.arange(-180 + (lat % 2) * 3, 180, 6.0):
            c.stroke([(lon, lat), (lon, lat + 3)], 0.12, MORTAR)
    for n, lon in enumerate(np.arange(-176, 176, 22.0)):
        _window(c, float(lon), n)
    c.box(-180, -45, 360, 31, (0.19, 0.17, 0.15))
    for row, lat in enumerate((-15, -20, -26, -33)):
        _pews(c, lat, 3.4 + row, row)
    c.colour += (0.03 * c.grain * c.noise((0.15, 0.15), 3))[..., None]
    np.clip(c.colour, 0, 1, out=c.colour)
    return c


def _window(c: Canvas, lon: float, number: int) -> None:
    c.polygon([(lon - 4, -3), (lon + 4, -3), (lon + 4, 14), (lon, 20), (lon - 4, 14)], LIME)
    for i in range(4):
        for j in range(6):
            x, y = lon - 3.2 + 1.6 * i, -2 + 2.7 * j
            tone = np.array(GLASS[(i + 2 * j + number) % len(GLASS)]) * c.rng.uniform(0.93, 1.0)
            c.box(x + 0.1, y + 0.1, 1.4, 2.5, tuple(tone))
    c.box(lon - 0.12, -2, 0.24, 17, (0.22, 0.22, 0.22))


def _pews(c: Canvas, lat: float, tall: float, row: int) -> None:
    wood = np.array(OAK) * (1.3 - 0.18 * row)
    c.box(-180, lat - tall, 360, tall, tuple(wood))
    for lon in np.arange(-180 + 2 * row, 180, 5.0 + row):
        shade = tuple(wood * c.rng.uniform(0.75, 1.15))
        c.box(float(lon), lat - tall + 0.3, 4.2 + row, tall - 0.7, shade)
    c.stroke([(-180, lat), (180, lat)], 0.35, tuple(np.array(OAK) * 1.7))
