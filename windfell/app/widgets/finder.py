"""The command finder: every action by a few letters of its words, its shortcut, and why it cannot be done now."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHeaderView,
    QLineEdit,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme


class CommandFinder(QDialog):
    """Type, choose with the arrow keys, Enter runs it."""

    def __init__(self, parent: QWidget, actions: Sequence[QAction], why: Callable[[QAction], str]) -> None:
        """`why` says in a few words why an action cannot be carried out now."""
        super().__init__(parent)
        self._why = why
        self.setWindowTitle("Find a command")
        self.resize(560, 420)
        self._actions = list(actions)
        self.field = QLineEdit()
        self.field.setPlaceholderText("What do you want to do?")
        self.field.setAccessibleName("Command")
        self.field.textChanged.connect(self._filter)
        self.field.installEventFilter(self)
        self.list = QTreeWidget()
        self.list.setColumnCount(2)
        self.list.setHeaderHidden(True)
        self.list.setRootIsDecorated(False)
        self.list.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.list.header().setStretchLastSection(False)
        self.list.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.list.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.list.itemActivated.connect(self._run)
        layout = QVBoxLayout(self)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self._filter("")
        theme.dress(self)

    def eventFilter(self, watched, event) -> bool:
        if event.type() == event.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(event.key())
            if step:
                row = self.list.indexOfTopLevelItem(self.list.currentItem()) + step
                self._choose(max(0, min(self.list.topLevelItemCount() - 1, row)))
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
                keys = action.shortcut().toString(QKeySequence.SequenceFormat.NativeText)
                reason = "" if action.isEnabled() else self._why(action)
                item = QTreeWidgetItem([words + (f"  ({reason})" if reason else ""), keys])
                item.setData(0, Qt.ItemDataRole.UserRole, action)
                item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                item.setFont(1, theme.numbers_font(9))
                if reason:
                    for column in (0, 1):
                        item.setForeground(column, theme.colour("quiet"))
                self.list.addTopLevelItem(item)
        self._choose(0)

    def _choose(self, row: int) -> None:
        self.list.setCurrentItem(self.list.topLevelItem(row))

    def _run(self, item: QTreeWidgetItem | None) -> None:
        if item is None:
            return
        action = item.data(0, Qt.ItemDataRole.UserRole)
        if action.isEnabled():
            self.accept()
            action.trigger()
