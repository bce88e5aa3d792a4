"""The page of two frames side by side with its tools, and the bench with the list of their points."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.widgets.bar import bar_above
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.point_list import ErrorPlot, PointList

TOOLS = (
    ("points", "Points", "Click a spot in one frame, its partner is looked for; drag moves a point"),
    ("level", "Level", "Draw along something that is level"),
    ("upright", "Upright", "Draw along something that stands upright"),
    ("straight", "Straight", "Click along something straight; a double click ends the line"),
    ("ignore", "Ignore", "Paint or draw around where no point may be taken: water, clouds, people"),
)


class PairPage(QWidget):
    """A bar with the pair, the tools and what they do; below it two panes."""

    def __init__(self, panes: Sequence[QWidget]) -> None:
        super().__init__()
        column, row = bar_above(self)
        self.pairs = QComboBox()
        self.pairs.setAccessibleName("Pair of frames")
        self.pairs.setToolTip("The pair of frames shown; how many points they share, and the error of these")
        self.pairs.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.pairs.setMinimumWidth(150)
        self.pairs.setMaximumWidth(196)
        self.tools = Choice("", TOOLS)
        self.tools.set_value("points")
        self.words = QLabel()
        self.words.setProperty("role", "quiet")
        self.words.setWordWrap(True)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.for_all = QPushButton("For all frames")
        self.for_all.setToolTip("The ignored area in hand counts in all frames of the set")
        for part in (self.pairs, self.tools, self.for_all):
            row.addWidget(part)
        self.tools.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Preferred)
        row.addWidget(self.words, 1)
        both = QHBoxLayout()
        both.setContentsMargins(0, 0, 0, 0)
        both.setSpacing(2)
        for pane in panes:
            both.addWidget(pane, 1)
        column.addLayout(both, 1)


class PointsBoard(QWidget):
    """The list of all points, what is done with the chosen one, and the plot of errors."""

    def __init__(self) -> None:
        super().__init__()
        self.list, self.plot = PointList(), ErrorPlot()
        self.worst = _button("Worst", "Go to the point with the largest error")
        self.delete = _button("Delete", "Delete the chosen point or line")
        self.fill = _button("Fill in", "Look for points where the overlap of this pair has none")
        self.weight = _field("Weight of the chosen point")
        self.weight.setToolTip("How much the chosen point counts beside others, 0.01 to 100")
        self.limit = _field("Leave out points worse than")
        self.limit.setToolTip("Found points with a larger error, in px, do not count; nothing: all count")
        self.limit.setPlaceholderText("none")
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 16, 8)
        row.setSpacing(10)
        side = QVBoxLayout()
        buttons = QHBoxLayout()
        for button in (self.worst, self.delete, self.fill):
            buttons.addWidget(button)
        side.addLayout(buttons)
        for label, field in (("Weight", self.weight), ("Leave out worse than, px", self.limit)):
            line = QHBoxLayout()
            line.addWidget(QLabel(label))
            line.addStretch(1)
            line.addWidget(field)
            side.addLayout(line)
        side.addWidget(self.plot, 1)
        row.addWidget(self.list, 3)
        row.addLayout(side, 2)


def _button(words: str, tip: str) -> QPushButton:
    button = QPushButton(words)
    button.setToolTip(tip)
    return button


def _field(name: str) -> QLineEdit:
    field = QLineEdit()
    field.setFont(theme.numbers_font())
    field.setAccessibleName(name)
    field.setFixedWidth(60)
    return field
