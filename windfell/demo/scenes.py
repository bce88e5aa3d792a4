"""Whole scenes: the ridge over the tarn, and the village green."""

from __future__ import annotations

import numpy as np

from windfell.demo.canvas import Canvas, kept
from windfell.demo.landscape import (
    SHORE,
    paint_hills,
    paint_meadow,
    paint_sky,
    paint_tarn,
    paint_wall,
)
from windfell.demo.village import paint_chapel, paint_house, paint_kite, paint_wind_pump

GORSE, ROWAN, TARN, HEATHER = (0.95, 0.72, 0.10), (0.80, 0.22, 0.18), (0.16, 0.46, 0.62), (0.52, 0.32, 0.60)


@kept
def paint_ridge(width: int, seed: int = 3, low: float = -60, high: float = 60) -> Canvas:
    """The view from the ridge: tarn, village and chapel below, wind pump, kites above."""
    c = Canvas(width, low, high, seed)
    paint_sky(c)
    paint_hills(c)
    _paint_hamlet(c, 44, 78, SHORE + 0.1, 1.5)
    paint_chapel(c, 58, SHORE + 0.4, 2.6)
    _paint_hamlet(c, -150, -118, SHORE + 0.1, 1.2)
    paint_tarn(c, -62, 52, -11.5)
    paint_tarn(c, 120, 168, -8)
    paint_meadow(c, -7.6)
    paint_tarn(c, -62, 52, -11.5)
    paint_wind_pump(c, -84, -9.6, 15.0)
    paint_wall(c, -76, 20, -23.5, 3.6)
    paint_wall(c, 30, 104, -19.0, 3.0)
    paint_wall(c, 132, 178, -20.5, 3.2)
    for lon, lat, size, colours in (
        (-34, 21, 3.4, (ROWAN, GORSE)), (6, 27, 2.6, (TARN, GORSE)), (22, 14, 1.7, (HEATHER, ROWAN)),
        (72, 23, 3.0, (GORSE, TARN)), (-96, 19, 2.2, (HEATHER, GORSE)), (100, 15, 1.8, (ROWAN, TARN)),
    ):
        paint_kite(c, lon, lat, size, colours)
    return _finished(c)


@kept
def paint_green(width: int, seed: int = 11, low: float = -45, high: float = 45) -> Canvas:
    """The village green at eye height: houses in a row, the chapel, the wind pump before them."""
    c = Canvas(width, low, high, seed)
    paint_sky(c)
    paint_hills(c)
    paint_meadow(c, -2.4)
    for n, lon in enumerate(np.arange(-178, 176, 9.5)):
        if not -19 < lon < -3:
            paint_house(c, float(lon + c.rng.uniform(-1, 1)), -2.7, 4.2 + 1.4 * c.rng.random())
        if n % 3 == 0:
            paint_house(c, float(lon + 6), -2.2, 3.4)
    paint_chapel(c, -15, -2.9, 6.2)
    paint_wall(c, -178, -4, -4.6, 1.3)
    paint_wall(c, 7, 176, -4.8, 1.3)
    paint_wind_pump(c, 16, -6.4, 15.5, 0.35)
    paint_kite(c, -23, 15, 2.6, (ROWAN, GORSE))
    paint_kite(c, 2, 12.5, 1.8, (TARN, GORSE))
    return _finished(c)


def _paint_hamlet(c: Canvas, left: float, right: float, foot: float, size: float) -> None:
    """Houses scattered along a shore, the farther ones first."""
    for lift in (0.5, 0.2, 0.0):
        lon = left + c.rng.uniform(0, 3)
        while lon < right:
            tall = size * c.rng.uniform(0.8, 1.2) * (1 - 0.3 * lift)
            paint_house(c, float(lon), foot + lift * size, float(tall))
            lon += c.rng.uniform(2.2, 5.0)


def _finished(c: Canvas) -> Canvas:
    c.colour += (0.022 * c.grain * c.noise((0.12, 0.12), 3))[..., None]
    np.clip(c.colour, 0, 1, out=c.colour)
    return c
