"""Dust on the sensor: soft dark spots at the same place of all frames, evened out by what they take of the light."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import srgb_decoded
from windfell.pixels.sheet import ChangedSheet, Sheet

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]

SIDE = 1400
LEAST_FRAMES = 4
WIDE, FINE = 14.0, 1.3
# so that the noise of black counts little
FOOT = 0.004
LIGHT = np.log(srgb_decoded(np.arange(256) / 255.0) + FOOT).astype(np.float32)
MOST = np.float32(0.6)
SIZES = (2.0, 4.0, 7.0)
LEAST_DEPTH, LEAST_NOISE, SURE, AROUND = 0.012, 0.002, 4.0, 81
LEAST_PX, MOST_PX = 7, 2200
ROUND, LONGISH = 0.5, 1.9
RIM = 4
DARKEST = 0.35


@dataclass(frozen=True)
class Dust:
    """How much light is left at each spot of a frame, (h, w) 255 for all, and where the specks are: (x, y, radius) as
    shares of the width.
    """

    left: U8
    specks: tuple[tuple[float, float, float], ...]


def found_dust(greys: Sequence[U8]) -> Dust:
    """Dust in frames, encoded grey (h, w) of one size, of a camera that moved between them: what is darker than its
    surroundings at the same place of nearly all, and round; at several sizes, so that texture averages out.
    """
    logs = [_log_light(g) for g in greys]
    dark = np.zeros(greys[0].shape, np.uint8)
    for size in SIZES:
        spots = np.stack([cv2.GaussianBlur(g, (0, 0), size) - cv2.GaussianBlur(g, (0, 0), 3 * size) for g in logs])
        np.clip(spots, -MOST, MOST, out=spots)
        middle = np.median(spots, axis=0)
        # what spots of that size are anyway around there: of so few frames some agree by chance
        usual = cv2.blur(1.4826 * np.median(np.abs(spots), axis=0), (AROUND, AROUND))
        noise = 1.25 * usual / np.sqrt(len(spots)) + LEAST_NOISE
        nearly_all = np.quantile(spots, 0.8, axis=0) < 0.3 * middle
        dark |= ((middle < -LEAST_DEPTH) & (-middle > SURE * noise) & nearly_all).astype(np.uint8)
    if not dark.any():
        return Dust(np.full(dark.shape, 255, np.uint8), ())
    # against what is around them, themselves left aside
    free = (cv2.dilate(dark, np.ones((2 * RIM + 1, 2 * RIM + 1), np.uint8)) == 0).astype(np.float32)
    known = np.maximum(cv2.GaussianBlur(free, (0, 0), WIDE), np.float32(1e-3))
    relief = np.median([g - cv2.GaussianBlur(g * free, (0, 0), WIDE) / known for g in logs], axis=0)
    return _dust(dark, relief)


def _dust(dark: U8, relief: F32) -> Dust:
    """The round ones among dark spots (h, w), and what they leave of the light, by what all frames share."""
    soft = cv2.GaussianBlur(relief.astype(np.float32), (0, 0), FINE)
    count, labels, stats, centres = cv2.connectedComponentsWithStats(dark, connectivity=8)
    left, specks, wide = np.ones(soft.shape, np.float32), [], soft.shape[1]
    for n in range(1, count):
        _, _, w, h, area = stats[n]
        if not LEAST_PX <= area <= MOST_PX or area < ROUND * w * h or max(w, h) > LONGISH * min(w, h):
            continue
        reach = 2 * max(RIM, round(0.6 * max(w, h))) + 1
        around = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (reach, reach))
        near = cv2.dilate((labels == n).astype(np.uint8), around) > 0
        rim = cv2.dilate(near.astype(np.uint8), np.ones((7, 7), np.uint8)).astype(bool) & ~near
        left[near] = np.minimum(left[near], np.exp(np.minimum(soft[near] - np.median(soft[rim]), 0)))
        x, y = centres[n]
        specks.append((float(x) / wide, float(y) / wide, float(np.sqrt(area / np.pi)) / wide))
    return Dust(np.rint(255 * np.clip(left, DARKEST, 1)).astype(np.uint8), tuple(specks))


def _log_light(grey: U8) -> F32:
    return LIGHT[grey]


class DustlessSheet(ChangedSheet):
    """A frame's light without what dust took of it. `left` (h, w), at any size: the share that it left, 255 all."""

    def __init__(self, sheet: Sheet | ChangedSheet, left: U8) -> None:
        super().__init__(sheet)
        self._left = left
        rows, columns = np.flatnonzero((left < 255).any(axis=1)), np.flatnonzero((left < 255).any(axis=0))
        high, wide = left.shape
        # (left, top, right, bottom) of all specks, as shares
        self._where = None if not len(rows) else (
            columns[0] / wide, rows[0] / high, (columns[-1] + 1) / wide, (rows[-1] + 1) / high)

    def light(self, left: int, top: int, right: int, bottom: int) -> F32:
        light = self._sheet.light(left, top, right, bottom)
        if self._where is None or light.size == 0:
            return light
        w, h = self.width, self.height
        a, b, c, d = self._where
        if right < a * w - 2 or left > c * w + 2 or bottom < b * h - 2 or top > d * h + 2:
            return light
        high, wide = self._left.shape
        x = ((np.arange(left, right) + 0.5) * wide / w - 0.5).astype(np.float32)
        y = ((np.arange(top, bottom) + 0.5) * high / h - 0.5).astype(np.float32)
        share = cv2.remap(self._left, *np.meshgrid(x, y), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        # in floats, so that steps of 1/255 do not show in a sky
        if (share < 255).any():
            share = cv2.GaussianBlur(share.astype(np.float32), (0, 0), max(0.5, 0.7 * w / wide))
            light = light * (np.float32(255) / np.maximum(share, 1))[..., None]
        return light
