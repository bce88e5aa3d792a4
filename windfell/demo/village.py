"""What people built on Brannock Fell: houses, the chapel, the wind pump, and kites above."""

from __future__ import annotations

import numpy as np

from windfell.demo.canvas import Canvas

STONE = (0.62, 0.58, 0.51)
SLATE = (0.30, 0.33, 0.37)


def paint_house(c: Canvas, lon: float, lat: float, size: float) -> None:
    """A stone house with a slate roof, windows and a chimney; `size` its height, degrees."""
    wide = size * c.rng.uniform(1.3, 1.9)
    tone = c.rng.uniform(0.86, 1.14)
    wall = tuple(min(1.0, v * tone) for v in STONE)
    if c.rng.random() < 0.35:
        wall = (0.86, 0.84, 0.78)
    c.box(lon, lat, wide, size * 0.62, wall)
    _stonework(c, lon, lat, wide, size * 0.62, wall)
    c.box(lon + wide * 0.16, lat + size * 0.85, size * 0.13, size * 0.30, _darker(wall, 0.8))
    c.polygon(
        [(lon - 0.05 * size, lat + size * 0.60), (lon + wide + 0.05 * size, lat + size * 0.60),
         (lon + wide * 0.93, lat + size * 0.98), (lon + wide * 0.07, lat + size * 0.98)],
        SLATE,
    )
    for k in range(1, 6):
        y = lat + size * (0.60 + 0.063 * k)
        inset = wide * 0.012 * k
        c.stroke([(lon + inset, y), (lon + wide - inset, y)], size * 0.012, (0.24, 0.27, 0.31))
    for k in range(3):
        x = lon + wide * (0.12 + 0.30 * k)
        _window(c, x, lat + size * 0.32, size * 0.15, size * 0.19)
        if k != 1:
            _window(c, x, lat + size * 0.07, size * 0.15, size * 0.19)
    door = (0.20, 0.32, 0.34) if c.rng.random() < 0.5 else (0.46, 0.20, 0.16)
    c.box(lon + wide * 0.43, lat, size * 0.17, size * 0.29, door)


def paint_chapel(c: Canvas, lon: float, lat: float, size: float) -> None:
    """A chapel: nave with pointed windows, tower with a short spire; `size` the tower, degrees."""
    wall = (0.66, 0.63, 0.57)
    c.box(lon, lat, size * 1.25, size * 0.48, wall)
    _stonework(c, lon, lat, size * 1.25, size * 0.48, wall)
    c.polygon(
        [(lon - 0.03 * size, lat + 0.47 * size), (lon + 1.28 * size, lat + 0.47 * size),
         (lon + 1.20 * size, lat + 0.80 * size), (lon + 0.05 * size, lat + 0.80 * size)],
        SLATE,
    )
    for k in range(4):
        _pointed(c, lon + size * (0.42 + 0.2 * k), lat + size * 0.10, size * 0.09, size * 0.27)
    tower = _darker(wall, 0.94)
    c.box(lon - 0.02 * size, lat, size * 0.32, size, tower)
    _stonework(c, lon - 0.02 * size, lat, size * 0.32, size, tower)
    c.polygon(
        [(lon - 0.05 * size, lat + size), (lon + 0.33 * size, lat + size),
         (lon + 0.14 * size, lat + 1.42 * size)],
        SLATE,
    )
    _pointed(c, lon + 0.09 * size, lat + 0.68 * size, size * 0.10, size * 0.20)
    c.box(lon + 0.06 * size, lat, size * 0.15, size * 0.24, (0.24, 0.18, 0.13))


def paint_wind_pump(c: Canvas, lon: float, lat: float, size: float, turn: float = 0.2) -> None:
    """The wind pump: a lattice tower, a many-bladed wheel and its vane; `size` degrees high."""
    dark, steel = (0.24, 0.26, 0.27), (0.60, 0.63, 0.64)
    foot, top = 0.17 * size, 0.035 * size
    for side in (-1, 1):
        c.stroke([(lon + side * foot, lat), (lon + side * top, lat + size)], 0.020 * size, dark)
    steps = 7
    for k in range(steps):
        t0, t1 = k / steps, (k + 1) / steps
        w0, w1 = foot + (top - foot) * t0, foot + (top - foot) * t1
        y0, y1 = lat + size * t0, lat + size * t1
        c.stroke([(lon - w0, y0), (lon + w1, y1)], 0.009 * size, dark)
        c.stroke([(lon + w0, y0), (lon - w1, y1)], 0.009 * size, dark)
        c.stroke([(lon - w1, y1), (lon + w1, y1)], 0.010 * size, dark)
    hub = (lon, lat + size)
    c.stroke([hub, (lon + 0.36 * size, lat + size * 1.02)], 0.018 * size, dark)
    c.polygon(
        [(lon + 0.28 * size, lat + 0.96 * size), (lon + 0.46 * size, lat + 0.90 * size),
         (lon + 0.46 * size, lat + 1.14 * size), (lon + 0.28 * size, lat + 1.08 * size)],
        (0.62, 0.24, 0.19),
    )
    radius, blades = 0.25 * size, 16
    for k in range(blades):
        a = turn + 2 * np.pi * k / blades
        b = a + 0.24
        c.polygon(
            [_around(hub, 0.06 * size, a), _around(hub, radius, a), _around(hub, radius, b),
             _around(hub, 0.06 * size, a + 0.10)],
            tuple(v * (0.78 + 0.22 * np.cos(a - 2)) for v in steel),
        )
    ring = [_around(hub, 0.17 * size, a) for a in np.linspace(0, 2 * np.pi, 40)]
    c.stroke(ring, 0.008 * size, dark)
    c.polygon([_around(hub, 0.03 * size, a) for a in np.linspace(0, 6.28, 14)], dark)


def paint_kite(c: Canvas, lon: float, lat: float, size: float, colours: tuple) -> None:
    """A kite of two colours with a tail of bows, leaning in the wind."""
    lean = 0.4
    def at(x: float, y: float) -> tuple[float, float]:
        return (
            lon + size * (x * np.cos(lean) - y * np.sin(lean)),
            lat + size * (x * np.sin(lean) + y * np.cos(lean)),
        )
    c.polygon([at(0, 0.6), at(0.38, 0.1), at(0, -0.6)], colours[0], 0.2)
    c.polygon([at(0, 0.6), at(-0.38, 0.1), at(0, -0.6)], colours[1], 0.2)
    tail = [at(0.16 * np.sin(5 * t), -0.6 - 1.5 * t) for t in np.linspace(0, 1, 30)]
    c.stroke(tail, 0.02 * size, (0.35, 0.30, 0.30))
    for n in range(3, 30, 6):
        x, y = tail[n]
        c.polygon(
            [(x - 0.1 * size, y + 0.05 * size), (x + 0.1 * size, y - 0.05 * size),
             (x + 0.1 * size, y + 0.05 * size), (x - 0.1 * size, y - 0.05 * size)],
            colours[n % 2],
        )


def _around(centre: tuple[float, float], radius: float, angle: float) -> tuple[float, float]:
    return centre[0] + radius * np.cos(angle), centre[1] + radius * np.sin(angle)


def _darker(colour: tuple, by: float) -> tuple:
    return tuple(v * by for v in colour)


def _stonework(c: Canvas, lon: float, lat: float, wide: float, tall: float, colour: tuple) -> None:
    count = int(np.clip(wide * tall * 900, 30, 260))
    size = 0.05 * tall
    for _ in range(count):
        x = lon + c.rng.uniform(0.02, 0.92) * wide
        y = lat + c.rng.uniform(0.02, 0.93) * tall
        tone = 1 + c.rng.normal(0, 0.07)
        spot = tuple(float(np.clip(v * tone, 0, 1)) for v in colour)
        c.box(x, y, size * c.rng.uniform(0.8, 2.2), size * 0.8, spot)


def _window(c: Canvas, lon: float, lat: float, wide: float, tall: float) -> None:
    c.box(lon - 0.12 * wide, lat - 0.1 * tall, wide * 1.24, tall * 1.2, (0.80, 0.78, 0.72))
    c.box(lon, lat, wide, tall, (0.20, 0.25, 0.30))
    c.box(lon + wide * 0.46, lat, wide * 0.08, tall, (0.85, 0.84, 0.80))
    c.box(lon, lat + tall * 0.46, wide, tall * 0.08, (0.85, 0.84, 0.80))


def _pointed(c: Canvas, lon: float, lat: float, wide: float, tall: float) -> None:
    c.polygon(
        [(lon, lat), (lon + wide, lat), (lon + wide, lat + 0.6 * tall), (lon + wide / 2, lat + tall),
         (lon, lat + 0.6 * tall)],
        (0.22, 0.25, 0.30),
    )
