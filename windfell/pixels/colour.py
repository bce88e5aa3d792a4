"""Colour spaces by their primaries, transfer curves, and the working space.

The working space is linear light with the primaries of ITU-R BT.2020 and white D65:
float32, 1.0 is the white of an encoded source; values above 1 and below 0 are kept.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]

D65, D50 = (0.3127, 0.3290), (0.3457, 0.3585)
BT709 = ((0.640, 0.330), (0.300, 0.600), (0.150, 0.060))
BT2020 = ((0.708, 0.292), (0.170, 0.797), (0.131, 0.046))
DCI_P3 = ((0.680, 0.320), (0.265, 0.690), (0.150, 0.060))
ROMM_PRIMARIES = ((0.7347, 0.2653), (0.1596, 0.8404), (0.0366, 0.0001))
ROMM_TOE = 16 ** (1.8 / (1 - 1.8))
OPRGB_PRIMARIES = ((0.640, 0.330), (0.210, 0.710), (0.150, 0.060))
BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])


def rgb_to_xyz(primaries: tuple, white: tuple = D65) -> NDArray[np.float64]:
    """The (3, 3) matrix from linear RGB to CIE XYZ (SMPTE RP 177-1993)."""
    def xyz(c: tuple) -> list[float]:
        return [c[0] / c[1], 1.0, (1 - c[0] - c[1]) / c[1]]

    p = np.array([xyz(c) for c in primaries]).T
    return p * np.linalg.solve(p, np.array(xyz(white)))


def adapted(white: tuple, to: tuple) -> NDArray[np.float64]:
    """(3, 3) that takes XYZ seen under one white to XYZ under another (linear Bradford, ICC.1:2022 annex E)."""
    xyz = [np.array([w[0] / w[1], 1.0, (1 - w[0] - w[1]) / w[1]]) for w in (white, to)]
    one, other = (BRADFORD @ v for v in xyz)
    return np.linalg.solve(BRADFORD, np.diag(other / one) @ BRADFORD)


def romm_encoded(v: NDArray) -> NDArray:
    """ROMM RGB encoded values of linear light (ISO 22028-2)."""
    v = np.asarray(v)
    return np.where(v < ROMM_TOE, 16 * v, np.maximum(v, ROMM_TOE) ** (1 / 1.8))


def romm_decoded(v: NDArray) -> NDArray:
    """Linear light of ROMM RGB encoded values."""
    v = np.asarray(v)
    return np.where(v < 16 * ROMM_TOE, v / 16, np.maximum(v, 16 * ROMM_TOE) ** 1.8)


def oprgb_encoded(v: NDArray) -> NDArray:
    """opRGB encoded values of linear light (IEC 61966-2-5)."""
    return np.maximum(v, 0) ** (256 / 563)


def oprgb_decoded(v: NDArray) -> NDArray:
    """Linear light of opRGB encoded values."""
    return np.maximum(v, 0) ** (563 / 256)


def srgb_decoded(v: NDArray) -> NDArray:
    """Linear light of sRGB-encoded values (IEC 61966-2-1)."""
    v = np.asarray(v)
    return np.where(v <= 0.04045, v / 12.92, ((np.maximum(v, 0) + 0.055) / 1.055) ** 2.4)


def srgb_encoded(v: NDArray) -> NDArray:
    """sRGB-encoded values of linear light (IEC 61966-2-1)."""
    v = np.asarray(v)
    return np.where(v <= 0.0031308, v * 12.92, 1.055 * np.maximum(v, 0.0031308) ** (1 / 2.4) - 0.055)


def bt2020_encoded(v: NDArray) -> NDArray:
    """BT.2020 encoded values of linear light (ITU-R BT.2020, table 4)."""
    v = np.asarray(v)
    return np.where(v < 0.0180540, 4.5 * v, 1.0992968 * np.maximum(v, 0.018) ** 0.45 - 0.0992968)


def bt2020_decoded(v: NDArray) -> NDArray:
    """Linear light of BT.2020 encoded values."""
    v = np.asarray(v)
    return np.where(v < 0.0812428, v / 4.5, ((np.maximum(v, 0) + 0.0992968) / 1.0992968) ** (1 / 0.45))


@dataclass(frozen=True)
class Space:
    """An RGB space: its primaries, its transfer curve both ways, its white."""

    name: str
    title: str
    primaries: tuple
    encoded: Callable[[NDArray], NDArray]
    decoded: Callable[[NDArray], NDArray]
    white: tuple = D65

    def matrix_from(self, primaries: tuple) -> NDArray[np.float64]:
        """(3, 3) from linear RGB of other primaries, white D65, into this space's linear RGB."""
        seen = adapted(D65, self.white) @ rgb_to_xyz(primaries)
        return np.linalg.solve(rgb_to_xyz(self.primaries, self.white), seen)


SRGB = Space("srgb", "sRGB", BT709, srgb_encoded, srgb_decoded)
DISPLAY_P3 = Space("display-p3", "Display P3", DCI_P3, srgb_encoded, srgb_decoded)
REC2020 = Space("rec2020", "BT.2020", BT2020, bt2020_encoded, bt2020_decoded)
ROMM = Space("romm", "ROMM RGB", ROMM_PRIMARIES, romm_encoded, romm_decoded, D50)
OPRGB = Space("oprgb", "opRGB", OPRGB_PRIMARIES, oprgb_encoded, oprgb_decoded)
SPACES = {s.name: s for s in (SRGB, DISPLAY_P3, REC2020, ROMM, OPRGB)}

WORKING = BT2020
SRGB_TO_WORKING = np.linalg.solve(rgb_to_xyz(WORKING), rgb_to_xyz(BT709))
LUMINANCE = rgb_to_xyz(WORKING)[1].astype(np.float32)


def luminance(linear: F32) -> F32:
    """Relative luminance Y (h, w) of working-space pixels (h, w, 3)."""
    return cv2.transform(linear, LUMINANCE[None])


def lightness(linear: F32) -> F32:
    """CIE 1976 L* (h, w), 0..100 and beyond, of working-space pixels (h, w, 3)."""
    y = np.maximum(luminance(np.ascontiguousarray(linear, np.float32)), 0)
    return np.where(y > np.float32(216 / 24389), 116 * np.cbrt(y) - 16, np.float32(24389 / 27) * y).astype(np.float32)


class Encoder:
    """Turns working-space pixels into an encoded space as uint8, uint16 or float32.

    Integer output goes through a table over the square root of the light, whose
    65,536 steps are about as fine as those of 16-bit output everywhere. `dither`: 8-bit values are spread by
    less than a step, so that soft slopes show no bands.
    """

    def __init__(self, space: Space, depth: int, dither: bool = False) -> None:
        self._matrix = space.matrix_from(WORKING).astype(np.float32)
        self._space = space
        self._depth = depth
        self._dither = dither and depth == 8
        if depth != 32:
            depth = 16 if self._dither else depth
            top = 2**depth - 1
            light = np.minimum((np.arange(65536) + 0.5) / 65535.0, 1.0) ** 2
            code = np.clip(np.rint(space.encoded(light) * top), 0, top)
            self._table = code.astype(np.uint8 if depth == 8 else np.uint16)

    def __call__(self, linear: F32) -> NDArray:
        """Encoded pixels (h, w, 3) of working-space pixels (h, w, 3), clipped to 0..1."""
        own = cv2.transform(linear, self._matrix)
        if self._depth == 32:
            return self._space.encoded(own).astype(np.float32)
        np.clip(own, 0.0, 1.0, out=own)
        cv2.sqrt(own, dst=own)
        own *= np.float32(65535.0)
        found = self._table[own.astype(np.uint16)]
        return dithered(found) if self._dither else found


STEPS = 257
DITHER_SIDE = 256


def dithered(codes: NDArray[np.uint16]) -> NDArray[np.uint8]:
    """8-bit values (h, w, 3) whose mean over a few px is that of 16-bit ones."""
    h, w = codes.shape[:2]
    noise = np.random.default_rng(8).integers(0, STEPS, (DITHER_SIDE, DITHER_SIDE, 3), np.uint32)
    noise = np.tile(noise, (-(-h // DITHER_SIDE), -(-w // DITHER_SIDE), 1))[:h, :w]
    return ((codes + noise) // STEPS).astype(np.uint8)


def to_view(linear: F32) -> NDArray[np.uint8]:
    """sRGB uint8 (h, w, 3) for a screen, of working-space pixels."""
    return _VIEW(linear)


def from_view(pixels: NDArray[np.uint8]) -> F32:
    """Working-space light (h, w, 3) of sRGB uint8 (h, w, 3) that a screen shows."""
    return cv2.transform(cv2.LUT(pixels, _SHOWN_LIGHT), _FROM_SRGB)


def perceptual(linear: F32) -> F32:
    """sRGB-encoded float32 0..1 (h, w, 3): differences in it follow the eye."""
    return to_view(linear).astype(np.float32) / np.float32(255.0)


_VIEW = Encoder(SRGB, 8)
_SHOWN_LIGHT = srgb_decoded(np.arange(256) / 255).astype(np.float32)
_FROM_SRGB = SRGB_TO_WORKING.astype(np.float32)
