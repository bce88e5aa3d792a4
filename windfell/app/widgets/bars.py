"""Small bar plots: one bar a frame."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QSizePolicy, QWidget

from windfell.app import theme
from windfell.app.widgets.kept import KeptPainting


class Bars(QWidget):
    """Values 0 or more by frame; a click picks the frame. Marked bars are drawn hatched."""

    picked = Signal(int)

    def __init__(self, title: str, unit: str) -> None:
        super().__init__()
        self.title, self.unit = title, unit
        self.values: list[float | None] = []
        self.numbers: tuple[int, ...] = ()
        self.low_is_bad = False
        self.chosen: int | None = None
        self._kept = KeptPainting(self)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setAccessibleName(title)

    def sizeHint(self) -> QSize:
        return QSize(240, 80)

    def minimumSizeHint(self) -> QSize:
        return QSize(120, 54)

    def show_values(
        self, values: list[float | None], chosen: int | None = None, numbers: Sequence[int] | None = None
    ) -> None:
        """One bar for each of the values, under the frames' `numbers`, or counted from 1."""
        self.values, self.chosen = values, chosen
        self.numbers = tuple(numbers or range(1, len(values) + 1))
        self.update()

    def _slot(self) -> float:
        return min(64.0, (self.width() - 12) / max(1, len(self.values)))

    def mousePressEvent(self, event) -> None:
        n = int((event.position().x() - 6) / self._slot())
        if 0 <= n < len(self.values):
            self.picked.emit(n)

    def mouseMoveEvent(self, event) -> None:
        n = int((event.position().x() - 6) / self._slot())
        if 0 <= n < len(self.values) and self.values[n] is not None:
            self.setToolTip(f"Frame {self.numbers[n]}: {self.values[n]:.2f} {self.unit}")

    def paintEvent(self, event) -> None:
        self._kept.show((self.title, tuple(self.values), self.numbers, self.chosen, self.low_is_bad), self._paint)

    def _paint(self, p: QPainter) -> None:
        p.setFont(theme.words_font(9.5))
        p.setPen(theme.colour("quiet"))
        p.drawText(QRectF(6, 0, self.width() - 12, 18), Qt.AlignmentFlag.AlignVCenter, self.title)
        known = [v for v in self.values if v is not None]
        top = max(known, default=0) or 1.0
        foot, tall, slot = self.height() - 15.0, self.height() - 48.0, self._slot()
        p.setFont(theme.numbers_font(7.5))
        for n, value in enumerate(self.values):
            left = 6 + n * slot
            p.setPen(theme.colour("gorse_ink" if n == self.chosen else "quiet"))
            p.drawText(QRectF(left, foot, slot, 14), Qt.AlignmentFlag.AlignCenter, str(self.numbers[n]))
            if value is None:
                continue
            high = max(1.0, tall * value / top)
            bad = self.low_is_bad and value < 0.5 * sorted(known)[len(known) // 2]
            p.fillRect(
                QRectF(left + slot * 0.18, foot - high, slot * 0.64, high),
                theme.colour("rowan" if bad else "gorse" if n == self.chosen else "tarn"),
            )
            p.setPen(theme.colour("quiet"))
            words = f"{value:.2g}" if value < 10 else f"{value:.0f}"
            p.drawText(QRectF(left, foot - high - 13, slot, 12), Qt.AlignmentFlag.AlignCenter,
                       "" if bad else words)
            if bad:
                p.setPen(theme.colour("rowan"))
                p.drawText(QRectF(left, foot - high - 13, slot, 12), Qt.AlignmentFlag.AlignCenter, "soft")
