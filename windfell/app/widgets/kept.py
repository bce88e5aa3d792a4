"""What a widget painted, kept while nothing that it shows changes.

Each stroke of a painter gives the interpreter away and may wait for the working threads to give it back: a hundred
small strokes at a time when they work are a window that stands still. A kept painting is one stroke. All of them
together are kept in Qt's cache of pixmaps, which has a limit.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPixmap, QPixmapCache
from PySide6.QtWidgets import QWidget

from windfell.app import theme


class KeptPainting:
    """Of one widget. `state` must name all that the painting shows; size, theme and focus are known here."""

    def __init__(self, widget: QWidget) -> None:
        self._widget = widget
        self._state: Hashable = None
        self._key: QPixmapCache.Key | None = None

    def show(self, state: Hashable, paint: Callable[[QPainter], None]) -> None:
        """Within the widget's paint event: paint on it what `paint` paints, or painted when the state was this."""
        w = self._widget
        scale = w.devicePixelRatioF()
        state = state, w.size().toTuple(), scale, theme.current().name, w.hasFocus(), w.isEnabled()
        pixmap = QPixmap()
        if state != self._state or self._key is None or not QPixmapCache.find(self._key, pixmap):
            pixmap = QPixmap(w.size() * scale)
            pixmap.setDevicePixelRatio(scale)
            pixmap.fill(Qt.GlobalColor.transparent)
            painter = QPainter(pixmap)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            paint(painter)
            painter.end()
            if self._key is not None:
                QPixmapCache.remove(self._key)
            self._state, self._key = state, QPixmapCache.insert(pixmap)
        painter = QPainter(w)
        painter.drawPixmap(0, 0, pixmap)
        painter.end()
