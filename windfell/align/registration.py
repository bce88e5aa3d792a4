"""What the registration of a panorama found: frames placed or not, and how well they hold together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.flat import levelled_places
from windfell.align.level import levelled
from windfell.align.upright import Upright
from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.geometry.posed import Posed

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Placed:
    """A frame's lens and its camera-to-world rotation (3, 3); rms over its points in px.

    `place` (3,): where it stood before a flat subject at z = 1 (see `geometry.posed`).
    Standard errors: `turn_error` of its direction, rad, `lens_error` of its lens in the order of LENS_PARTS.
    """

    lens: Lens
    rotation: Array
    rms_px: float
    turn_error: float = 0.0
    place: Array | None = None
    lens_error: tuple[float, ...] = ()

    @property
    def posed(self) -> Posed:
        return Posed(self.lens, self.rotation, self.place)


@dataclass(frozen=True)
class Unplaced:
    """A frame that could not be placed, and why; what that says of a frame `nearest` has {} for its number."""

    reason: str
    nearest: int | None = None

    def words(self, numbers: Sequence[int]) -> str:
        """Why, where a person calls the frames by these `numbers`."""
        return self.reason if self.nearest is None else self.reason.format(numbers[self.nearest])


@dataclass(frozen=True)
class PairFit:
    """A link after the adjustment: the points that hold, (n, 2) px each, their rms and own errors (n,) in px.

    The first `by_hand` of them were made by hand.
    """

    a: int
    b: int
    points_a: Array
    points_b: Array
    rms_px: float
    errors: Array
    by_hand: int = 0


@dataclass(frozen=True)
class PanoramaRegistration:
    frames: tuple[Placed | Unplaced, ...]
    links: tuple[PairFit, ...]
    rms_px: float
    upright: bool = False
    by_edges: Upright | None = None

    @property
    def flat(self) -> bool:
        """Whether the cameras slid along a flat subject."""
        return any(isinstance(f, Placed) and f.place is not None for f in self.frames)

    @property
    def placed(self) -> list[int]:
        return [n for n, f in enumerate(self.frames) if isinstance(f, Placed)]


def seen_through(found: PanoramaRegistration, optics: Sequence[Optics | None]) -> PanoramaRegistration:
    """The registration whose cameras see as the frames were taken, through what is known of their lenses; points of
    links stay where a lens without that would have put them.
    """
    return replace(found, frames=tuple(
        replace(f, lens=replace(f.lens, optics=o)) if isinstance(f, Placed) else f
        for f, o in zip(found.frames, optics, strict=True)))


def oriented(registration: PanoramaRegistration, level: bool) -> PanoramaRegistration:
    """The registration in a level world, or in the axes of the first placed frame.

    What lines or poses by hand have set upright already stays as it is.
    """
    if not level or registration.upright:
        return registration
    placed = registration.placed
    if registration.flat:
        return _oriented_flat(registration, placed)
    turned = dict(zip(placed, levelled([registration.frames[n].rotation for n in placed]), strict=True))
    frames = tuple(
        replace(f, rotation=turned[n]) if n in turned else f
        for n, f in enumerate(registration.frames)
    )
    return replace(registration, frames=frames)


def set_upright(registration: PanoramaRegistration, found: Upright | None) -> PanoramaRegistration:
    """The registration in the world that its upright edges call for."""
    if found is None:
        return registration
    frames = tuple(
        replace(f, rotation=found.turn @ f.rotation) if isinstance(f, Placed) else f for f in registration.frames)
    return replace(registration, frames=frames, by_edges=found)


def _oriented_flat(registration: PanoramaRegistration, placed: list[int]) -> PanoramaRegistration:
    own = [registration.frames[n] for n in placed]
    turns, places = levelled_places([f.rotation for f in own], [f.place for f in own])
    moved = {n: replace(f, rotation=r, place=p) for n, f, r, p in zip(placed, own, turns, places, strict=True)}
    return replace(registration, frames=tuple(moved.get(n, f) for n, f in enumerate(registration.frames)))
