"""What a quick look at a set found: the plain data that the checks judge."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from windfell.pixels.fields import FieldLook
from windfell.recipe.model import Kind

Array = NDArray[np.float64]
F32 = NDArray[np.float32]


@dataclass(frozen=True)
class FrameLook:
    """One frame, of a `number` that a person counts it by. `fine` (by, bx) is log2 of fine against coarser
    detail in blocks, NaN where there is none; `burnt` (by, bx) the share of burnt-out pixels. `digest` names the
    file's content; sizes in px; `exposure_ev` is the light gathered by metadata; `field`: whether it shows
    something, or no light, or an even field.
    """

    id: str
    number: int
    name: str
    stem: str
    source_kind: str
    size: tuple[int, int]
    taken: datetime | None
    exposure_ev: float | None
    focal_mm: float | None
    camera: str | None
    digest: str
    fine: F32
    burnt: F32
    profile: str | None = None
    corrected: bool = False
    raw: bool = False
    field: FieldLook | None = None


@dataclass(frozen=True)
class PairLook:
    """Two frames that show the same. `a`, `b` are places in the survey's frames.

    `overlap` is the greater share of either frame that the other shows; `onto` (3, 3) leads
    from fractions of `a` to fractions of `b`; `shift_px` how far the middle of `a` moves at full
    size; `parallax_px` how far near things shift against far ones, 0 for none.
    """

    a: int
    b: int
    overlap: float
    onto: Array
    shift_px: float
    parallax_px: float


@dataclass(frozen=True)
class LightDrift:
    """How much brighter (EV) and warmer (mired) a frame's light is than the set's middle."""

    ev: float
    mired: float


@dataclass(frozen=True)
class Coverage:
    """Per frame, as shares of all that the set shows: what it adds after those before it, and
    what it alone shows. `redundant` are places whose going would lose next to nothing. `caps`: of a
    full ring, what is open at the "zenith" or the "nadir", and about how many degrees wide.
    """

    added: tuple[float | None, ...]
    alone: tuple[float | None, ...]
    redundant: tuple[int, ...]
    thin: tuple[tuple[int, int, float], ...]
    caps: tuple[tuple[str, float], ...] = ()


@dataclass(frozen=True)
class Survey:
    """A set looked at. What could not be found out is empty or None. `measured`: overlap, parallax and drifts are
    those that Align and Join have measured, no longer the quick look's. `aside`: ids and numbers of frames that a
    proposal kept aside, for nothing that they share with the others was found. `fisheye_deg`: what a fisheye of which
    nothing was known sees from corner to corner, if the frames look so.
    """

    kind: Kind
    aligned: bool
    frames: tuple[FrameLook, ...]
    pairs: tuple[PairLook, ...]
    drifts: tuple[LightDrift | None, ...] = ()
    coverage: Coverage | None = None
    shifts_px: tuple[float | None, ...] = ()
    unreadable: tuple[tuple[str, str], ...] = ()
    measured: bool = False
    aside: tuple[tuple[str, int], ...] = ()
    fisheye_deg: float | None = None
