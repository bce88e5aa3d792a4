"""ICC profiles: from a source's encoded values into the working space, and profiles to embed."""

from __future__ import annotations

import hashlib
from functools import lru_cache

import cv2
import imagecodecs
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import D65, SRGB, SRGB_TO_WORKING, WORKING, Space

F32 = NDArray[np.float32]


class Linearizer:
    """How one source encoding becomes working-space light: a curve a channel, then a matrix.

    Profiles that a curve and a matrix describe (nearly all photographs') take that
    way; for others `matrix` is None and the colour library does the whole step.
    """

    def __init__(self, key: str, curves: dict, matrix: NDArray | None, profile: bytes | None):
        self.key = key
        self.matrix = None if matrix is None else np.ascontiguousarray(matrix, np.float32)
        self._curves = curves
        self._profile = profile

    def light(self, encoded: NDArray) -> F32:
        """Linear light in the source's own primaries, float32 (h, w, 3).

        Takes uint8, uint16 or float32 pixels (h, w, 3). Where the profile is not a
        curve and a matrix it answers in the working space at once.
        """
        if self.matrix is None:
            return _through_library(encoded, self._profile)
        if encoded.dtype == np.float32:
            return encoded if self._curves["float"] is None else self._curves["float"](encoded)
        if encoded.dtype == np.uint8:
            return cv2.LUT(encoded, self._curves["u8"])
        table = self._curves["u16"]
        return np.stack([table[c][encoded[..., c]] for c in range(3)], axis=-1)

    def working(self, light: F32) -> F32:
        """Working-space pixels of what `light` returned."""
        return light if self.matrix is None else cv2.transform(light, self.matrix)

    def __call__(self, encoded: NDArray) -> F32:
        return self.working(self.light(encoded))


def _through_library(encoded: NDArray, profile: bytes | None) -> F32:
    out = imagecodecs.cms_transform(
        np.ascontiguousarray(encoded), profile, linear_profile(),
        colorspace="rgb", outcolorspace="rgb", outdtype="float32",
    )
    return np.ascontiguousarray(out)


@lru_cache(maxsize=1)
def linear_profile() -> bytes:
    """An ICC profile of the working space itself."""
    flat = [v for x, y in WORKING for v in (x, y, 1.0)]
    return imagecodecs.cms_profile(
        "rgb", primaries=flat, whitepoint=[*D65, 1.0], gamma=1.0
    )


@lru_cache(maxsize=8)
def icc_of(space: Space) -> bytes:
    """ICC profile bytes to embed in a file written in `space`."""
    flat = [v for x, y in space.primaries for v in (x, y, 1.0)]
    curve = space.decoded(np.linspace(0, 1, 1024))
    return imagecodecs.cms_profile(
        "rgb", primaries=flat, whitepoint=[*space.white, 1.0],
        transferfunction=np.rint(curve * 65535).astype(np.uint16),
    )


@lru_cache(maxsize=8)
def linear_icc_of(space: Space) -> bytes:
    """ICC profile bytes for a file that holds linear light with a space's primaries."""
    flat = [v for x, y in space.primaries for v in (x, y, 1.0)]
    return imagecodecs.cms_profile("rgb", primaries=flat, whitepoint=[*space.white, 1.0], gamma=1.0)


def profile_of(path: str) -> bytes:
    """An ICC profile for RGB, read from a file. Raises ValueError, in a sentence's end, for what is none."""
    try:
        with open(path, "rb") as file:
            data = file.read(64 * 2**20)
    except OSError as error:
        raise ValueError(f"it cannot be read ({error.strerror or error})") from error
    if data[36:40] != b"acsp":
        raise ValueError("it is no ICC profile")
    if data[16:20] != b"RGB ":
        kind = data[16:20].decode("ascii", "replace").strip()
        raise ValueError(f"it is for {kind}, and pictures are written as RGB")
    try:
        into_profile(np.zeros((1, 1, 3), np.float32), data, "relative", 8)
    except (RuntimeError, ValueError) as error:
        raise ValueError(f"it cannot be written to ({error})") from error
    return data


INTENTS = {"perceptual": 0, "relative": 1, "saturation": 2, "absolute": 3}


def into_profile(light: F32, profile: bytes, intent: str, depth: int) -> NDArray:
    """Working-space light (h, w, 3) as encoded values of a profile, uint8 or uint16, by a rendering intent."""
    return imagecodecs.cms_transform(
        np.ascontiguousarray(np.clip(light, 0, 1), np.float32), linear_profile(), profile, colorspace="rgb",
        outcolorspace="rgb", outdtype="uint8" if depth == 8 else "uint16", intent=INTENTS[intent])


@lru_cache(maxsize=32)
def linearizer(profile: bytes | None, is_float: bool = False) -> Linearizer:
    """The way into the working space for sources carrying this ICC profile.

    Without one: sRGB for integers, linear light with sRGB's primaries for floats.
    A profile that cannot be used raises ValueError.
    """
    if profile is None:
        curve = SRGB.decoded
        tables = _tables([curve] * 3)
        tables["float"] = None if is_float else _float_curve([curve] * 3)
        return Linearizer("linear-srgb" if is_float else "srgb", tables, SRGB_TO_WORKING, None)
    try:
        return _from_grey_icc(profile) if profile[16:20] == b"GRAY" else _from_icc(profile)
    except (RuntimeError, ValueError) as error:
        raise ValueError(f"its colour profile cannot be used ({error})") from error


@lru_cache(maxsize=64)
def linear_steps(step: float) -> Linearizer:
    """The way into the working space for uint16 that counts working-space light; 65535 is `step`."""
    u16 = np.broadcast_to((np.arange(65536) * (step / 65535.0)).astype(np.float32), (3, 65536))
    return Linearizer(f"steps-{step:.6f}", {"u16": u16, "float": None}, np.eye(3), None)


@lru_cache(maxsize=1)
def working_light() -> Linearizer:
    """The way of float32 pixels that are working-space light already."""
    return Linearizer("working", {"float": None}, np.eye(3), None)


def _from_grey_icc(profile: bytes) -> Linearizer:
    codes = np.rint(np.linspace(0, 1, 4096) * 65535).astype(np.uint16)
    answer = imagecodecs.cms_transform(
        codes.reshape(1, -1), profile, linear_profile(),
        colorspace="gray", outcolorspace="rgb", outdtype="float32",
    )[0].mean(axis=-1).astype(np.float64)
    curve = lambda v: np.interp(v, codes / 65535.0, answer)  # noqa: E731
    tables = _tables([curve] * 3)
    tables["float"] = _float_curve([curve] * 3)
    return Linearizer("grey-" + hashlib.sha256(profile).hexdigest()[:16], tables, np.eye(3), None)


def _from_icc(profile: bytes) -> Linearizer:
    key = "icc-" + hashlib.sha256(profile).hexdigest()[:16]
    ramp = np.linspace(0, 1, 4096)
    codes = np.rint(ramp * 65535).astype(np.uint16)
    matrix = np.zeros((3, 3))
    curves = []
    for c in range(3):
        strip = np.zeros((1, ramp.size, 3), np.uint16)
        strip[0, :, c] = codes
        answer = _through_library(strip, profile)[0].astype(np.float64)
        matrix[:, c] = answer[-1] - answer[0]
        strongest = int(np.argmax(np.abs(matrix[:, c])))
        span = matrix[strongest, c]
        response = (answer[:, strongest] - answer[0, strongest]) / span if span else ramp
        curves.append(lambda v, x=codes / 65535.0, y=response: np.interp(v, x, y))
    tables = _tables(curves)
    tables["float"] = _float_curve(curves)
    simple = Linearizer(key, tables, matrix, None)
    probe = np.random.default_rng(5).integers(0, 65536, (1, 400, 3)).astype(np.uint16)
    if np.max(np.abs(simple(probe) - _through_library(probe, profile))) < 2e-3:
        return simple
    return Linearizer(key, {}, None, profile)


def _tables(curves: list) -> dict:
    u8 = np.stack([c(np.arange(256) / 255.0) for c in curves], -1)
    u16 = np.stack([c(np.arange(65536) / 65535.0) for c in curves])
    return {"u8": u8.astype(np.float32).reshape(1, 256, 3), "u16": u16.astype(np.float32)}


def _float_curve(curves: list):
    return lambda v: np.stack([c(v[..., n]) for n, c in enumerate(curves)], -1).astype(np.float32)
