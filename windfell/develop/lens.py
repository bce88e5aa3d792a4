"""A lens correction as tables: from the open lens database, from numbers by hand, or both."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.geometry.optics import NODES, Optics, radii, tabled
from windfell.later import Later
from windfell.recipe.model import LensCorrection

lensfunpy = Later("lensfunpy")

Array = NDArray[np.float64]
USUAL_APERTURE, USUAL_DISTANCE_M = 8.0, 1000.0
PROBE = 1201
FULL_FRAME_HALF_MM = 0.5 * float(np.hypot(36.0, 24.0))
FISHEYES = {
    lensfunpy.LensType.FISHEYE: "equidistant", lensfunpy.LensType.FISHEYE_EQUISOLID: "equisolid",
    lensfunpy.LensType.FISHEYE_STEREOGRAPHIC: "stereographic",
    lensfunpy.LensType.FISHEYE_ORTHOGRAPHIC: "orthographic", lensfunpy.LensType.FISHEYE_THOBY: "thoby",
}


@dataclass(frozen=True)
class Taken:
    """What is known of how a frame was taken; what isn't is None. Size in px, upright."""

    width: int
    height: int
    make: str | None = None
    camera: str | None = None
    lens: str | None = None
    focal_mm: float | None = None
    focal35_mm: float | None = None
    aperture: float | None = None

    @property
    def crop(self) -> float | None:
        """The crop factor by the two focal lengths, or None."""
        if self.focal_mm and self.focal35_mm:
            return self.focal35_mm / self.focal_mm
        return None


@lru_cache(maxsize=1)
def _database() -> lensfunpy.Database:
    return lensfunpy.Database(_one_by_one(), load_bundled=False)


def _one_by_one() -> Iterator[str]:
    """The database's files. The library keeps the interpreter while it reads one; between two a window may paint."""
    for path in sorted(Path(lensfunpy.__file__).parent.glob("db_files/*.xml")):
        time.sleep(0.0005)
        yield str(path)


@lru_cache(maxsize=1)
def profile_names() -> tuple[str, ...]:
    """"maker | model" of all lenses in the database, sorted."""
    return tuple(sorted({f"{x.maker} | {x.model}" for x in _database().lenses}))


def searched(words: str, most: int = 60) -> list[str]:
    """Profiles whose names hold every word, the shortest first."""
    parts = words.lower().split()
    found = [n for n in profile_names() if all(p in n.lower() for p in parts)]
    return sorted(found, key=lambda n: (len(n), n))[:most]


@lru_cache(maxsize=256)
def suggested_profile(taken: Taken) -> str | None:
    """The profile that the metadata name, or None where they name none for sure."""
    if not taken.lens:
        return None
    cameras = _cameras(taken)
    if cameras:
        found = _database().find_lenses(cameras[0], None, taken.lens)
        found = [x for x in found if _same_lens(x, taken)]
        if found:
            return f"{found[0].maker} | {found[0].model}"
    named = [n for n in profile_names() if _plain(n.partition(" | ")[2]) == _plain(taken.lens)]
    return named[0] if named else None


def _plain(name: str) -> str:
    return "".join(c for c in name.lower() if c.isalnum())


def _same_lens(lens, taken: Taken) -> bool:
    if taken.focal_mm and lens.min_focal:
        top = lens.max_focal or lens.min_focal
        if not lens.min_focal * 0.95 <= taken.focal_mm <= top * 1.05:
            return False
    wanted, has = _plain(taken.lens), _plain(lens.model)
    return wanted in has or has in wanted or _plain(f"{lens.maker}{lens.model}") == wanted


def _cameras(taken: Taken) -> list:
    if not taken.camera:
        return []
    return _database().find_cameras(taken.make or "", taken.camera) or []


def optics_of(correction: LensCorrection, taken: Taken) -> Optics | None:
    """What the lens did to the frame, by the correction; None if nothing is to be corrected.

    Raises ValueError in words for a profile that the database has not, or one that needs a
    focal length which neither the frame nor the correction tells.
    """
    return _optics(replace(correction, unknown=()), taken)


@lru_cache(maxsize=512)
def _optics(correction: LensCorrection, taken: Taken) -> Optics | None:
    c = correction
    found = _by_profile(c, taken) if c.profile else Optics()
    bend, red, blue, light = found.bend, found.red, found.blue, found.light
    if any((c.k1, c.k2, c.k3)):
        r = radii()
        own = r * (1 + r**2 * (c.k1 + r**2 * (c.k2 + r**2 * c.k3)))
        bend = tuple(np.interp(own, r, bend)) if bend else tuple(float(v) for v in own)
    if any((c.v1, c.v2, c.v3)):
        own = tabled(lambda r: np.maximum(0.05, 1 + r**2 * (c.v1 + r**2 * (c.v2 + r**2 * c.v3))))
        light = tuple(a * b for a, b in zip(own, light, strict=True)) if light else own
    if c.red != 1.0 or c.blue != 1.0:
        red = tuple(v * c.red for v in red) or (c.red,) * NODES
        blue = tuple(v * c.blue for v in blue) or (c.blue,) * NODES
    optics = Optics(
        bend if c.distortion else (), red if c.fringing else (), blue if c.fringing else (),
        light if c.vignetting else (), found.mapping if c.distortion else "", found.focal if c.distortion else 0.0,
    )
    return None if optics == Optics() else optics


def _by_profile(c: LensCorrection, taken: Taken) -> Optics:
    """The database's model, sampled along the frame's diagonal (its models are radial)."""
    maker, _, model = c.profile.partition(" | ")
    lenses = [x for x in _database().lenses if x.maker == maker and x.model == model]
    if not lenses:
        raise ValueError(f"the lens {model} is not in the lens database; choose another")
    cameras = _cameras(taken)
    crop = c.crop or (cameras[0].crop_factor if cameras else None) or taken.crop
    crop = crop or lenses[0].crop_factor
    lens = min(lenses, key=lambda x: abs(np.log((x.crop_factor or 1.0) / crop)))
    focal = c.focal_mm or taken.focal_mm
    if focal is None:
        if lens.min_focal and lens.min_focal == (lens.max_focal or lens.min_focal):
            focal = lens.min_focal
        else:
            raise ValueError(f"the lens {model} zooms; give its focal length")
    focal = float(np.clip(focal, lens.min_focal or focal, lens.max_focal or focal))
    return _sampled(lens, float(crop), focal, taken.aperture or USUAL_APERTURE, taken.width, taken.height)


def _sampled(lens, crop: float, focal: float, aperture: float, width: int, height: int) -> Optics:
    k = PROBE / max(width, height)
    w, h = max(3, round(width * k)), max(3, round(height * k))
    bend = _probed_bend(lens, crop, focal, width, height)
    red, blue = _probed_fringes(lens, crop, focal, width, height)
    mapping = FISHEYES.get(lens.type, "")
    return Optics(bend, red, blue, _probed_light(lens, crop, focal, aperture, w, h), mapping,
                  focal * crop / FULL_FRAME_HALF_MM if mapping else 0.0)


def _modifier(lens, crop, focal, aperture, w, h, flags, pixel_format=np.float32):
    modifier = lensfunpy.Modifier(lens, crop, w, h)
    modifier.initialize(
        focal, aperture, USUAL_DISTANCE_M, scale=1.0, targeom=lens.type, pixel_format=pixel_format,
        flags=int(flags),
    )
    return modifier


def _diagonal(w: int, h: int) -> tuple[Array, Array, float]:
    """(middle, direction, half diagonal in px) along which radial models are read."""
    half = 0.5 * float(np.hypot(w, h))
    return np.array([(w - 1) / 2, (h - 1) / 2]), np.array([w, h]) / (2 * half), half


def _probed_bend(lens, crop, focal, w, h) -> tuple[float, ...]:
    m = _modifier(lens, crop, focal, USUAL_APERTURE, w, h, lensfunpy.ModifyFlags.DISTORTION)
    middle, along, half = _diagonal(w, h)
    out = []
    for r in radii():
        x, y = middle + along * r * half
        found = m.apply_geometry_distortion(float(x), float(y), 1, 1)
        if found is None:
            return ()
        out.append(float(np.dot(found[0, 0] - middle, along)) / half)
    return () if np.allclose(out, radii(), atol=1e-7) else tuple(out)


def _probed_fringes(lens, crop, focal, w, h) -> tuple[tuple[float, ...], tuple[float, ...]]:
    m = _modifier(lens, crop, focal, USUAL_APERTURE, w, h, lensfunpy.ModifyFlags.TCA)
    middle, along, half = _diagonal(w, h)
    sizes = []
    for r in np.maximum(radii(), 0.02):
        x, y = middle + along * r * half
        found = m.apply_subpixel_distortion(float(x), float(y), 1, 1)
        if found is None:
            return (), ()
        place = [float(np.dot(found[0, 0, c] - middle, along)) / half for c in range(3)]
        sizes.append((place[0] / place[1], place[2] / place[1]))
    red, blue = (tuple(s[c] for s in sizes) for c in range(2))
    return ((), ()) if np.allclose(sizes, 1.0, atol=1e-7) else (red, blue)


def _probed_light(lens, crop, focal, aperture, w, h) -> tuple[float, ...]:
    """Light kept, read off a white picture's correction, up to the corner; held beyond."""
    m = _modifier(lens, crop, focal, aperture, w, h, lensfunpy.ModifyFlags.VIGNETTING)
    white = np.full((h, w, 3), 0.25, np.float32)
    if not m.apply_color_modification(white):
        return ()
    middle, along, half = _diagonal(w, h)
    steps = np.linspace(0, 1, 400)
    at = np.rint(middle + np.outer(steps * half, along)).astype(int)
    at = np.clip(at, 0, [w - 1, h - 1])
    true = np.linalg.norm(at - middle, axis=1) / half
    kept = 0.25 / np.maximum(white[at[:, 1], at[:, 0], 1].astype(float), 1e-6)
    order = np.argsort(true)
    out = np.interp(radii(), true[order], kept[order])
    return () if np.allclose(out, 1.0, atol=1e-5) else tuple(float(v) for v in out)


def remembered_key(taken: Taken) -> str:
    """Under what a lens chosen by hand is remembered: the body and the focal length."""
    focal = "any" if taken.focal_mm is None else f"{taken.focal_mm:.0f} mm"
    return f"{taken.make or 'unknown'} {taken.camera or 'body'} at {focal}"


def corrects_anything(profile: str, taken: Taken) -> bool:
    """Whether a profile corrects anything on a frame."""
    try:
        return optics_of(LensCorrection(profile), taken) is not None
    except ValueError:
        return False
