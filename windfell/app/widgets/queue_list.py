"""The queue as a list: each entry's name, how far it is, and what can be done with it."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.export_queue import Entry, State
from windfell.cli.progress import in_words

MARKS = {State.WAITING: "…", State.WRITING: "→", State.DONE: "✓", State.FAILED: "✗", State.STOPPED: "■"}
ROLES = {State.DONE: "good", State.FAILED: "wrong"}


class QueueRow(QFrame):
    """One entry."""

    removed = Signal(int)
    again = Signal(int)

    def __init__(self, number: int) -> None:
        super().__init__()
        self.number = number
        row = QHBoxLayout(self)
        row.setContentsMargins(2, 1, 2, 1)
        row.setSpacing(8)
        self.mark, self.name, self.words = QLabel(), QLabel(), QLabel()
        self.mark.setFixedWidth(14)
        self.words.setProperty("role", "quiet")
        self.words.setFont(theme.numbers_font(8.5))
        self.words.setMinimumWidth(20)
        self.bar = QProgressBar(textVisible=False)
        self.bar.setRange(0, 1000)
        self.bar.setFixedWidth(90)
        self.more = QPushButton("Again")
        self.more.clicked.connect(lambda: self.again.emit(number))
        self.gone = QPushButton("Remove")
        self.gone.clicked.connect(lambda: self.removed.emit(number))
        row.addWidget(self.mark)
        row.addWidget(self.name)
        row.addWidget(self.words, 1)
        for part in (self.bar, self.more, self.gone):
            row.addWidget(part)

    def show_entry(self, entry: Entry) -> None:
        self.mark.setText(MARKS[entry.state])
        self.mark.setToolTip(str(entry.state).capitalize())
        self.name.setText(f"{entry.name} → {entry.path.name}")
        self.name.setToolTip(str(entry.path))
        self.words.setText(_words(entry))
        self.words.setToolTip(entry.words)
        self.words.setProperty("role", ROLES.get(entry.state, "quiet"))
        self.words.style().unpolish(self.words)
        self.words.style().polish(self.words)
        self.bar.setVisible(entry.state is State.WRITING)
        self.bar.setValue(round(1000 * entry.share))
        self.more.setVisible(entry.state in (State.FAILED, State.STOPPED))
        self.gone.setText("Stop" if entry.state is State.WRITING else "Remove")
        self.gone.setAccessibleName(f"{self.gone.text()} {entry.name}")


def _words(entry: Entry) -> str:
    if entry.state is State.WRITING:
        left = entry.remaining_s
        return f"{in_words(left)} left" if left is not None else (entry.words or "beginning")
    if entry.state is State.DONE:
        return f"written in {in_words(entry.seconds)}"
    return entry.words or str(entry.state)


class QueueList(QScrollArea):
    """All entries, in their order."""

    removed = Signal(int)
    again = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("The queue")
        inner = QWidget()
        self._column = QVBoxLayout(inner)
        self._column.setContentsMargins(0, 0, 4, 0)
        self._column.setSpacing(1)
        self._empty = QLabel("Nothing waits. “Add to queue” puts this set here, as it is now.")
        self._empty.setProperty("role", "quiet")
        self._empty.setWordWrap(True)
        self._column.addWidget(self._empty)
        self._column.addStretch(1)
        self.setWidget(inner)
        self.rows: dict[int, QueueRow] = {}

    def show_entries(self, entries: list[Entry]) -> None:
        """Rows for the entries; those that stay are changed in place, so that a press never misses."""
        numbers = {e.number for e in entries}
        for number in [n for n in self.rows if n not in numbers]:
            row = self.rows.pop(number)
            self._column.removeWidget(row)
            row.deleteLater()
        for entry in entries:
            if entry.number not in self.rows:
                row = QueueRow(entry.number)
                row.removed.connect(self.removed)
                row.again.connect(self.again)
                self._column.insertWidget(self._column.count() - 1, row)
                self.rows[entry.number] = row
            self.rows[entry.number].show_entry(entry)
        self._empty.setVisible(not entries)
