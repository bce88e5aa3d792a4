"""The command finder: every action by a few letters of its words."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget


class CommandFinder(QDialog):
    """Type, choose with the arrow keys, Enter runs it."""

    def __init__(self, parent: QWidget, actions: Sequence[QAction]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find a command")
        self.resize(460, 380)
        self._actions = list(actions)
        self.field = QLineEdit()
        self.field.setPlaceholderText("What do you want to do?")
        self.field.setAccessibleName("Command")
        self.field.textChanged.connect(self._filter)
        self.field.installEventFilter(self)
        self.list = QListWidget()
        self.list.itemActivated.connect(self._run)
        layout = QVBoxLayout(self)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self._filter("")

    def eventFilter(self, watched, event) -> bool:
        if event.type() == event.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(event.key())
            if step:
                row = max(0, min(self.list.count() - 1, self.list.currentRow() + step))
                self.list.setCurrentRow(row)
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._run(self.list.currentItem())
                return True
        return super().eventFilter(watched, event)

    def _filter(self, text: str) -> None:
        self.list.clear()
        wanted = text.lower().split()
        for action in self._actions:
            words = action.text().replace("&", "")
            if all(w in words.lower() for w in wanted):
                keys = action.shortcut().toString()
                item = QListWidgetItem(words + (f"      {keys}" if keys else ""))
                item.setData(Qt.ItemDataRole.UserRole, action)
                if not action.isEnabled():
                    item.setFlags(Qt.ItemFlag.NoItemFlags)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _run(self, item: QListWidgetItem | None) -> None:
        if item is None:
            return
        action = item.data(Qt.ItemDataRole.UserRole)
        self.accept()
        if action.isEnabled():
            action.trigger()
