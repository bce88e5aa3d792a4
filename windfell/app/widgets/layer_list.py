"""A pile's layers as rows that can be moved among each other."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QDrag
from PySide6.QtWidgets import QAbstractItemView, QListWidget


class LayerList(QListWidget):
    """Rows that are dragged, or sent by Alt with up and down, elsewhere; `moved(from, to)` counts from the top."""

    moved = Signal(int, int)

    def __init__(self, name: str, tip: str, wide: int | None = None) -> None:
        super().__init__()
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.setAccessibleName(name)
        self.setToolTip(tip)
        if wide is not None:
            self.setFixedWidth(wide)

    def startDrag(self, actions) -> None:
        """The list itself moves the row when it is dropped."""
        drag = QDrag(self)
        drag.setMimeData(self.model().mimeData(self.selectedIndexes()))
        drag.exec(Qt.DropAction.MoveAction)

    def keyPressEvent(self, event) -> None:
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(event.key())
        if step is not None and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            if 0 <= self.currentRow() + step < self.count() - 1 and self.currentRow() < self.count() - 1:
                self.moved.emit(self.currentRow(), self.currentRow() + step)
            return
        super().keyPressEvent(event)

    def dropEvent(self, event) -> None:
        before = self.currentRow()
        super().dropEvent(event)
        after = self.currentRow()
        if after != before:
            self.moved.emit(before, after)
