"""A night above hills and a house: two rows of the sky, the land a silhouette, and a row of the same land by day."""

from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np

from tests.support import drawn
from windfell.demo.canvas import Canvas
from windfell.demo.photograph import Photographer
from windfell.demo.truth import START, write_shots
from windfell.demo.turned import TurnPlan, turned_shots
from windfell.job import Job

WIDE, LOW, HIGH, STARS = 3600, -40, 62, 5000
PLANS = {
    "sky": TurnPlan((33.0, 12.0), (3, 3), 56.0, 600, 400, 580.0, 1.0, -0.01, 0.15, 0.08, 0.0, 0.006, -5.0, 3),
    "land": TurnPlan((2.0,), (3,), 56.0, 600, 400, 580.0, 1.0, -0.01, 0.10, 0.05, 0.0, 0.003, -5.0, 4),
}


@lru_cache(maxsize=2)
def painted(night: bool) -> Canvas:
    c, rng = Canvas(WIDE, LOW, HIGH, 5), np.random.default_rng(9)
    lon, lat = np.meshgrid(c.lon, c.lat)
    skyline = 3 + 1.5 * np.sin(np.radians(lon * 4)) + 0.8 * np.sin(np.radians(lon * 11 + 20))
    skyline = np.where(np.abs(lon + 6) < 3, skyline + 2.5 - np.abs(lon + 6) * 0.8, skyline)
    texture = c.noise((3, 2), 7)[..., None] * np.array([0.05, 0.06, 0.03])
    sky = np.zeros_like(c.colour)
    if night:
        band = np.exp(-(((lat - 28 - 0.35 * lon) / 9) ** 2))
        sky[:] = (0.035, 0.04, 0.07)
        sky += band[..., None] * np.array([0.1, 0.09, 0.1]) * (1 + 0.35 * c.noise((4, 3), 6)[..., None]).clip(0, 2)
        for x, y, v in zip(rng.uniform(0, c.width, STARS), rng.uniform(0, c.height, STARS),
                           rng.pareto(1.6, STARS) * 0.1 + 0.12, strict=True):
            light = [float(min(v * k, 1)) for k in (1, 0.97, 0.9)]
            cv2.circle(sky, (int(x * 16), int(y * 16)), int(12 * (0.8 + 0.5 * min(v, 2))), light, -1, cv2.LINE_AA, 4)
        glow = np.exp(-((lat - skyline) / 5) ** 2) * np.exp(-(((lon + 6) / 14) ** 2))
        sky += glow[..., None] * np.array([0.3, 0.2, 0.08])
        land = np.array([0.02, 0.022, 0.02]) + texture * 0.15
    else:
        sky[:] = np.array([0.45, 0.5, 0.62]) - 0.002 * lat[..., None]
        land = np.array([0.34, 0.36, 0.22]) + texture * 3
    c.colour[:] = np.where((lat < skyline)[..., None], land, sky).clip(0, 1)
    return c


def rows_of(name: str) -> Path:
    """A folder of the frames of the "sky" or the "land", and their truth."""
    def draw(folder: Path) -> None:
        folder.mkdir(parents=True)
        write_shots(folder, Photographer(painted(name == "sky")), turned_shots(PLANS[name]), name, START, Job())

    return drawn(f"job-night-{name}", draw)
