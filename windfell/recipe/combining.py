"""How a stack's frames become one picture: its rule, what goes with it, the layers above it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from windfell.recipe.areas import Area
from windfell.recipe.limits import Unknown, number
from windfell.recipe.sources import FileSource


class Rule(StrEnum):
    MEDIAN = "median"
    MEAN = "mean"
    MAXIMUM = "maximum"
    MINIMUM = "minimum"
    CLIPPED_MEAN = "clipped-mean"
    SUM = "sum"
    SCREEN = "screen"
    STANDOUT = "standout"
    RANGE = "range"
    SHARPEST = "sharpest"
    EXPOSURES = "exposures"


class Floor(StrEnum):
    """What counts as black in each frame: nothing is taken off, what its dark surroundings show, a level; or the
    empty field is just made even and without colour, as bright as it was.
    """

    OFF = "off"
    AUTO = "auto"
    EVEN = "even"
    LEVEL = "level"


class Display(StrEnum):
    """How light of several exposures is shown: as it is, by local compression, or by fusing what each shows best."""

    NONE = "none"
    TONE = "tone"
    FUSION = "fusion"


class Over(StrEnum):
    """How a layer meets what lies below it."""

    REPLACE = "replace"
    ADD = "add"
    SCREEN = "screen"
    LIGHTER = "lighter"
    DARKER = "darker"


@dataclass(frozen=True)
class Layer:
    """A rule over some of the frames (ids; none named: all), or one frame by itself, laid over what is below.

    It holds within `area` (px of the reference), everywhere without one. `warmth`: its light made warmer or colder;
    `tint`: from green to magenta. It is moved by px of the reference, turned clockwise and sized about the picture's
    middle; `edge_pct`: how far its own edge passes over, in % of its shorter side.
    """

    rule: Rule = Rule.MAXIMUM
    frames: tuple[str, ...] = ()
    name: str = ""
    on: bool = True
    area: Area | None = None
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    over: Over = Over.REPLACE
    exposure_ev: float = number(0.0, -10.0, 10.0, "EV")
    warmth: float = number(0.0, -100.0, 100.0)
    tint: float = number(0.0, -100.0, 100.0)
    floor: Floor = Floor.OFF
    floor_pct: float = number(0.0, 0.0, 100.0, "%")
    right_px: float = number(0.0, -100_000.0, 100_000.0, "px")
    down_px: float = number(0.0, -100_000.0, 100_000.0, "px")
    turn_deg: float = number(0.0, -180.0, 180.0, "°")
    size_pct: float = number(100.0, 1.0, 1000.0, "%")
    edge_pct: float = number(0.0, 0.0, 50.0, "%")
    unknown: Unknown = ()

    @property
    def placed(self) -> bool:
        """Whether it was moved, turned or sized."""
        return (self.right_px, self.down_px, self.turn_deg, self.size_pct) != (0, 0, 0, 100)


@dataclass(frozen=True)
class Combining:
    """How a stack's frames become one picture: a rule over all, the lowest layer, and the layers above it.

    `kappa_low`, `kappa_high`: the spreads that a clipped mean keeps below and above. `base`: the frame (id) that is
    seen outside of the region, in px of the reference (or a mask of a frame with that purpose). `floor_pct`: the
    level that counts as black, linear, in % of white. `darks`, `flats`: frames of no light, and of an even field.
    `bridge`: gaps between lights that move on from frame to frame are closed. `display`: of exposures. Where light is
    gathered: every `every`-th frame alone; the first frames fade in over so much of the series, the last ones out;
    `beyond_noise`: a maximum shows only what brightens beyond the noise. Of exposures, where a frame is not heard is
    grown and its edge softened by so many px at full size. Local compression of the display: how far the range is
    brought to that of a screen, detail added, highlights and shadows raised.
    """

    rule: Rule = Rule.MEDIAN
    kappa_low: float = number(3.0, 0.5, 20.0)
    kappa_high: float = number(3.0, 0.5, 20.0)
    base: str | None = None
    floor: Floor = Floor.OFF
    floor_pct: float = number(0.0, 0.0, 100.0, "%")
    darks: tuple[FileSource, ...] = ()
    flats: tuple[FileSource, ...] = ()
    bridge: bool = False
    display: Display = Display.TONE
    region: Area | None = None
    layers: tuple[Layer, ...] = ()
    every: int = number(1, 1, 1000)
    fade_in_pct: float = number(0.0, 0.0, 100.0, "%")
    fade_out_pct: float = number(0.0, 0.0, 100.0, "%")
    beyond_noise: bool = False
    grow_px: float = number(0.0, 0.0, 60.0, "px")
    soften_px: float = number(0.0, 0.0, 30.0, "px")
    compression_pct: float = number(100.0, 0.0, 150.0, "%")
    detail_pct: float = number(0.0, -100.0, 100.0, "%")
    highlights_pct: float = number(0.0, -100.0, 100.0, "%")
    shadows_pct: float = number(0.0, -100.0, 100.0, "%")
    unknown: Unknown = ()
