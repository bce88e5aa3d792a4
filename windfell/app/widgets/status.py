"""The status line: what is happening, how far, stop; what is under the pointer; zoom."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QWidget

from windfell.app import theme
from windfell.app.work import Desk
from windfell.cli.progress import sentence

SAID_FOR_MS, SOON_MS = 9000, 50


class StatusLine(QWidget):
    """Progress while something runs, else the last thing said."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("status")
        self._desk = desk
        self._showed_progress = False
        self.words = QLabel()
        self.words.setMinimumWidth(80)
        self.bar = QProgressBar(textVisible=False)
        self.bar.setFixedWidth(150)
        self.bar.setRange(0, 1000)
        self.stop = QPushButton("Stop")
        self.stop.setToolTip("Stop what is running (Esc)")
        self.pointer = QLabel()
        self.pointer.setFont(theme.numbers_font(8.5))
        self.zoom = QLabel()
        self.zoom.setFont(theme.numbers_font(8.5))
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 3, 14, 3)
        row.setSpacing(10)
        row.addWidget(self.words, 1)
        for part in (self.bar, self.stop, self.pointer, self.zoom):
            row.addWidget(part)
        self.setFixedHeight(36)
        self._said = QTimer(self, singleShot=True, interval=SAID_FOR_MS)
        self._said.timeout.connect(lambda: self._write("", "ink"))
        # later and at most so often: whoever asks the desk may be painting, and a bar that changes paints at once
        self._soon = QTimer(self, singleShot=True, interval=SOON_MS)
        self._soon.timeout.connect(self.refresh)
        desk.progressed.connect(self._progressed)
        self._role = "ink"
        self.retheme()
        self.refresh()

    def retheme(self) -> None:
        self.stop.setIcon(theme.icon("octagon-x", "rowan"))
        self._write(self.words.text(), self._role)

    def _progressed(self) -> None:
        if not self._soon.isActive():
            self._soon.start()

    def say(self, text: str, kind: str) -> None:
        """Show a sentence; errors stay until the next one."""
        mark = {"wrong": "⚠ ", "good": "✓ "}.get(kind, "")
        self._write(mark + text, {"wrong": "rowan", "good": "moss"}.get(kind, "ink"))
        self._said.stop() if kind == "wrong" else self._said.start()

    def _write(self, text: str, role: str) -> None:
        self._role = role
        self.words.setText(text)
        self.words.setToolTip(text)
        style = f"color: {getattr(theme.current(), role)};"
        if style != self.words.styleSheet():
            self.words.setStyleSheet(style)

    def refresh(self) -> None:
        progress = self._desk.foremost()
        self.bar.setVisible(progress is not None)
        self.stop.setVisible(progress is not None)
        if progress is not None:
            self.bar.setValue(round(1000 * progress.fraction))
            self.bar.setToolTip(sentence(progress))
            self.pointer.setText(sentence(progress))
        elif self._showed_progress:
            self.pointer.setText("")
        self._showed_progress = progress is not None

    def point(self, words: str) -> None:
        if self._desk.foremost() is None:
            self.pointer.setText(words)

    def show_zoom(self, zoom: float) -> None:
        self.zoom.setText(f"{100 * zoom:.0f} %")
