"""The core as a plot: a spot's values through all frames, kept and rejected told by form, the result as lines."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from windfell.app import theme
from windfell.engine.stack_core import Core
from windfell.pixels.colour import srgb_encoded

LEFT, RIGHT, TOP, FOOT = 34, 10, 22, 20
NEAR_PX = 14.0
CHANNELS = (("rowan", "R"), ("moss", "G"), ("tarn", "B"))
TICKS = (0, 25, 50, 75, 100)


def percent_of(light: np.ndarray) -> np.ndarray:
    """Light as a screen's per cent: sRGB's curve, beyond white too."""
    return 100 * srgb_encoded(np.maximum(np.nan_to_num(light), 0))


class CorePlot(QWidget):
    """`picked(n)`: the frame (its place in the set's used frames) whose point was pressed; `held(n)` while it is held
    down, -1 when it is let go.
    """

    picked = Signal(int)
    held = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.core: Core | None = None
        self.title, self.axis = "", "frame"
        self.chosen: int | None = None
        self._points: list[tuple[float, float, int]] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setAccessibleName("Core")

    def sizeHint(self) -> QSize:
        return QSize(420, 150)

    def minimumSizeHint(self) -> QSize:
        return QSize(160, 90)

    def show_core(self, core: Core | None, title: str = "", numbers: Sequence[int] = ()) -> None:
        """`numbers`: what the used frames are called."""
        self.core, self.title, self.numbers = core, title, list(numbers)
        self.update()

    def show_axis(self, axis: str) -> None:
        """Against "frame", "time" or "exposure"."""
        self.axis = axis
        self.update()

    def _places(self, core: Core) -> tuple[np.ndarray, list[str]]:
        """Where the frames stand across (0..1), and what is written below them."""
        names = [str(self.numbers[n]) if n < len(self.numbers) else str(n + 1) for n in core.frames]
        told = {"time": core.taken_s, "exposure": core.ev}.get(self.axis)
        if told is None or any(v is None for v in told) or len(set(told)) < 2:
            order = np.argsort(np.argsort(core.frames))
            return (order + 0.5) / max(1, len(order)), names
        values = np.array(told, float)
        unit = "s" if self.axis == "time" else "EV"
        low, high = values.min(), values.max()
        words = [f"{v - (low if self.axis == 'time' else 0):.0f} {unit}" for v in values]
        return 0.03 + 0.94 * (values - low) / (high - low), words

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.words_font(9.5))
        p.setPen(theme.colour("quiet"))
        p.drawText(QRectF(6, 0, self.width() - 12, 20), Qt.AlignmentFlag.AlignVCenter, self.title)
        self._points = []
        core = self.core
        if core is None:
            return
        box = QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - FOOT)
        values = percent_of(core.values)
        top = max(100.0, float(values.max(initial=0)), float(percent_of(core.result).max()))
        y_of = lambda v: box.bottom() - box.height() * float(v) / top  # noqa: E731
        self._paint_frame(p, box, y_of)
        self._paint_result(p, box, core, y_of)
        places, words = self._places(core)
        seen, kept = np.isfinite(core.values).all(axis=1), core.kept
        size = max(2.4, min(5.0, box.width() / max(1, len(places)) / 4))
        last = -1e9
        for k in np.argsort(places):
            x = box.left() + box.width() * float(places[k])
            p.setFont(theme.numbers_font(7.5))
            chosen = core.frames[k] == self.chosen
            if x - last > 22 or chosen:
                p.setPen(theme.colour("gorse_ink" if chosen else "quiet"))
                p.drawText(QRectF(x - 24, box.bottom() + 3, 48, 14), Qt.AlignmentFlag.AlignCenter, words[k])
                last = x
            if not seen[k]:
                continue
            for c, (name, _) in enumerate(CHANNELS):
                at = QPointF(x + (c - 1) * size * 0.9, y_of(values[k, c]))
                self._points.append((at.x(), at.y(), core.frames[k]))
                _mark(p, at, size, c, theme.colour(name), bool(kept[k]))

    def _paint_frame(self, p: QPainter, box: QRectF, y_of) -> None:
        p.setFont(theme.numbers_font(7.5))
        for tick in TICKS:
            y = y_of(tick)
            p.setPen(QPen(theme.colour("line"), 1))
            p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            p.setPen(theme.colour("quiet"))
            p.drawText(QRectF(0, y - 7, LEFT - 5, 14), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                       f"{tick}")

    def _paint_result(self, p: QPainter, box: QRectF, core: Core, y_of) -> None:
        """The noise band around the result, and the result, a line a channel."""
        for c, (name, _) in enumerate(CHANNELS):
            if not np.isfinite(core.result[c]):
                continue
            low, high = percent_of(np.array([core.result[c] - core.spread[c], core.result[c] + core.spread[c]]))
            p.fillRect(QRectF(box.left(), y_of(high), box.width(), max(1.0, y_of(low) - y_of(high))),
                       theme.colour(name, 36))
            p.setPen(QPen(theme.colour(name), 1.4))
            y = y_of(percent_of(core.result[c : c + 1])[0])
            p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))

    def _near(self, at: QPointF) -> int:
        if not self._points:
            return -1
        off = [np.hypot(x - at.x(), y - at.y()) for x, y, _ in self._points]
        k = int(np.argmin(off))
        return self._points[k][2] if off[k] <= NEAR_PX else -1

    def mousePressEvent(self, event) -> None:
        n = self._near(event.position())
        if n >= 0:
            self.picked.emit(n)
            self.held.emit(n)

    def mouseReleaseEvent(self, event) -> None:
        self.held.emit(-1)

    def mouseMoveEvent(self, event) -> None:
        n, core = self._near(event.position()), self.core
        if n < 0 or core is None:
            self.setToolTip("")
            return
        k = core.frames.index(n)
        levels = "  ".join(f"{c} {v:.1f}" for (_, c), v in zip(CHANNELS, percent_of(core.values[k]), strict=True))
        number = self.numbers[n] if n < len(self.numbers) else n + 1
        self.setToolTip(f"Frame {number}: {levels} %, {'kept' if core.kept[k] else 'has no part in the result'}")


def _mark(p: QPainter, at: QPointF, size: float, channel: int, colour, kept: bool) -> None:
    """A circle, a square or a triangle for red, green, blue: full where it is kept, open and crossed where not."""
    p.setPen(QPen(colour, 1.3))
    p.setBrush(colour if kept else Qt.BrushStyle.NoBrush)
    if channel == 0:
        p.drawEllipse(at, size, size)
    elif channel == 1:
        p.drawRect(QRectF(at.x() - size * 0.88, at.y() - size * 0.88, 1.76 * size, 1.76 * size))
    else:
        p.drawPolygon(QPolygonF([at + QPointF(0, -1.15 * size), at + QPointF(-1.1 * size, 0.8 * size),
                                 at + QPointF(1.1 * size, 0.8 * size)]))
    if not kept:
        p.drawLine(at - QPointF(size, size), at + QPointF(size, size))
