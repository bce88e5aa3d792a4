"""The recipe: every decision, as frozen data that can be compared and hashed.

Field names and enum values are the words of the project file (docs/project-file.md).
Limits and units stand on the fields, for the file's validation and the rulers alike.
"""

from __future__ import annotations

import uuid
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property

from windfell.recipe.areas import Area
from windfell.recipe.behind import Behind
from windfell.recipe.combining import Combining
from windfell.recipe.finishing import Finish
from windfell.recipe.limits import Unknown, number
from windfell.recipe.outline import LineKind, Outline
from windfell.recipe.output import Output
from windfell.recipe.repairs import Repair
from windfell.recipe.sources import FileSource, SetSource, Source


class Kind(StrEnum):
    PANORAMA = "panorama"
    STACK = "stack"


class Align(StrEnum):
    """How a stack's frames are brought together; `fit`: each, of any size, covers the reference, middle on middle."""

    NONE = "none"
    SHIFT = "shift"
    RIGID = "rigid"
    SIMILARITY = "similarity"
    PERSPECTIVE = "perspective"
    STARS = "stars"
    FIT = "fit"


class Camera(StrEnum):
    """How the camera moved between the frames of a panorama."""

    TURNED = "turned"
    SLID = "slid"


class ProjectionChoice(StrEnum):
    AUTO = "auto"
    RECTILINEAR = "rectilinear"
    CYLINDRICAL = "cylindrical"
    EQUIRECTANGULAR = "equirectangular"
    PANNINI = "pannini"
    MERCATOR = "mercator"
    MILLER = "miller"
    STEREOGRAPHIC = "stereographic"
    TRANSVERSE_CYLINDRICAL = "transverse-cylindrical"
    EQUIDISTANT_FISHEYE = "equidistant-fisheye"
    EQUAL_AREA_FISHEYE = "equal-area-fisheye"


class Blend(StrEnum):
    """How frames pass into each other at seams: by bands as wide as asked for, by a narrow feather, or not at all."""

    WIDE = "wide"
    FEATHER = "feather"
    NONE = "none"


@dataclass(frozen=True)
class Development:
    """What is done to a frame's light before it is joined. `temperature_k` None: as shot."""

    temperature_k: float | None = number(None, 1800.0, 25000.0, "K")
    tint: float = number(0.0, -150.0, 150.0)
    exposure_ev: float = number(0.0, -5.0, 5.0, "EV")
    contrast_pct: float = number(0.0, -100.0, 100.0, "%")
    highlights_pct: float = number(0.0, -100.0, 100.0, "%")
    shadows_pct: float = number(0.0, -100.0, 100.0, "%")
    white_pct: float = number(0.0, -100.0, 100.0, "%")
    black_pct: float = number(0.0, -100.0, 100.0, "%")
    saturation_pct: float = number(0.0, -100.0, 100.0, "%")
    local_contrast_pct: float = number(0.0, -100.0, 100.0, "%")
    haze_pct: float = number(0.0, -100.0, 100.0, "%")
    noise_pct: float = number(0.0, 0.0, 100.0, "%")
    sharpen_pct: float = number(0.0, 0.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class LensCorrection:
    """How a frame's lens is corrected: by a profile of the open lens database, by hand, or both.

    `profile` is "maker | model" as the database has it, None for none. `focal_mm` and
    `crop` stand in for metadata that is missing. k1-k3 bend (ideal radius r, 1 at half the
    diagonal) to r (1 + k1 r^2 + k2 r^4 + k3 r^6); v1-v3 say the light kept, 1 + v1 r^2 + ...;
    red and blue are the sizes of those colours against green.
    """

    profile: str | None = None
    focal_mm: float | None = number(None, 1.0, 3000.0, "mm")
    crop: float | None = number(None, 0.2, 20.0)
    distortion: bool = True
    vignetting: bool = True
    fringing: bool = True
    k1: float = number(0.0, -0.5, 0.5)
    k2: float = number(0.0, -0.5, 0.5)
    k3: float = number(0.0, -0.5, 0.5)
    v1: float = number(0.0, -2.0, 2.0)
    v2: float = number(0.0, -2.0, 2.0)
    v3: float = number(0.0, -2.0, 2.0)
    red: float = number(1.0, 0.98, 1.02)
    blue: float = number(1.0, 0.98, 1.02)
    unknown: Unknown = ()


@dataclass(frozen=True)
class Mask:
    """A painted mask of a frame, named by the hash of its content; 255 is inside.

    `purpose`: "keep" (the frame must own the spot), "never" (it must not), "region" (the rule holds there),
    "dust" (what dust on the sensor left of the light, 255 all of it), "ignore" (of earlier projects; an area since).
    """

    name: str
    purpose: str = "ignore"
    unknown: Unknown = ()


@dataclass(frozen=True)
class HandPose:
    """Angles given by hand for a frame, in the level world: turn right, look up, lean clockwise."""

    yaw_deg: float = number(0.0, -360.0, 360.0, "°")
    pitch_deg: float = number(0.0, -90.0, 90.0, "°")
    roll_deg: float = number(0.0, -180.0, 180.0, "°")
    unknown: Unknown = ()


@dataclass(frozen=True)
class ControlPoint:
    """The same spot in two frames (ids), made by hand: px of each at full size."""

    a: str
    b: str
    ax: float
    ay: float
    bx: float
    by: float
    weight: float = number(1.0, 0.01, 100.0)
    unknown: Unknown = ()


@dataclass(frozen=True)
class DroppedPoint:
    """A found point that does not count: of the pair `a`, `b` the one nearest (x, y) px of `a`."""

    a: str
    b: str
    x: int
    y: int
    unknown: Unknown = ()


@dataclass(frozen=True)
class PlumbLine:
    """Points (px at full size) along something in a frame that is level, upright or just straight."""

    frame: str
    points: tuple[tuple[float, float], ...]
    kind: LineKind
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Frame:
    """`pose`: where the frame looks, where it is given by hand. `weight`: how much it counts in a mean. `ignored`:
    where no points are taken, in px of the file.
    """

    id: str
    source: Source
    on: bool = True
    development: Development = Development()
    lens: LensCorrection = LensCorrection()
    masks: tuple[Mask, ...] = ()
    ignored: Area | None = None
    pose: HandPose | None = None
    weight: float = number(1.0, 0.0, 1000.0)
    unknown: Unknown = ()


@dataclass(frozen=True)
class Registration:
    """How frames are brought together. `focal_px` None: estimated; it counts at full size.

    `camera`: turned on the spot, or slid along a flat subject. `rows` and `columns` say that the frames were taken
    row by row, each from left to right, so that only neighbours are compared; 0: nothing is said.
    Found points worse than `worst_px` are left out; None: none. `ground_apart`: under stars the ground is registered
    apart and combined by itself.
    """

    align: Align = Align.NONE
    reference: str | None = None
    focal_px: float | None = number(None, 10.0, 1e6, "px")
    level: bool = True
    camera: Camera = Camera.TURNED
    rows: int = number(0, 0, 1000)
    columns: int = number(0, 0, 1000)
    points: tuple[ControlPoint, ...] = ()
    dropped: tuple[DroppedPoint, ...] = ()
    worst_px: float | None = number(None, 0.01, 1000.0, "px")
    lines: tuple[PlumbLine, ...] = ()
    ground_apart: bool = False
    unknown: Unknown = ()


@dataclass(frozen=True)
class View:
    """Where a panorama looks and how it is drawn. `hfov_deg` and `vfov_deg` None: as wide and high as the frames.

    A stack is turned by its roll alone.
    """

    projection: ProjectionChoice = ProjectionChoice.AUTO
    yaw_deg: float = number(0.0, -180.0, 180.0, "°")
    pitch_deg: float = number(0.0, -90.0, 90.0, "°")
    roll_deg: float = number(0.0, -180.0, 180.0, "°")
    full_sphere: bool = False
    hfov_deg: float | None = number(None, 1.0, 360.0, "°")
    vfov_deg: float | None = number(None, 1.0, 360.0, "°")
    pannini_distance: float = number(1.0, 0.0, 1.0)
    pannini_squeeze: float = number(0.0, 0.0, 1.0)
    unknown: Unknown = ()


@dataclass(frozen=True)
class FineSpot:
    """A direction at which a seam was looked at and found fine."""

    longitude: float = number(0.0, -180.0, 180.0, "°")
    latitude: float = number(0.0, -90.0, 90.0, "°")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Given:
    """Where a frame (id) must own the picture (`keep`), or must not: an area on the ground of the panorama."""

    frame: str
    area: Area
    keep: bool = True
    unknown: Unknown = ()


@dataclass(frozen=True)
class BentSeam:
    """A seam between two frames (ids) along which they are bent together."""

    a: str
    b: str
    unknown: Unknown = ()


@dataclass(frozen=True)
class SeamBlend:
    """How the seam between two frames (ids) is blended, where it is blended in a way of its own."""

    a: str
    b: str
    blend: Blend
    unknown: Unknown = ()


@dataclass(frozen=True)
class Joining:
    """`even_parallax`: frames are bent a little, smoothly, so that near things meet. `bend_seams`: also along every
    seam, so that what both show there meets; else along those that are `bent`. `given`: the later ones win.
    `seam_blends`: seams that are blended in a way of their own.
    """

    match_light: bool = True
    cut_seams: bool = True
    blend: Blend = Blend.WIDE
    blend_pct: float = number(60.0, 0.0, 100.0, "%")
    even_parallax: bool = False
    fine: tuple[FineSpot, ...] = ()
    given: tuple[Given, ...] = ()
    bend_seams: bool = False
    bent: tuple[BentSeam, ...] = ()
    seam_blends: tuple[SeamBlend, ...] = ()
    unknown: Unknown = ()


@dataclass(frozen=True)
class FrameSet:
    """Frames that become one picture. `proposed`: by the program, not yet accepted by anyone."""

    id: str
    name: str
    kind: Kind
    frames: tuple[Frame, ...] = ()
    registration: Registration = Registration()
    view: View = View()
    outline: Outline = Outline()
    joining: Joining = Joining()
    combining: Combining = Combining()
    behind: Behind | None = None
    repairs: tuple[Repair, ...] = ()
    finish: Finish = Finish()
    output: Output = Output()
    proposed: bool = False
    unknown: Unknown = ()

    @cached_property
    def used(self) -> tuple[Frame, ...]:
        """The frames that are switched on, in order."""
        return tuple(f for f in self.frames if f.on)

    @property
    def numbers(self) -> tuple[int, ...]:
        """What a person calls the frames in use: counted from 1, with those kept aside."""
        return tuple(n for n, f in enumerate(self.frames, 1) if f.on)

    @cached_property
    def inner(self) -> tuple[str, ...]:
        """Ids of the sets that are frames of this one, or lie behind it."""
        found = tuple(f.source.set for f in self.frames if isinstance(f.source, SetSource))
        return (*found, self.behind.set) if self.behind is not None else found

    def number_of(self, frame_id: str) -> int:
        """What a person calls a frame. Raises ValueError for one of another set."""
        return 1 + [f.id for f in self.frames].index(frame_id)

    def frame(self, frame_id: str) -> Frame:
        return next(f for f in self.frames if f.id == frame_id)


@dataclass(frozen=True)
class Project:
    sets: tuple[FrameSet, ...] = ()
    unknown: Unknown = ()

    @cached_property
    def _by_id(self) -> dict[str, FrameSet]:
        return {s.id: s for s in self.sets}

    @cached_property
    def made_of_sets(self) -> dict[str, tuple[str, ...]]:
        """Of the sets that are made of others, or have one behind them: the ids of these."""
        return {s.id: s.inner for s in self.sets if s.inner}

    def set(self, set_id: str) -> FrameSet:
        return self._by_id[set_id]

    def with_set(self, changed: FrameSet) -> Project:
        return replace(self, sets=tuple(changed if s.id == changed.id else s for s in self.sets))


def new_id() -> str:
    """A short name for a set or frame, unlike any other."""
    return uuid.uuid4().hex[:10]


def frame_from_path(path: str) -> Frame:
    return Frame(new_id(), FileSource(path))


def nested_in(project: Project, set_id: str) -> set[str]:
    """Ids of the sets that stand, at any depth, as frames of this one or behind it."""
    found: set[str] = set()
    waiting = [set_id]
    while waiting:
        for inner in project.made_of_sets.get(waiting.pop(), ()):
            if inner not in found:
                found.add(inner)
                waiting.append(inner)
    return found


def areas_of(own: FrameSet) -> list[Area]:
    """All areas of a set."""
    found = [g.area for g in own.joining.given] + [r.area for r in own.repairs]
    found += [r.sources for r in own.repairs if r.sources is not None]
    found += [f.ignored for f in own.frames if f.ignored is not None]
    found += [a.area for a in own.finish.adjustments if a.area is not None]
    found += [own.behind.area] if own.behind is not None else []
    return found + [a for a in (own.combining.region, *(x.area for x in own.combining.layers)) if a is not None]


def picture_parts(project: Project, set_id: str) -> tuple:
    """All of the recipe that a set's picture depends on, and nothing else; comparable."""
    frame_set = project.set(set_id)
    inner = tuple(picture_parts(project, i) for i in sorted(nested_in(project, set_id)))
    wide = frame_set.output.width_px if frame_set.view.full_sphere else None
    joining = replace(frame_set.joining, fine=()) if frame_set.joining.fine else frame_set.joining
    own = (
        frame_set.kind, frame_set.used, frame_set.registration, frame_set.view,
        frame_set.outline, joining, frame_set.combining, frame_set.behind, frame_set.repairs,
        frame_set.finish.active, wide,
    )
    return own, inner
