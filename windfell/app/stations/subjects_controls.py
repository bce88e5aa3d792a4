"""Subjects' controls at the left: what lies behind, shadows, outlines, what is taken at once."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from windfell.app.stations.station import Station
from windfell.app.widgets.ruler import Ruler
from windfell.subjects.suggesting import Suggest

FAR = 100.0
# words, tip, the ruler's words, unit, least, most, where it rests
WAYS = {
    Suggest.MOST: ("As many as fit", "The largest set without conflicts", "", "", 1.0, 2.0, 1.0),
    Suggest.EVEN: ("Evenly spread", "So many of each track, evenly along its way", "How many", "", 1.0, 40.0, 5.0),
    Suggest.NTH: ("Every n-th", "Every n-th of each track", "Every", "", 1.0, 30.0, 2.0),
    Suggest.APART: ("Apart", "None nearer to another than so much of the picture's diagonal", "Apart", "%", 1.0, 60.0,
                    15.0)}


class SubjectsControls(QWidget):
    """`changed`: something that is only seen; the others as they are named."""

    base_picked = Signal(object)
    shadows_changed = Signal(str, bool)
    seen_changed = Signal()

    def __init__(self, layout: QVBoxLayout) -> None:
        super().__init__()
        layout.setContentsMargins(16, 6, 12, 4)
        layout.setSpacing(4)
        layout.addWidget(Station.title("Subjects"))
        self.words = Station.quiet()
        layout.addWidget(self.words)
        self.base = QComboBox()
        self.base.setAccessibleName("Behind the pieces")
        self.base.setToolTip("What is seen behind the pieces: the picture of Combine's rule, or a frame")
        self.base.activated.connect(lambda n: self.base_picked.emit(self.base.itemData(n)))
        layout.addLayout(_row(QLabel("Behind"), self.base, stretch=1))
        self.shadows = QCheckBox("With shadows")
        self.shadows.setToolTip("What is taken brings its shadow, its reflection and the light it spills")
        self.shadows.setChecked(True)
        self.shadows.clicked.connect(lambda: self.shadows_changed.emit("shadows", True))
        self.reach = Ruler("Reach", 1.0, FAR, FAR, "%", 1.0)
        self.reach.setToolTip("How far from the thing its shadow, reflection and spilled light are taken, in % of "
                              "its height; at the end all of it")
        self.reach.set_value(FAR)
        self.reach.changed.connect(lambda _, first: self.shadows_changed.emit("reach", first))
        layout.addLayout(_row(self.shadows, self.reach, stretch=1, spacing=14))
        self.outlined = QCheckBox("Outlines")
        self.outlined.setToolTip("Draw them on the picture: whole lines what is taken, dotted the one in hand")
        self.outlined.setChecked(True)
        self.alone = QCheckBox("Matte")
        self.alone.setToolTip("The piece in hand by itself in black and white; rings mark its holes and leaks")
        for box in (self.outlined, self.alone):
            box.clicked.connect(lambda: self.seen_changed.emit())
        self.way = QComboBox()
        self.way.setAccessibleName("What is suggested")
        self.way.setToolTip("Which of the movers are taken by a press on Suggest")
        for way, (words, tip, *_) in WAYS.items():
            self.way.addItem(words, way)
            self.way.setItemData(self.way.count() - 1, tip, 3)
        self.way.activated.connect(lambda _: self._way_picked())
        self.suggest = QPushButton("Suggest")
        self.suggest.setToolTip("Take them, none in conflict with another")
        self.numbers = {way: Ruler(words or "Amount", low, high, rest, unit, 1.0)
                        for way, (_, _, words, unit, low, high, rest) in WAYS.items()}
        layout.addLayout(_row(self.outlined, self.alone, self.way, self.suggest, stretch=2))
        for way, ruler in self.numbers.items():
            ruler.set_value(WAYS[way][-1])
            layout.addWidget(ruler)
        self.all, self.none = QPushButton("All"), QPushButton("None")
        self.follow, self.drop = QPushButton("Box…", checkable=True), QPushButton("Drop")
        self.mend = QPushButton("Mend")
        for button, tip in (
                (self.all, "Take every piece"), (self.none, "Leave every piece"),
                (self.follow, "Draw a box around one subject: only that is left on the shelf, followed through the "
                              "frames"),
                (self.drop, "Keep aside the frames whose light changed"),
                (self.mend, "Something stands so long that the plate shows it: lay the ground over it; where it "
                            "cannot be told, press the sign on the picture to choose")):
            button.setToolTip(tip)
        row = QHBoxLayout()
        row.setSpacing(4)
        for button in (self.all, self.none, self.follow, self.drop, self.mend):
            row.addWidget(button)
        layout.addLayout(row)
        layout.addStretch(1)
        self._way_picked()

    def _way_picked(self) -> None:
        for way, ruler in self.numbers.items():
            ruler.setVisible(way is self.suggested and way is not Suggest.MOST)

    @property
    def suggested(self) -> Suggest:
        return Suggest(self.way.currentData())  # the box gives its words back as plain ones

    @property
    def number(self) -> float:
        return self.numbers[self.suggested].value

    @property
    def reach_share(self) -> float | None:
        """How far shadows are taken, as a share of the thing's height; None: all of them."""
        return None if self.reach.value >= FAR else self.reach.value / 100

    def allow(self, there: bool) -> None:
        """Whether there is anything to take."""
        for part in (self.suggest, self.all, self.none, self.follow):
            part.setEnabled(there)
        self.reach.setEnabled(self.shadows.isChecked())


def _row(*parts: QWidget, stretch: int, spacing: int = 6) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setSpacing(spacing)
    for n, part in enumerate(parts):
        row.addWidget(part, int(n == stretch))
    return row
