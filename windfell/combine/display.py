"""Radiance beyond white shown on a screen: compressed locally, or fused of what each exposure shows best.

Both are a gain in log light that follows the picture's own edges: found on a small picture as a linear function of
the log luminance, smooth but for its edges (guided filter, He, Sun & Tang 2013), and applied at any size without
halos.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.channels import mean_of, most_of
from windfell.pixels.colour import luminance, srgb_decoded, srgb_encoded
from windfell.pixels.easing import eased
from windfell.pixels.pyramid import collapsed, gaussian, laplacian, max_levels

F32 = NDArray[np.float32]

LEAST_LIGHT = np.float32(1e-5)
RADIUS_SHARE, SMOOTHNESS = 1 / 14, 0.35
RANGE_EV, MIDDLE = 5.6, 0.19
LEAST_KEPT, MOST_MOVED = 0.1, 1.6
SHOULDER = np.float32(0.75)
WELL, WELL_SIGMA = 0.5, 0.2


@dataclass(frozen=True)
class ToneLook:
    """How far the broad light is compressed (1: to what a screen shows, 0: not), what is added to the detail, and
    how much highlights and shadows are raised, all as shares.
    """

    compression: float = 1.0
    detail: float = 0.0
    highlights: float = 0.0
    shadows: float = 0.0


PLAIN = ToneLook()


@dataclass(frozen=True)
class DisplayGain:
    """The gain in EV at each spot: `slope` times log2 of the luminance plus `offset`, (h, w) over the picture."""

    slope: F32
    offset: F32

    @property
    def nbytes(self) -> int:
        return 2 * self.slope.nbytes

    def shown(self, radiance: F32, x: F32, y: F32) -> F32:
        """Light for a screen of radiance (h, w, 3) at shares `x` (w,), `y` (h,) of the whole picture."""
        h, w = self.slope.shape
        where = np.stack(np.meshgrid(x * w - 0.5, y * h - 0.5), -1).astype(np.float32)
        slope, offset = (cv2.remap(v, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
                         for v in (self.slope, self.offset))
        gain = np.exp2(slope * _log(radiance) + offset)
        return shouldered(radiance * gain[..., None])


def _log(light: F32) -> F32:
    return np.log2(np.maximum(luminance(light), LEAST_LIGHT))


def shouldered(light: F32) -> F32:
    """Light bent below white where it nears it, its colour kept: 0.75 and less is as it was."""
    top = np.maximum(most_of(light), np.float32(1e-9))
    room = 1 - SHOULDER
    bent = np.where(top > SHOULDER, SHOULDER + room * (1 - np.exp(-(top - SHOULDER) / room)), top)
    return light * (bent / top)[..., None]


def _guided(guide: F32, target: F32) -> tuple[F32, F32]:
    """(slope, offset) of the smooth linear function of the guide that is nearest to a target."""
    radius = max(2, int(RADIUS_SHARE * max(guide.shape)))
    box = lambda v: cv2.blur(v, (2 * radius + 1,) * 2, borderType=cv2.BORDER_REFLECT)  # noqa: E731
    mean_g, mean_t = box(guide), box(target)
    slope = (box(guide * target) - mean_g * mean_t) / (box(guide * guide) - mean_g * mean_g + SMOOTHNESS)
    return box(slope), box(mean_t - slope * mean_g)


def tone_gain(radiance: F32, look: ToneLook = PLAIN) -> DisplayGain:
    """Local compression: the range of the broad light is brought to what a screen shows, detail kept as it is; both
    as far as `look` says.
    """
    light = _log(radiance)
    slope, offset = _guided(light, light)
    broad = slope * light + offset
    low, middle, high = (float(v) for v in np.percentile(broad, [1, 50, 99]))
    screen = min(1.0, RANGE_EV / max(high - low, 1e-3))
    keep = max(LEAST_KEPT, 1 + (screen - 1) * look.compression)
    # the middle at middle grey, but the brightest not far beyond white
    lift = min(np.log2(MIDDLE) - middle, 0.3 - (middle + screen * (high - middle)))
    finer = np.float32(keep - 1 - look.detail)
    gain = DisplayGain(finer * slope + np.float32(look.detail),
                       finer * offset - np.float32((keep - 1) * middle - lift))
    if not (look.highlights or look.shadows):
        return gain
    # the bright half of the broad light and its dark half moved, the more the farther from the middle
    bright = np.clip((broad - middle) / max(high - middle, 1e-3), 0, 1)
    dark = np.clip((middle - broad) / max(middle - low, 1e-3), 0, 1)
    moved = MOST_MOVED * (look.highlights * eased(bright) + look.shadows * eased(dark))
    more, base = _guided(light, moved.astype(np.float32))
    return DisplayGain(gain.slope + more, gain.offset + base)


def fusion_gain(radiance: F32, frames: Sequence[F32]) -> DisplayGain:
    """The gain that makes of the radiance what fusing the frames (h, w, 3) gives, by contrast, colour and how well
    they are exposed (Mertens, Kautz & Van Reeth 2007).
    """
    encoded = [srgb_encoded(np.clip(f, 0, 1)).astype(np.float32) for f in frames]
    weights = [_worth(e) for e in encoded]
    total = np.sum(weights, axis=0) + np.float32(1e-9)
    levels = max_levels(*encoded[0].shape[:2])
    sums = None
    for frame, weight in zip(encoded, weights, strict=True):
        share = gaussian((weight / total).astype(np.float32), levels)
        bands = [b * m[..., None] for b, m in zip(laplacian(frame, levels), share, strict=True)]
        sums = bands if sums is None else [a + b for a, b in zip(sums, bands, strict=True)]
    wanted = srgb_decoded(np.clip(collapsed(sums), 0, 1)).astype(np.float32)
    guide = _log(radiance)
    return DisplayGain(*_guided(guide, _log(wanted) - guide))


def _worth(encoded: F32) -> F32:
    grey = mean_of(encoded)
    contrast = np.abs(cv2.Laplacian(grey, cv2.CV_32F)) + np.float32(0.01)
    colour = encoded.std(axis=2) + np.float32(0.05)
    well = np.exp(-((encoded - WELL) ** 2) / (2 * WELL_SIGMA**2)).prod(axis=2)
    return contrast * colour * (well + np.float32(1e-4))
