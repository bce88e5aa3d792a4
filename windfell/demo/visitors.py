"""Visitors on the green: people drawn into a frame, with their shadows, and where they stand."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]


@dataclass(frozen=True)
class Visitor:
    """A person whose feet stand at (x, y) px; `tall` px; `stride` -1..1; colours 0..1."""

    x: float
    y: float
    tall: float
    stride: float
    coat: tuple[float, float, float]
    legs: tuple[float, float, float]


def draw_visitor(
    scene: F32, mask: NDArray[np.uint8], who: Visitor
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Draw into `scene` (sRGB-encoded float32) and mark body and shadow in `mask` with 255; where each of them is."""
    shadow = np.zeros(scene.shape[:2], np.float32)
    for part in _body(who):
        foot = np.array([who.x, who.y])
        flat = (part - foot) * [1.0, 0.28] * [1, -1]
        flat[:, 0] += -1.5 * flat[:, 1]
        _fill(shadow, foot + flat, 1.0)
    shadow = cv2.GaussianBlur(shadow, (0, 0), max(0.6, who.tall / 90))
    scene *= (1 - 0.52 * shadow)[..., None]
    body = np.zeros(scene.shape[:2], np.float32)
    colours = [who.legs, who.legs, who.coat, who.coat, (0.80, 0.62, 0.50), (0.28, 0.20, 0.14)]
    for part, colour in zip(_body(who), colours, strict=True):
        _fill(scene, part, colour)
        _fill(body, part, 1.0)
    mask[(shadow > 0.03) | (body > 0)] = 255
    return body > 0, shadow > 0.03


def _body(who: Visitor) -> list[NDArray]:
    """Outlines in px: two legs, coat, arm, head, hair."""
    t = who.tall
    swing = 0.10 * who.stride

    def at(*points: tuple[float, float]) -> NDArray:
        return np.array([(who.x + t * px, who.y - t * py) for px, py in points])

    head = [(0.058 * np.cos(a), 0.915 + 0.072 * np.sin(a)) for a in np.linspace(0, 6.28, 20)]
    hair = [(0.062 * np.cos(a), 0.935 + 0.068 * np.sin(a)) for a in np.linspace(0, 3.14, 12)]
    return [
        at((-0.07, 0.50), (0.0, 0.50), (swing - 0.01, 0.0), (swing - 0.09, 0.0)),
        at((0.0, 0.50), (0.07, 0.50), (0.07 - swing, 0.0), (-0.01 - swing, 0.0)),
        at((-0.09, 0.44), (0.09, 0.44), (0.11, 0.80), (0.04, 0.85), (-0.04, 0.85), (-0.11, 0.80)),
        at((0.07, 0.80), (0.12, 0.80), (0.13 + swing, 0.50), (0.08 + swing, 0.50)),
        at(*head),
        at(*hair),
    ]


def _fill(target: NDArray, corners: NDArray, value) -> None:
    points = np.rint(corners * 16).astype(np.int32)
    scalar = (float(value),) if np.isscalar(value) else tuple(float(v) for v in value)
    cv2.fillPoly(target, [points], scalar, cv2.LINE_8, 4)


def passers_by(
    frames: int, width: int, height: int, horizon: float, rng: np.random.Generator
) -> list[list[Visitor]]:
    """For each frame its visitors: each crosses the green on a path of its own.

    In any spot a visitor stands in at most a third of the frames.
    """
    coats = [(0.70, 0.20, 0.18), (0.16, 0.40, 0.56), (0.86, 0.64, 0.12), (0.46, 0.28, 0.54),
             (0.86, 0.84, 0.80), (0.22, 0.42, 0.26)]
    paths = []
    for k, coat in enumerate(coats):
        depth = 0.16 + 0.62 * (k + 0.5) / len(coats)
        start, way = rng.uniform(0.05, 0.30), rng.choice([-1, 1])
        paths.append((depth, start, way, coat))
    shots = []
    for n in range(frames):
        people = []
        for k, (depth, start, way, coat) in enumerate(paths):
            along = start + 0.66 * n / max(1, frames - 1)
            x = along if way > 0 else 1 - along
            foot = horizon + (height - horizon) * depth
            tall = 0.09 * height + 0.52 * (foot - horizon)
            stride = 1.0 if (n + k) % 2 else -0.8
            people.append(Visitor(x * width, foot, tall, stride * way, coat, (0.18, 0.20, 0.26)))
        shots.append(people)
    return shots
