"""What is in hand while an area is drawn, above the picture: which area, of what, and its few controls."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QPixmap
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QToolButton, QVBoxLayout, QWidget

from windfell.app.picture.area_tool import KINDS, LARGEST, SMALLEST
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler

VEILS = (("gorse", "#e0a000"), ("rowan", "#e0352b"), ("moss", "#2fa84f"), ("tarn", "#1f8fd0"), ("heather", "#a04fd0"))


class AreaBar(QWidget):
    """`changed(name, value, starts)` of the rulers "grow" and "feather"; the rest has signals of its own."""

    kind_picked = Signal(str)
    meets_picked = Signal(str)
    brush_changed = Signal(float, float, float)
    changed = Signal(str, float, bool)
    inverted = Signal(bool)
    alone = Signal(bool)
    veil_picked = Signal(QColor)
    mend_asked = Signal()
    cleared = Signal()
    done = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("bench")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._bottom = QWidget()
        self._bottom.setLayout(self._row_of_the_whole())
        self._bottom.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 6, 14, 6)
        column.setSpacing(4)
        column.addLayout(self._row_of_kinds())
        column.addLayout(self._row_of_the_brush())
        column.addWidget(self._bottom)

    def _row_of_kinds(self) -> QHBoxLayout:
        self.name, self.found = QLabel(""), QLabel("")
        self.name.setProperty("role", "title")
        self.found.setProperty("role", "quiet")
        self.kinds = Choice("", KINDS)
        self.kinds.set_value("brush")
        self.kinds.picked.connect(self.kind_picked)
        self.meets = Choice("", (
            ("add", "Add", "What is drawn joins the area"), ("take", "Take away", "What is drawn leaves the area")))
        self.meets.set_value("add")
        self.meets.picked.connect(self.meets_picked)
        self.finished = self._button("Done", "Put the brush away", self.done)
        row = QHBoxLayout()
        row.setSpacing(12)
        row.addWidget(self.name)
        row.addWidget(self.found)
        row.addStretch(1)
        for part in (self.kinds, self.meets, self.finished):
            row.addWidget(part)
        return row

    def _row_of_the_brush(self) -> QHBoxLayout:
        self.brush = Ruler("Size", SMALLEST, LARGEST, 60.0, "px", 1, 40)
        self.softness = Ruler("Softness", 0, 100, 50, "%", 1, 60)
        self.strength = Ruler("Strength", 1, 100, 100, "%", 1, 60)
        self.more = QToolButton(text="More", checkable=True)
        self.more.setToolTip("Grow, feather, invert, the area alone, holes and specks")
        self.more.toggled.connect(self._bottom.setVisible)
        row = QHBoxLayout()
        row.setSpacing(16)
        for ruler in (self.brush, self.softness, self.strength):
            ruler.changed.connect(lambda *_: self._send_brush())
            row.addWidget(ruler)
        row.addWidget(self.more)
        return row

    def _row_of_the_whole(self) -> QHBoxLayout:
        self.grow = Ruler("Grow", -5.0, 5.0, 0.0, "%", 0.05, 40)
        self.grow.setToolTip("The whole area grown or shrunk, in % of the picture's width")
        self.feather = Ruler("Feather", 0.0, 10.0, 0.0, "%", 0.05, 60)
        self.feather.setToolTip("The whole area's edge made soft, in % of the picture's width")
        for name in ("grow", "feather"):
            getattr(self, name).changed.connect(lambda v, first, n=name: self.changed.emit(n, v, first))
        self.invert = self._switch("Invert", "What was outside is inside", self.inverted)
        self.solo = self._switch("Alone", "The area in black and white: are there holes, does it leak?", self.alone)
        self.veil = QComboBox()
        self.veil.setAccessibleName("Colour of the veil")
        self.veil.setToolTip("The colour in which the area is seen on the picture")
        for name, colour in VEILS:
            square = QPixmap(14, 14)
            square.fill(QColor(colour))
            self.veil.addItem(square, name.capitalize(), colour)
        self.veil.activated.connect(lambda n: self.veil_picked.emit(QColor(self.veil.itemData(n))))
        self.mend = self._button("Mend", "Fill small holes and take small specks away", self.mend_asked)
        self.clear = self._button("Clear", "Begin the area anew", self.cleared)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(12)
        row.addWidget(self.grow, 1)
        row.addWidget(self.feather, 1)
        for part in (self.invert, self.solo, self.veil, self.mend, self.clear):
            row.addWidget(part)
        return row

    @staticmethod
    def _button(words: str, tip: str, signal) -> QPushButton:
        button = QPushButton(words)
        button.setToolTip(tip)
        button.clicked.connect(lambda _=False: signal.emit())
        return button

    def _switch(self, words: str, tip: str, signal) -> QPushButton:
        button = QPushButton(words, checkable=True)
        button.setToolTip(tip)
        button.clicked.connect(signal)
        return button

    def _send_brush(self) -> None:
        self.brush_changed.emit(self.brush.value, self.softness.value, self.strength.value)

    def show_kind(self, kind: str) -> None:
        """Enable what the kind of drawing uses."""
        self.kinds.set_value(kind)
        self.brush.setEnabled(kind in ("brush", "find"))
        self.softness.setEnabled(kind in ("brush", "outline", "ellipse", "bright", "hue"))
