"""The list of findings: each with its weight by form, what it will cost, and its fix beside it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from windfell.app import theme
from windfell.readiness.findings import Finding, Mend, Weight

COLOURS = {Weight.WRONG: "rowan", Weight.DOUBTFUL: "gorse", Weight.NOTE: "tarn"}
MEANINGS = {Weight.WRONG: "It spoils the picture", Weight.DOUBTFUL: "It may show", Weight.NOTE: "Good to know"}


class WeightMark(QWidget):
    """A cairn for what spoils, a lozenge for what may show, a ring for a note."""

    def __init__(self, weight: Weight) -> None:
        super().__init__()
        self._weight = weight
        self.setFixedSize(QSize(20, 20))
        self.setToolTip(MEANINGS[weight])
        self.setAccessibleName(MEANINGS[weight])

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(theme.colour(COLOURS[self._weight]), 2.2))
        p.setBrush(theme.colour(COLOURS[self._weight], 60))
        if self._weight is Weight.WRONG:
            p.drawPolygon(QPolygonF([QPointF(10, 2), QPointF(18, 17), QPointF(2, 17)]))
        elif self._weight is Weight.DOUBTFUL:
            p.drawPolygon(QPolygonF([QPointF(10, 2), QPointF(18, 10), QPointF(10, 18), QPointF(2, 10)]))
        else:
            p.drawEllipse(QPointF(10, 10), 7, 7)


class FindingRow(QFrame):
    """One finding. A click on its words shows the first frame it names."""

    shown = Signal(object)
    mended = Signal(object)

    def __init__(self, finding: Finding) -> None:
        super().__init__()
        self.finding = finding
        self.setObjectName("finding")
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 5, 8, 5)
        row.setSpacing(9)
        row.addWidget(WeightMark(finding.weight), 0, Qt.AlignmentFlag.AlignTop)
        words = QVBoxLayout()
        words.setSpacing(1)
        title = QLabel(finding.title)
        title.setWordWrap(True)
        cost = QLabel(finding.cost)
        cost.setProperty("role", "quiet")
        cost.setWordWrap(True)
        words.addWidget(title)
        words.addWidget(cost)
        row.addLayout(words, 1)
        self.show_button = None
        if finding.frames:
            self.show_button = QPushButton("Show")
            self.show_button.setToolTip("Show the first frame it names")
            self.show_button.clicked.connect(lambda: self.shown.emit(finding))
            row.addWidget(self.show_button)
        self.mend_button = None
        if finding.mend is not Mend.NONE:
            self.mend_button = QPushButton(finding.mend_words)
            self.mend_button.setToolTip(
                "Safe: nothing is lost by it" if finding.safe else "Judge for yourself; it can be undone")
            self.mend_button.clicked.connect(lambda: self.mended.emit(finding))
            row.addWidget(self.mend_button)


class FindingsList(QWidget):
    """All findings of the set in hand, or that there are none."""

    shown = Signal(object)
    mended = Signal(object)
    all_safe = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[FindingRow] = []
        self._listed: tuple | None = None
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 8, 16, 8)
        outer.setSpacing(5)
        head = QHBoxLayout()
        self._title = QLabel("Readiness")
        self._title.setProperty("role", "title")
        head.addWidget(self._title)
        self._summary = QLabel("")
        self._summary.setProperty("role", "quiet")
        head.addWidget(self._summary, 1)
        self.fix_all = QPushButton("Fix all that is safe")
        self.fix_all.setToolTip("Carry out all fixes that take nothing away, as one step that can be undone")
        self.fix_all.setProperty("main", True)
        self.fix_all.clicked.connect(self.all_safe)
        head.addWidget(self.fix_all)
        outer.addLayout(head)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        outer.addWidget(self._area, 1)

    def show_findings(self, found: list[Finding], state: str, wrong: bool = False) -> None:
        """The findings, and a sentence on how they stand."""
        self._summary.setText(state)
        self._summary.setProperty("role", "wrong" if wrong else "quiet")
        self._summary.style().polish(self._summary)
        self.fix_all.setEnabled(any(f.safe for f in found))
        listed = (tuple(found), theme.current().name)
        if listed == self._listed:
            return
        self._listed = listed
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        self.rows = []
        for finding in found:
            row = FindingRow(finding)
            row.shown.connect(self.shown)
            row.mended.connect(self.mended)
            column.addWidget(row)
            self.rows.append(row)
        column.addStretch(1)
        old = self._area.takeWidget()
        if old is not None:
            old.hide()
            old.setParent(self)
            old.deleteLater()
        self._area.setWidget(inner)
