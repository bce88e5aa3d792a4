"""The window's parts change their theme one after another: what is seen first, the rest when nobody waits."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtCore import QEvent, QObject, QTimer
from PySide6.QtWidgets import QWidget

from windfell.app import theme


class Wardrobe(QObject):
    """Parts that are still to be dressed, as there are some now. Where one is shown before its turn comes, nothing
    is painted until it and what else is seen is dressed.
    """

    def __init__(self, window: QWidget, parts: Callable[[], Iterable[QWidget]]) -> None:
        super().__init__(window)
        self._window, self._parts = window, parts
        self._turn = QTimer(self, interval=0)
        self._turn.timeout.connect(self._next)
        for part in parts():
            theme.dress(part)

    @property
    def settled(self) -> bool:
        return not self._turn.isActive()

    def change(self) -> None:
        """Begin to dress everything in the current theme; nothing is painted until all that is seen is dressed."""
        self._window.setUpdatesEnabled(False)
        for part in self._parts():
            part.installEventFilter(self)
        self._turn.start()

    def _next(self) -> None:
        left = sorted((p for p in self._parts() if not theme.is_dressed(p)), key=lambda p: not p.isVisible())
        if left:
            theme.dress(left[0])
        if len(left) < 2:
            self._turn.stop()
        if not any(p.isVisible() for p in left[1:]):
            self._window.setUpdatesEnabled(True)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and not theme.is_dressed(watched):
            self._window.setUpdatesEnabled(False)
            self._turn.start()
        return False
