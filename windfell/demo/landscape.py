"""The land of Brannock Fell: sky, hills, tarn, grass and walls on a canvas."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.demo.canvas import Canvas, noise
from windfell.pixels.easing import eased

F32 = NDArray[np.float32]
SHORE = -2.2
OVERHEAD = (60.0, 76.0)


def smooth(edge0: float, edge1: float, x: F32) -> F32:
    """0 before edge0, 1 after edge1, smooth between."""
    return eased((x - edge0) / (edge1 - edge0))


def paint_sky(c: Canvas) -> None:
    rows = c.rows(90, -6)
    lat = c.lat[rows]
    t = smooth(0, 55, lat)[:, None, None]
    glow = np.exp(-np.square((c.lon + 60) / 70))[None, :, None]
    low, high = np.array([0.80, 0.86, 0.90]), np.array([0.30, 0.50, 0.76])
    c.colour[rows] = low + t * (high - low) + 0.07 * glow * (1 - t) * np.array([1.0, 0.8, 0.4])
    small = _cloud_cover(c)[rows]
    shade = cv2.GaussianBlur(small, (0, 0), max(1.0, 1.2 * c.per_deg))
    lit = np.clip(0.93 + 0.25 * (small - shade), 0.62, 1.0)[..., None]
    cover = (smooth(0.15, 0.75, small) * smooth(-2, 7, lat)[:, None]).astype(np.float32)
    c.lay(0.9 * cover, lit * np.array([0.99, 0.985, 0.98], np.float32), 0.0, rows)
    haze = 0.006 * (1 - smooth(*OVERHEAD, lat))[:, None]
    c.colour[rows] += (haze * c.noise((1.2, 0.6), 5)[rows])[..., None]


def _cloud_cover(c: Canvas) -> F32:
    """Cloud noise seen in perspective: it crowds towards the horizon."""
    flat = c.noise((22, 14), 8)
    lat = np.maximum(c.lat, 0)
    height = 0.75 * lat + 9.0 * np.log1p(lat / 2.5)
    row = (c.high - height) * c.per_deg
    grid_x, grid_y = np.meshgrid(np.arange(c.width, dtype=np.float32), row.astype(np.float32))
    band = cv2.remap(flat, grid_x, grid_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    return band if c.high <= OVERHEAD[0] else _closed_overhead(c, band)


def _closed_overhead(c: Canvas, band: F32) -> F32:
    """Clouds that towards the zenith are those of a plane laid over it: where longitudes meet a band is pinched."""
    side = 2 * int((90 - OVERHEAD[0]) * c.per_deg) + 8
    plane = noise((side, side), (18 * c.per_deg, 18 * c.per_deg), 8, np.random.default_rng(29))
    away, turn = (90 - c.lat[:, None]) * c.per_deg, np.radians(c.lon)[None, :]
    x, y = (side / 2 + away * f(turn) for f in (np.sin, np.cos))
    above = cv2.remap(plane, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR,
                      borderMode=cv2.BORDER_REFLECT)
    share = smooth(*OVERHEAD, c.lat)[:, None].astype(np.float32)
    return ((1 - share) * band + share * above) / np.sqrt((1 - share) ** 2 + share**2)


HILLS = (
    # height deg, roughness deg, cell deg, colour, light
    (6.5, 3.4, 46, (0.56, 0.65, 0.73), 0.025),
    (4.6, 3.0, 34, (0.47, 0.56, 0.61), 0.045),
    (3.0, 2.6, 26, (0.43, 0.49, 0.42), 0.075),
    (1.2, 1.9, 20, (0.44, 0.47, 0.28), 0.10),
    (-0.9, 0.9, 14, (0.42, 0.47, 0.22), 0.12),
)


def paint_hills(c: Canvas) -> list[F32]:
    """Ridges from far to near; answers each ridge's latitude by longitude."""
    ridges = []
    for depth, (height, rough, cell, colour, light) in enumerate(HILLS):
        ridge = height + rough * c.line_noise(cell, 8)
        ridge += 0.02 * (depth + 1) * c.line_noise(0.5, 4)
        rows = c.rows(16, -9)
        below = ridge[None, :] - c.lat[rows][:, None]
        mask = np.clip(below * c.per_deg + 0.5, 0, 1).astype(np.float32)
        c.lay(mask, _slope_colour(c, rows, colour, light, depth), 0.25 + 0.15 * depth, rows)
        ridges.append(ridge)
        if depth >= 2:
            _paint_fields(c, ridge, depth)
    return ridges


def _slope_colour(c: Canvas, rows: slice, colour: tuple, light: float, depth: int) -> F32:
    relief = c.noise((9.0 / (1 + depth / 2), 2.6), 8)[rows]
    slope = np.gradient(relief, axis=1) * c.per_deg * 0.35
    fine = c.noise((0.7, 0.35), 5)[rows]
    patches = smooth(0.2, 1.1, c.noise((5.0, 1.1), 6)[rows])
    base = np.asarray(colour, np.float32) * np.ones((*relief.shape, 3), np.float32)
    heather = np.array([0.42, 0.33, 0.36], np.float32)
    base += (0.18 * depth * patches)[..., None] * (heather - base)
    bracken = smooth(0.4, 1.2, c.noise((3.0, 0.8), 6)[rows])
    base += (0.12 * depth * bracken)[..., None] * (np.array([0.56, 0.44, 0.22]) - base)
    shade = light * np.tanh(slope) + 0.45 * light * fine
    return np.clip(base + shade[..., None], 0.02, 1).astype(np.float32)


def _paint_fields(c: Canvas, ridge: F32, depth: int) -> None:
    """Drystone walls over a slope, and a few trees on it."""
    thick = (0.05, 0.07, 0.10)[depth - 2]
    for _ in range(26):
        lon = float(c.rng.uniform(-178, 176))
        top = float(np.interp(lon, c.lon, ridge)) - c.rng.uniform(0.2, 0.8)
        run = c.rng.uniform(-3, 3)
        points = [(lon + run * t + 0.15 * c.rng.standard_normal(), top - 4.5 * t)
                  for t in np.linspace(0, c.rng.uniform(0.3, 0.8), 9)]
        c.stroke(points, thick, (0.40, 0.40, 0.37))
        c.stroke([(x, y + thick * 0.6) for x, y in points], thick * 0.4, (0.56, 0.56, 0.52))
    for _ in range(10 + 18 * (depth - 2)):
        lon = float(c.rng.uniform(-179, 178))
        top = float(np.interp(lon, c.lon, ridge))
        _paint_tree(c, lon, top - c.rng.uniform(0.4, 1.6), 0.35 * (depth - 1))


def _paint_tree(c: Canvas, lon: float, lat: float, size: float) -> None:
    c.box(lon - 0.04 * size, lat, 0.08 * size, 0.5 * size, (0.22, 0.18, 0.13))
    for k in range(26):
        x = lon + size * c.rng.normal(0, 0.26)
        y = lat + size * (0.65 + c.rng.normal(0, 0.20))
        tone = 0.5 + 0.3 * (y - lat) / size + 0.12 * c.rng.standard_normal() + 0.004 * k
        green = tuple(float(np.clip(v * tone, 0, 1)) for v in (0.33, 0.44, 0.20))
        centre = tuple(round(v) for v in c.point(x, y))
        radius = max(1, round(size * 0.13 * c.per_deg * c.rng.uniform(0.6, 1.3)))
        cv2.circle(c.colour, centre, radius, green, -1)


def paint_tarn(c: Canvas, left: float, right: float, near: float) -> None:
    """Still water between two longitudes: what stands above it, mirrored and rippled."""
    rows = c.rows(SHORE + 0.6, near - 1)
    lat = c.lat[rows]
    middle, half = (left + right) / 2, (right - left) / 2
    bulge = np.sqrt(np.clip(1 - np.square((c.lon - middle) / half), 0, 1))
    upper = SHORE + 0.25 * c.line_noise(9, 6)
    lower = SHORE + (near - SHORE) * bulge + 0.35 * c.line_noise(7, 7) * np.sign(bulge)
    inside = np.minimum(upper[None] - lat[:, None], lat[:, None] - lower[None])
    mask = (np.clip(inside * c.per_deg * 0.6, 0, 1) * (bulge > 0)[None]).astype(np.float32)
    deep = ((SHORE - lat) / (SHORE - near))[:, None]
    ripple = c.noise((2.4, 0.16), 6)[rows]
    seen = SHORE + (SHORE - lat[:, None]) * 1.15 + ripple * (0.15 + 0.9 * np.clip(deep, 0, 1))
    grid_x = np.arange(c.width, dtype=np.float32)[None] + 0.02 * c.per_deg * ripple
    mirror = cv2.remap(
        c.colour, np.ascontiguousarray(grid_x, np.float32),
        ((c.high - seen) * c.per_deg).astype(np.float32), cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_REFLECT,
    )
    water = mirror * np.array([0.74, 0.80, 0.84]) + np.array([0.02, 0.03, 0.04])
    glint = smooth(1.1, 2.2, c.noise((1.6, 0.12), 6)[rows])
    water = water + (0.10 * glint + 0.015 * ripple)[..., None]
    c.lay(mask, np.clip(water, 0, 1).astype(np.float32), 0.25, rows)
    rim = np.exp(-np.square(inside * 3.0)) * (bulge > 0)[None] * (inside < 0)
    c.lay((0.55 * rim).astype(np.float32), (0.45, 0.42, 0.35), 0.7, rows)


def paint_meadow(c: Canvas, top: float) -> None:
    """Grass from a latitude down to the feet, coarser as it comes nearer."""
    rows = c.rows(top + 1.5, -90)
    lat = c.lat[rows]
    edge = top + 0.5 * c.line_noise(11, 7)
    mask = np.clip((edge[None] - lat[:, None]) * c.per_deg, 0, 1).astype(np.float32)
    near = np.clip((top - lat) / 30, 0, 1)[:, None]
    patch = c.noise((7, 2.5), 7)[rows]
    blades = c.noise((0.22, 0.5), 4)[rows]
    tufts = c.noise((0.9, 0.8), 5)[rows]
    dry = smooth(0.3, 1.5, patch)[..., None]
    fresh, straw = np.array([0.37, 0.44, 0.20]), np.array([0.55, 0.52, 0.30])
    colour = fresh + dry * (straw - fresh)
    tone = 1 + 0.07 * patch + (0.09 + 0.08 * near) * blades + (0.05 + 0.07 * near) * tufts
    c.lay(mask, np.clip(colour * tone[..., None], 0.02, 1).astype(np.float32), 1.0, rows)
    _scatter(c, top, 420, _stone)
    _scatter(c, top, 700, _flower)


def _scatter(c: Canvas, top: float, count: int, draw) -> None:
    depth = np.exp(c.rng.uniform(np.log(0.8), np.log(45), count))
    for d, lon in zip(np.sort(depth), c.rng.uniform(-180, 180, count), strict=True):
        lat = top - d
        if lat > c.low + 1:
            draw(c, float(lon), float(lat), float(0.05 + 0.035 * d))


def _stone(c: Canvas, lon: float, lat: float, size: float) -> None:
    tone = c.rng.uniform(0.42, 0.72)
    x, y = (round(v) for v in c.point(lon, lat))
    axes = (max(1, round(size * c.per_deg)), max(1, round(size * 0.55 * c.per_deg)))
    cv2.ellipse(c.colour, (x, y + axes[1] // 2), axes, 0, 0, 360, (0.16, 0.19, 0.09), -1)
    cv2.ellipse(c.colour, (x, y), axes, 0, 0, 360, (tone, tone * 0.98, tone * 0.92), -1)
    light = (x - axes[0] // 4, y - axes[1] // 3)
    cv2.ellipse(c.colour, light, (axes[0] // 2, axes[1] // 2), 0, 0, 360, (tone + 0.12,) * 3, -1)


def _flower(c: Canvas, lon: float, lat: float, size: float) -> None:
    colour = [(0.93, 0.80, 0.20), (0.93, 0.92, 0.88), (0.62, 0.42, 0.66)][c.rng.integers(3)]
    x, y = (round(v) for v in c.point(lon, lat))
    cv2.circle(c.colour, (x, y), max(1, round(0.18 * size * c.per_deg)), colour, -1)


def paint_wall(c: Canvas, left: float, right: float, foot: float, height: float) -> None:
    """A drystone wall along the foreground: courses of uneven stones over dark gaps."""
    lons = np.arange(left, right, 0.4)
    sag = 0.14 * height
    base = foot + sag * np.interp(lons, c.lon, c.line_noise(24, 3))
    outline = [*zip(lons, base + height, strict=True), *zip(lons[::-1], base[::-1], strict=True)]
    c.polygon([(float(a), float(b)) for a, b in outline], (0.17, 0.17, 0.15), 1.0)
    courses = 7
    for course in range(courses + 1):
        lon = left - c.rng.uniform(0, 0.5)
        while lon < right - 0.3:
            wide = height / courses * c.rng.uniform(0.9, 2.6)
            y = float(np.interp(lon, lons, base)) + height * course / courses
            tall = height / courses * c.rng.uniform(0.72, 0.98)
            if course == courses:
                tall, wide = tall * c.rng.uniform(1.0, 1.5), wide * 0.55
            _wall_stone(c, lon, y, min(wide * 0.94, right - lon), tall)
            lon += wide


def _wall_stone(c: Canvas, lon: float, lat: float, wide: float, tall: float) -> None:
    tone = c.rng.uniform(0.42, 0.68)
    warm = c.rng.uniform(-0.03, 0.04)
    colour = (tone + warm, tone, tone - warm * 1.2)
    j = lambda: c.rng.uniform(-0.10, 0.10)  # noqa: E731 (a corner's jitter, used eight times below)
    corners = [
        (lon + wide * (0.06 + j() / 2), lat + tall * (0.05 + j())),
        (lon + wide * (0.94 + j() / 2), lat + tall * (0.05 + j())),
        (lon + wide * (0.98 + j() / 2), lat + tall * (0.90 + j())),
        (lon + wide * (0.04 + j() / 2), lat + tall * (0.92 + j())),
    ]
    c.polygon(corners, colour, 1.0)
    lit = tuple(min(1.0, v + 0.10) for v in colour)
    c.stroke([corners[3], corners[2]], tall * 0.14, lit)
    for _ in range(3):
        x, y = lon + wide * c.rng.uniform(0.2, 0.8), lat + tall * c.rng.uniform(0.25, 0.75)
        spot = tuple(v + c.rng.uniform(-0.10, 0.09) for v in colour)
        centre = tuple(round(v) for v in c.point(x, y))
        cv2.circle(c.colour, centre, max(1, round(tall * 0.13 * c.per_deg)), spot, -1)
