"""The histogram: three channels, their clipped ends; a curve through knots may be drawn and dragged over it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from windfell.app import theme
from windfell.app.widgets.kept import KeptPainting
from windfell.finish.curve import curve_values
from windfell.finish.histogram import Histogram
from windfell.recipe.finishing import STRAIGHT, Knots

CHANNELS = (("rowan", "R"), ("moss", "G"), ("tarn", "B"))
NEAR_PX, LEAST_APART = 10.0, 0.012
FOOT = 16


class HistogramView(QWidget):
    """With a `curve` in hand a press makes or takes a knot, a drag moves it, a double click takes it away;
    `bent(knots, starts)`.
    """

    bent = Signal(tuple, bool)

    def __init__(self) -> None:
        super().__init__()
        self.shown: Histogram | None = None
        self.curve: Knots | None = None
        self.spot: float | None = None
        self._held: int | None = None
        self._first = True
        self._ground, self._times = KeptPainting(self), 0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Histogram")
        self.setToolTip("How much of the picture is how bright, by channel; of a curve the knots are dragged here")

    def sizeHint(self) -> QSize:
        return QSize(270, 150)

    def minimumSizeHint(self) -> QSize:
        return QSize(160, 90)

    def show_histogram(self, found: Histogram | None) -> None:
        self.shown = found
        self._times += 1
        self.update()

    def show_curve(self, knots: Knots | None) -> None:
        if knots != self.curve:
            self.curve = knots
            self.update()

    @property
    def field(self) -> QRectF:
        return QRectF(1, 1, self.width() - 2, self.height() - FOOT - 2)

    def _at(self, x: float, y: float) -> QPointF:
        f = self.field
        return QPointF(f.x() + x * f.width(), f.bottom() - y * f.height())

    def _value(self, at: QPointF) -> tuple[float, float]:
        f = self.field
        x, y = (at.x() - f.x()) / f.width(), (f.bottom() - at.y()) / f.height()
        return float(np.clip(x, 0, 1)), float(np.clip(y, 0, 1))

    def add_knot(self, x: float) -> None:
        """A knot on the curve where it is."""
        if self.curve is not None and all(abs(x - k[0]) > LEAST_APART for k in self.curve):
            y = float(curve_values(self.curve, np.array([x]))[0])
            self._send([*self.curve, (round(x, 4), round(y, 4))], True)

    def _send(self, knots: list, first: bool) -> None:
        self.curve = tuple(sorted(knots))
        self.bent.emit(self.curve, first)
        self.update()

    def mousePressEvent(self, event) -> None:
        if self.curve is None or event.button() != Qt.MouseButton.LeftButton:
            return
        at = event.position()
        near = [(float((self._at(*k) - at).manhattanLength()), n) for n, k in enumerate(self.curve)]
        self._first = True
        if near and min(near)[0] < NEAR_PX:
            self._held = min(near)[1]
            return
        x, y = self._value(at)
        if all(abs(x - k[0]) > LEAST_APART for k in self.curve):
            self._send([*self.curve, (round(x, 4), round(y, 4))], True)
            self._first = False
            self._held = next(n for n, k in enumerate(self.curve) if k[0] == round(x, 4))

    def mouseMoveEvent(self, event) -> None:
        if self._held is None or self.curve is None:
            return
        knots = list(self.curve)
        x, y = self._value(event.position())
        low = knots[self._held - 1][0] + LEAST_APART if self._held else 0.0
        high = knots[self._held + 1][0] - LEAST_APART if self._held + 1 < len(knots) else 1.0
        knots[self._held] = round(float(np.clip(x, low, max(low, high))), 4), round(y, 4)
        if tuple(knots) != self.curve:
            self._send(knots, self._first)
            self._first = False

    def mouseReleaseEvent(self, event) -> None:
        self._held = None

    def mouseDoubleClickEvent(self, event) -> None:
        """Take a knot away; of the ends back to where they were."""
        if self.curve is None:
            return
        near = [(float((self._at(*k) - event.position()).manhattanLength()), n) for n, k in enumerate(self.curve)]
        if min(near)[0] >= 2 * NEAR_PX:
            return
        n = min(near)[1]
        knots = list(self.curve)
        if 0 < n < len(knots) - 1:
            knots.pop(n)
        else:
            knots[n] = STRAIGHT[0] if n == 0 else STRAIGHT[1]
        self._held = None
        self._send(knots, True)

    def paintEvent(self, event) -> None:
        self._ground.show(self._times, self._paint_ground)
        if self.curve is not None:
            p = QPainter(self)
            p.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_curve(p)

    def _paint_ground(self, p: QPainter) -> None:
        f = self.field
        p.setPen(QPen(theme.colour("line"), 1))
        p.setBrush(theme.colour("sheet"))
        p.drawRect(f)
        for k in (0.25, 0.5, 0.75):
            p.drawLine(self._at(k, 0), self._at(k, 1))
        if self.shown is not None:
            self._paint_counts(p, f)

    def _paint_counts(self, p: QPainter, f: QRectF) -> None:
        counts = self.shown.counts[:, 1:255].astype(float)
        top = max(float(np.quantile(counts, 0.998)), 1.0)
        for row, (name, _) in zip(counts, CHANNELS, strict=True):
            heights = np.sqrt(np.clip(row / top, 0, 1))
            line = QPolygonF([self._at((n + 1.5) / 256, 0.97 * h) for n, h in enumerate(heights)])
            filled = QPolygonF([self._at(0.5 / 256, 0), *line, self._at(255.5 / 256, 0)])
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(theme.colour(name, 60))
            p.drawPolygon(filled)
            p.setPen(QPen(theme.colour(name), 1.2))
            p.drawPolyline(line)
        p.setFont(theme.words_font(9))
        p.setPen(theme.colour("quiet"))
        foot = QRectF(f.x(), f.bottom() + 2, f.width(), FOOT - 2)
        for ends, side in ((self.shown.black, Qt.AlignmentFlag.AlignLeft),
                           (self.shown.white, Qt.AlignmentFlag.AlignRight)):
            what = "black" if side == Qt.AlignmentFlag.AlignLeft else "white"
            most = [f"{c} {100 * v:.1f}" for v, (_, c) in zip(ends, CHANNELS, strict=True) if v >= 0.0005]
            words = " ".join(most) + " %" if most else "0"
            p.drawText(foot, side | Qt.AlignmentFlag.AlignVCenter, f"{what}: {words}")

    def _paint_curve(self, p: QPainter) -> None:
        x = np.linspace(0, 1, 120)
        line = QPolygonF([self._at(a, b) for a, b in zip(x, np.clip(curve_values(self.curve, x), 0, 1), strict=True)])
        p.setPen(QPen(theme.colour("sheet"), 4))
        p.drawPolyline(line)
        p.setPen(QPen(theme.colour("ink"), 1.8))
        p.drawPolyline(line)
        p.setPen(QPen(theme.colour("ink"), 1.2))
        p.setBrush(theme.colour("gorse"))
        for knot in self.curve:
            p.drawEllipse(self._at(*knot), 4.5, 4.5)
