"""The finish of a set's picture: adjustments in their order, each of one kind, with an area and a strength.

Values that are neutral, as all are at first, change nothing. Percentages run from -100 to 100 unless they say.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

from windfell.recipe.areas import Area
from windfell.recipe.limits import Unknown, eight, number

BANDS = ("red", "orange", "yellow", "green", "cyan", "blue", "violet", "magenta")
Eight = tuple[float, float, float, float, float, float, float, float]
Knots = tuple[tuple[float, float], ...]
STRAIGHT: Knots = ((0.0, 0.0), (1.0, 1.0))


@dataclass(frozen=True)
class Light:
    """White +100 % halves what is white, black +100 % lifts the black by 0.02 of the light."""

    exposure_ev: float = number(0.0, -8.0, 8.0, "EV")
    contrast_pct: float = number(0.0, -100.0, 100.0, "%")
    highlights_pct: float = number(0.0, -100.0, 100.0, "%")
    shadows_pct: float = number(0.0, -100.0, 100.0, "%")
    white_pct: float = number(0.0, -100.0, 100.0, "%")
    black_pct: float = number(0.0, -100.0, 100.0, "%")
    haze_pct: float = number(0.0, -100.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Colour:
    """`temperature_k` None: as it is. `weak_pct` raises weak colours first and spares skin."""

    temperature_k: float | None = number(None, 1800.0, 25_000.0, "K")
    tint: float = number(0.0, -150.0, 150.0)
    saturation_pct: float = number(0.0, -100.0, 100.0, "%")
    weak_pct: float = number(0.0, -100.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Curve:
    """Knots (from, to) in shares of the encoded scale, rising; a smooth curve that never turns back goes through
    them. Those of the channels act first, that of all then.
    """

    every: Knots = STRAIGHT
    red: Knots = STRAIGHT
    green: Knots = STRAIGHT
    blue: Knots = STRAIGHT
    unknown: Unknown = ()


@dataclass(frozen=True)
class Hues:
    """Of eight bands of hues (`BANDS`): turned, saturated, made lighter."""

    turn_deg: Eight = eight(-45.0, 45.0, "°")
    saturation_pct: Eight = eight(-100.0, 100.0, "%")
    lightness_pct: Eight = eight(-100.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Tinting:
    """A colour for shadows, middle and highlights; `balance_pct` moves what counts as either."""

    shadows_hue: float = number(240.0, 0.0, 360.0, "°")
    shadows_pct: float = number(0.0, 0.0, 100.0, "%")
    middle_hue: float = number(60.0, 0.0, 360.0, "°")
    middle_pct: float = number(0.0, 0.0, 100.0, "%")
    highlights_hue: float = number(60.0, 0.0, 360.0, "°")
    highlights_pct: float = number(0.0, 0.0, 100.0, "%")
    balance_pct: float = number(0.0, -100.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Mono:
    """Black and white: how bright each band of hues becomes. `amount_pct` 0: still in colour."""

    amount_pct: float = number(100.0, 0.0, 100.0, "%")
    weight_pct: Eight = eight(-100.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Detail:
    """Local contrast in a wide and a fine neighbourhood, texture, sharpening beyond a threshold; noise sunk as far as
    the picture has it. `alone`: what is sharpened is seen by itself, white where wholly.
    """

    wide_pct: float = number(0.0, -100.0, 100.0, "%")
    local_pct: float = number(0.0, -100.0, 100.0, "%")
    texture_pct: float = number(0.0, -100.0, 100.0, "%")
    sharpen_pct: float = number(0.0, 0.0, 100.0, "%")
    radius_px: float = number(1.0, 0.3, 5.0, "px")
    threshold_pct: float = number(10.0, 0.0, 100.0, "%")
    noise_pct: float = number(0.0, 0.0, 100.0, "%")
    colour_noise_pct: float = number(0.0, 0.0, 100.0, "%")
    alone: bool = False
    unknown: Unknown = ()


@dataclass(frozen=True)
class Dodge:
    """Lighter or darker, the shadows, the middle and the highlights each by themselves: what strokes build up."""

    shadows_ev: float = number(0.0, -1.5, 1.5, "EV")
    middle_ev: float = number(0.0, -1.5, 1.5, "EV")
    highlights_ev: float = number(0.0, -1.5, 1.5, "EV")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Softness:
    """A glow of what is bright; a blur; a blur along a direction (0°: to the right, 90°: down)."""

    glow_pct: float = number(0.0, 0.0, 100.0, "%")
    blur_px: float = number(0.0, 0.0, 60.0, "px")
    along_px: float = number(0.0, 0.0, 200.0, "px")
    along_deg: float = number(0.0, -180.0, 180.0, "°")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Stars:
    """Stars dimmer by so much, gone at 100 %; as large as `largest_px` across at most."""

    less_pct: float = number(0.0, 0.0, 100.0, "%")
    largest_px: float = number(12.0, 3.0, 40.0, "px")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Vignette:
    """The edges of the picture darker or lighter, from `from_pct` of the way to the corners on."""

    edges_ev: float = number(0.0, -4.0, 4.0, "EV")
    from_pct: float = number(30.0, 0.0, 95.0, "%")
    round_pct: float = number(0.0, 0.0, 100.0, "%")
    unknown: Unknown = ()


@dataclass(frozen=True)
class Channels:
    """The channels brought to one level where the field is empty, and the level made even over the picture."""

    colour_pct: float = number(0.0, 0.0, 100.0, "%")
    slope_pct: float = number(0.0, 0.0, 100.0, "%")
    unknown: Unknown = ()


Values = Light | Dodge | Colour | Curve | Hues | Tinting | Mono | Detail | Softness | Stars | Vignette | Channels
VALUE_WORDS = {
    "light": Light, "dodge": Dodge, "colour": Colour, "curve": Curve, "hues": Hues, "tinting": Tinting, "mono": Mono,
    "detail": Detail, "softness": Softness, "stars": Stars, "vignette": Vignette, "channels": Channels}


@dataclass(frozen=True)
class Adjustment:
    """`area`: where it holds, everywhere without one."""

    values: Values
    name: str = ""
    on: bool = True
    area: Area | None = None
    strength_pct: float = number(100.0, 0.0, 100.0, "%")
    unknown: Unknown = ()

    @cached_property
    def idle(self) -> bool:
        """Whether it surely changes nothing."""
        plain = type(self.values)(amount_pct=0.0) if isinstance(self.values, Mono) else type(self.values)()
        values = replace(self.values, unknown=())
        if isinstance(values, Mono) and values.amount_pct == 0:
            values = plain
        return not self.on or self.strength_pct == 0 or values == plain or (
            self.area is not None and self.area.empty)


@dataclass(frozen=True)
class Finish:
    """All adjustments, the first done first. `on`: the whole list can be off."""

    adjustments: tuple[Adjustment, ...] = ()
    on: bool = True
    unknown: Unknown = ()

    @property
    def active(self) -> tuple[Adjustment, ...]:
        """Those that change anything."""
        return tuple(a for a in self.adjustments if not a.idle) if self.on else ()
