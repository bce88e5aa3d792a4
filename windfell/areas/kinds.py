"""The kinds of parts an area is made of: each a function from a part to its share of every spot, in one table."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.areas.growing import grown_share
from windfell.areas.look import Look
from windfell.areas.paths import Path, along_path, flat_at, inside
from windfell.areas.spots import Spots
from windfell.pixels.colour import lightness
from windfell.pixels.easing import eased
from windfell.recipe.areas import Ellipse, Found, Gradient, Grown, Part, Patch, Range, Read, Stroke

F32 = NDArray[np.float32]
Array = NDArray[np.float64]

THIN = 0.25


def stroke_share(part: Stroke, spots: Spots, look: Look | None) -> F32:
    """Full within the brush, passing over towards its rim."""
    ground, soft = spots.ground, part.softness_pct / 100
    points = ground.points(np.array(part.points, float).reshape(-1, 2))
    if not len(points):
        return np.zeros(spots.shape, np.float32)
    pressure = np.array(part.pressure, float) if len(part.pressure) == len(points) else np.ones(len(points))
    wide = np.clip(pressure, 0, 1) * part.size / 2 * ground.unit
    path = Path.through(ground, points, wide).thinned(THIN * spots.finest)

    def share(far: F32, width: F32, px: F32) -> F32:
        over = np.maximum(np.float32(soft) * width, px)
        # a hard rim passes over within its px, half of it outside
        return eased((width + np.float32(0.5 * (1 - soft)) * px - far) / over)

    return spots.blocks.picture(along_path(spots.blocks, path, 0.0, share), spots.shape)


def patch_share(part: Patch, spots: Spots, look: Look | None) -> F32:
    """Full inside, passing over across the outline."""
    ground, blocks = spots.ground, spots.blocks
    points = ground.points(np.array(part.corners, float).reshape(-1, 2))
    if len(points) < 3:
        return np.zeros(spots.shape, np.float32)
    soft = np.float32(part.softness * ground.unit)
    path = Path.through(ground, points, np.zeros(len(points)), closed=True)
    middle = points.mean(axis=0)
    if ground.axes == 3:
        middle = middle / max(np.linalg.norm(middle), 1e-9)
    corners = flat_at(ground, middle, path.a)
    unseen = np.float32(-1e9)
    far = -along_path(blocks, path, float(soft) / 2, lambda d, w, px: -d, unseen)
    out = np.repeat(inside(flat_at(ground, middle, blocks.middle), corners)[:, None], far.shape[1], axis=1)
    at = np.flatnonzero((far < -unseen).any(axis=1))
    flat = flat_at(ground, middle, blocks.points[at].reshape(-1, blocks.points.shape[2]))
    within = inside(flat, corners).reshape(len(at), -1)
    result = out.astype(np.float32)
    over = np.maximum(soft, blocks.px[at][:, None])
    result[at] = eased(0.5 + np.where(within, far[at], -far[at]) / over)
    return blocks.picture(result, spots.shape)


def gradient_share(part: Gradient, spots: Spots, look: Look | None) -> F32:
    """1 up to the first line, 0 from the second on."""
    ground = spots.ground
    a, b = ground.points(np.array([part.start, part.end], float))
    if ground.axes == 3:
        length = float(np.arccos(np.clip(a @ b, -1, 1)))
        across = b - (a @ b) * a
        across = across / max(np.linalg.norm(across), 1e-9)
        along = np.arctan2(spots.at @ across.astype(np.float32), spots.at @ a.astype(np.float32))
    else:
        length = float(np.linalg.norm(b - a))
        along = (spots.at - a.astype(np.float32)) @ ((b - a) / max(length, 1e-9)).astype(np.float32)
    return eased(1 - np.nan_to_num(along) / np.float32(max(length, spots.finest)))


def ellipse_share(part: Ellipse, spots: Spots, look: Look | None) -> F32:
    """Full within, passing over towards the rim."""
    ground = spots.ground
    middle = ground.points(np.array([part.middle], float))[0]
    flat = flat_at(ground, middle, spots.at)
    turn = np.radians(part.turn_deg)
    c, s = np.float32(np.cos(turn)), np.float32(np.sin(turn))
    x, y = flat[..., 0], flat[..., 1]
    half = np.array([part.across, part.down], np.float32) / 2 * np.float32(ground.unit)
    q = np.hypot((c * x + s * y) / half[0], (c * y - s * x) / half[1])
    soft, px = np.float32(part.softness_pct / 100), np.float32(spots.finest) / half.min()
    rim = 1 + (1 - soft) * px / 2
    return eased((rim - np.nan_to_num(q, nan=9.0)) / np.maximum(soft, px))


def range_share(part: Range, spots: Spots, look: Look | None) -> F32:
    """1 where the picture lies between the values, passing over beyond them."""
    if look is None:
        return np.ones(spots.shape, np.float32)
    soft = np.float32(max(part.softness, 0.05))
    light = np.clip(look.light(), 0, None)
    if part.of is Read.BRIGHTNESS:
        value = lightness(light)
        return eased(1 + (value - part.low) / soft) * eased(1 + (part.high - value) / soft)
    hsv = cv2.cvtColor(np.sqrt(light), cv2.COLOR_RGB2HSV)
    span = (part.high - part.low) % 360 if part.high != part.low + 360 else 360.0
    off = (hsv[..., 0] - np.float32(part.low + span / 2) + 180) % 360 - 180
    # grey has no hue
    coloured = eased(hsv[..., 1] / np.float32(0.12))
    return eased(1 + (span / 2 - np.abs(off)) / soft) * coloured


def found_share(part: Found, spots: Spots, look: Look | None) -> F32:
    """A mask as it lies on the ground."""
    known = look and look.mask(part.name)
    if not known:
        return np.zeros(spots.shape, np.float32)
    mask, place = known
    where = np.nan_to_num(place(spots.at), nan=-9.0).astype(np.float32)
    seen = cv2.remap(mask, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    return seen.astype(np.float32) / np.float32(255)


KINDS: dict[type, Callable[[Part, Spots, Look | None], F32]] = {
    Stroke: stroke_share, Patch: patch_share, Gradient: gradient_share, Ellipse: ellipse_share, Range: range_share,
    Grown: grown_share, Found: found_share}
