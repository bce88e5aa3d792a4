"""White balance: from the colour of a light to the matrix that makes it neutral, and back."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from windfell.pixels.colour import D65, WORKING, rgb_to_xyz

Array = NDArray[np.float64]

AS_SHOT_K = 6504.0
DUV_OF_D65 = 0.00324
TINT_STEP = 1 / 3000
NORM = 1.5
BRADFORD = np.array([
    [0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296],
])
TO_XYZ = rgb_to_xyz(WORKING)


def mired(temperature_k: float) -> float:
    """Reciprocal megakelvin, in which steps of equal size look about equal."""
    return 1e6 / temperature_k


def planckian_uv(temperature_k: Array | float) -> Array:
    """CIE 1960 (u, v) of a black body, (..., 2) (Krystek 1985; within 1e-4 from 1,000 to 15,000 K)."""
    t = np.asarray(temperature_k, float)
    u = (0.860117757 + 1.54118254e-4 * t + 1.28641212e-7 * t * t) / (
        1 + 8.42420235e-4 * t + 7.08145163e-7 * t * t)
    v = (0.317398726 + 4.22806245e-5 * t + 4.20481691e-8 * t * t) / (
        1 - 2.89741816e-5 * t + 1.61456053e-7 * t * t)
    return np.stack([u, v], axis=-1)


def light_uv(temperature_k: Array | float, tint: Array | float) -> Array:
    """CIE 1960 (u, v) of a light; tint 0 runs through D65, positive tints correct green light.

    A tint of 1 is 1/3000 across the locus.
    """
    t = np.asarray(temperature_k, float)
    step = t * 1e-3
    along = planckian_uv(t + step) - planckian_uv(t - step)
    along = along / np.linalg.norm(along, axis=-1, keepdims=True)
    across = np.stack([along[..., 1], -along[..., 0]], axis=-1)
    across = across * np.sign(across[..., 1:2])
    off = DUV_OF_D65 + np.asarray(tint, float) * TINT_STEP
    return planckian_uv(t) + across * off[..., None]


def uv_to_xyz(uv: Array) -> Array:
    """CIE XYZ with Y = 1 of CIE 1960 (u, v), (..., 3)."""
    u, v = uv[..., 0], uv[..., 1]
    d = 2 * u - 8 * v + 4
    x, y = 3 * u / d, 2 * v / d
    return np.stack([x / y, np.ones_like(x), (1 - x - y) / y], axis=-1)


def _cones(temperature_k: float, tint: float) -> Array:
    return BRADFORD @ uv_to_xyz(light_uv(temperature_k, tint))


@lru_cache(maxsize=4096)
def balance_matrix(temperature_k: float | None, tint: float) -> Array:
    """(3, 3), not to be written to, on working-space pixels that makes a light of this colour neutral.

    The picture counts as balanced for D65 already ("as shot"): that temperature with
    tint 0 gives the identity. A diagonal in Bradford's cone space; luminance of grey is kept.
    """
    if temperature_k is None and tint == 0.0:
        return np.eye(3)
    gains = _cones(AS_SHOT_K, 0.0) / _cones(temperature_k or AS_SHOT_K, tint)
    xyz = np.linalg.solve(BRADFORD, gains[:, None] * BRADFORD)
    matrix = np.linalg.solve(TO_XYZ, xyz @ TO_XYZ)
    matrix = matrix / (TO_XYZ[1] @ matrix @ np.ones(3))
    matrix.setflags(write=False)
    return matrix


@lru_cache(maxsize=1)
def _locus() -> tuple[Array, Array]:
    mireds = np.linspace(1e6 / 30_000, 1e6 / 1_500, 4000)
    return mireds, light_uv(1e6 / mireds, 0.0)


def temperature_of(xyz: Array) -> tuple[float, float]:
    """(temperature in K, tint) of the light with tristimulus values (3,)."""
    d = xyz[0] + 15 * xyz[1] + 3 * xyz[2]
    uv = np.array([4 * xyz[0] / d, 6 * xyz[1] / d])
    mireds, locus = _locus()
    n = int(np.argmin(np.sum((locus - uv) ** 2, axis=1)))
    n = min(max(n, 1), len(mireds) - 2)
    along = locus[n + 1] - locus[n - 1]
    t = float(np.dot(uv - locus[n], along) / np.dot(along, along))
    temperature = 1e6 / (mireds[n] + t * (mireds[n + 1] - mireds[n - 1]))
    plus = light_uv(temperature, 1.0) - light_uv(temperature, 0.0)
    off = float(np.dot(uv - light_uv(temperature, 0.0), plus) / np.dot(plus, plus))
    return float(temperature), off


def neutralising(rgb: Array) -> tuple[float, float]:
    """(temperature in K, tint) that make working-space light (3,), as shot, grey.

    Raises ValueError for light that is black or of no colour a lamp has.
    """
    rgb = np.asarray(rgb, float)
    if rgb.min() <= 1e-5:
        raise ValueError("the spot is too dark to measure its colour")
    white = np.array([D65[0] / D65[1], 1.0, (1 - D65[0] - D65[1]) / D65[1]])
    cones = _cones(AS_SHOT_K, 0.0) * (BRADFORD @ (TO_XYZ @ rgb)) / (BRADFORD @ white)
    if cones.min() <= 0:
        raise ValueError("the spot's colour is none that a light has")
    temperature, tint = temperature_of(np.linalg.solve(BRADFORD, cones))
    if not 1800 <= temperature <= 25000 or abs(tint) > 150:
        raise ValueError("the spot is too colourful to be grey")
    return temperature, tint


def grey_guess(light: NDArray[np.float32]) -> tuple[float, float]:
    """(temperature, tint) by shades of grey (Finlayson & Trezzi 2004): the colour of the p-norm.

    `light` is a small working-space picture (h, w, 3); burnt and black pixels are left aside.
    Raises ValueError where nothing is left.
    """
    flat = light.reshape(-1, 3).astype(np.float64)
    flat = flat[(flat.max(axis=1) < 0.98) & (flat.min(axis=1) > 1e-3)]
    if len(flat) < 50:
        raise ValueError("there is not enough picture that is neither black nor burnt out")
    return neutralising(np.mean(flat**NORM, axis=0) ** (1 / NORM))
