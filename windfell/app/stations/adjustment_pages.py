"""The rulers of each kind of adjustment, made from the limits that the recipe's fields tell of themselves."""

from __future__ import annotations

import dataclasses
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler
from windfell.recipe import finishing as f

AS_SHOT_K = 6504.0
STEPS = {"EV": 0.05, "px": 0.5, "%": 1.0, "°": 1.0, "K": 50.0, "": 1.0}
WORDS = {
    "exposure_ev": "Exposure", "contrast_pct": "Contrast", "highlights_pct": "Highlights", "shadows_pct": "Shadows",
    "white_pct": "White", "black_pct": "Black", "haze_pct": "Less haze", "temperature_k": "Warmth", "tint": "Tint",
    "saturation_pct": "Saturation", "weak_pct": "Weak ones", "amount_pct": "Amount", "wide_pct": "Wide",
    "local_pct": "Local", "texture_pct": "Texture", "sharpen_pct": "Sharpen", "radius_px": "Radius",
    "threshold_pct": "Threshold", "noise_pct": "Noise", "colour_noise_pct": "In colour", "glow_pct": "Glow",
    "blur_px": "Blur", "along_px": "Along", "along_deg": "Direction", "less_pct": "Fewer", "largest_px": "Largest",
    "shadows_ev": "Shadows", "middle_ev": "Middle", "highlights_ev": "Highlights", "edges_ev": "Edges",
    "from_pct": "From", "round_pct": "Round", "colour_pct": "Colour", "slope_pct": "Slope",
    "shadows_hue": "Shadows", "middle_hue": "Middle", "highlights_hue": "Highlights", "middle_pct": "How much",
    "balance_pct": "Balance"}
TIPS = {
    "shadows_ev": "The dark parts lighter (dodge) or darker (burn)", "middle_ev": "What is neither dark nor bright, "
    "lighter or darker", "highlights_ev": "The bright parts lighter or darker",
    "weak_pct": "Weak colours first; skin is spared", "wide_pct": "Contrast of wide neighbourhoods",
    "local_pct": "Contrast of near neighbourhoods", "threshold_pct": "Only what stands out further is sharpened",
    "noise_pct": "Noise in luminance, as far as the picture has it", "colour_noise_pct": "Noise in colour",
    "less_pct": "How much of the stars' light is taken off: 100 % all of it",
    "largest_px": "How wide a star is at most, px of the full-size picture",
    "colour_pct": "The channels brought to one level where the field is empty",
    "slope_pct": "What slopes over the empty field taken off", "haze_pct": "Haze taken away, or laid on"}
TINT_PCT = {"shadows_pct": "How much", "highlights_pct": "How much"}
BAND_FIELDS = {"turn_deg": ("Turn", "Hues turned to their neighbours"), "saturation_pct": ("Colour", "Saturation"),
               "lightness_pct": ("Light", "Lighter or darker")}
COLUMNS, GAP_PX = 2, 18


class KindPage(QWidget):
    """`changed(field, value, starts)`; of eight bands `band_changed(field, band, value, starts)`."""

    changed = Signal(str, object, bool)
    band_changed = Signal(str, int, float, bool)

    def __init__(self, kind: type) -> None:
        super().__init__()
        self.kind = kind
        self.rulers: dict[str, Ruler] = {}
        self.bands: dict[str, list[Ruler]] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        grid = QGridLayout()
        grid.setVerticalSpacing(2)
        grid.setHorizontalSpacing(GAP_PX)
        plain = [x for x in dataclasses.fields(kind) if "low" in x.metadata]
        for n, field in enumerate(plain):
            ruler = self._ruler(field)
            grid.addWidget(ruler, n // COLUMNS, n % COLUMNS)
        column.addLayout(grid)
        eights = [x for x in dataclasses.fields(kind) if "each_low" in x.metadata]
        self.which = Choice("", [(x.name, *BAND_FIELDS.get(x.name, ("Brightness", "How bright each hue becomes")))
                                 for x in eights])
        self.which.picked.connect(self._show_bands)
        column.addWidget(self.which)
        self.which.setVisible(len(eights) > 1)
        for field in eights:
            column.addWidget(self._eight(field))
        self.drag = QCheckBox("Drag on the picture")
        self.drag.setToolTip("Take a colour on the picture and pull it to the right or left: its band changes")
        if eights:
            column.addWidget(self.drag)
            self._show_bands(eights[0].name)
        if kind is f.Curve:
            column.addLayout(self._channels())
        column.addStretch(1)

    def _ruler(self, field: dataclasses.Field) -> Ruler:
        m = field.metadata
        rest = AS_SHOT_K if field.default is None else field.default
        words = (TINT_PCT if self.kind is f.Tinting else {}).get(field.name, WORDS.get(field.name, field.name))
        step = 0.1 if field.name == "radius_px" else STEPS[m["unit"]]
        low, high = m["low"], min(m["high"], 12_000.0) if m["unit"] == "K" else m["high"]
        ruler = Ruler(words, low, high, rest, m["unit"], step, 76)
        if field.name in TIPS:
            ruler.setToolTip(f"{TIPS[field.name]}. {ruler.toolTip()}")
        ruler.changed.connect(lambda v, first, name=field.name: self.changed.emit(
            name, None if name == "temperature_k" and abs(v - AS_SHOT_K) < 30 else v, first))
        self.rulers[field.name] = ruler
        return ruler

    def _eight(self, field: dataclasses.Field) -> QWidget:
        box = QWidget()
        grid = QGridLayout(box)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(2)
        grid.setHorizontalSpacing(GAP_PX)
        m = field.metadata
        made = []
        for n, band in enumerate(f.BANDS):
            ruler = Ruler(band.capitalize(), m["each_low"], m["each_high"], 0.0, m["unit"], 1.0, 76)
            ruler.changed.connect(lambda v, first, k=n, name=field.name: self.band_changed.emit(name, k, v, first))
            grid.addWidget(ruler, n // COLUMNS, n % COLUMNS)
            made.append(ruler)
        self.bands[field.name] = made
        return box

    def _channels(self) -> QHBoxLayout:
        """Which curve is in hand."""
        self.channel = Choice("Curve of", (
            ("every", "All", "All channels alike"), ("red", "Red", "Red alone"), ("green", "Green", "Green alone"),
            ("blue", "Blue", "Blue alone")))
        self.channel.set_value("every")
        self.straight = QCheckBox("Pick")
        self.straight.setToolTip("Press on the picture to put a knot at that brightness")
        row = QHBoxLayout()
        row.addWidget(self.channel)
        row.addWidget(self.straight)
        row.addStretch(1)
        return row

    @property
    def shown_bands(self) -> str:
        """The field whose bands are shown."""
        return self._bands

    def _show_bands(self, name: str) -> None:
        self.which.set_value(name)
        self._bands = name
        for field, rulers in self.bands.items():
            rulers[0].parentWidget().setVisible(field == name)

    def show_values(self, values: Any) -> None:
        for name, ruler in self.rulers.items():
            value = getattr(values, name)
            ruler.set_value(AS_SHOT_K if value is None else value)
        for name, rulers in self.bands.items():
            for ruler, value in zip(rulers, getattr(values, name), strict=True):
                ruler.set_value(value)
