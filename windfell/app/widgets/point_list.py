"""All control points in a list that sorts by any column, and a plot of their errors."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QSizePolicy, QTableView, QWidget

from windfell.app import theme
from windfell.app.picture.point_pane import POOR_PX, mark_form

HEADERS = ("Pair", "Error px", "Where", "Made")


@dataclass(frozen=True)
class Row:
    """A control point: frame numbers in use from 0, px in both, error, and its place among the hand-made ones."""

    a: int
    b: int
    at_a: tuple[float, float]
    at_b: tuple[float, float]
    error: float
    by_hand: int | None


class _Rows(QAbstractTableModel):
    def __init__(self) -> None:
        super().__init__()
        self.rows: list[Row] = []
        self.order: list[int] = []
        self.numbers: list[int] = []
        self._sorted = (1, Qt.SortOrder.DescendingOrder)

    def show_rows(self, rows: list[Row], numbers: list[int]) -> None:
        self.beginResetModel()
        self.rows, self.numbers = rows, numbers
        self._sort()
        self.endResetModel()

    def _sort(self) -> None:
        column, way = self._sorted
        keys = (lambda r: (r.a, r.b), lambda r: r.error, lambda r: r.at_a, lambda r: r.by_hand is None)
        self.order = sorted(range(len(self.rows)), key=lambda n: keys[column](self.rows[n]),
                            reverse=way == Qt.SortOrder.DescendingOrder)

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.beginResetModel()
        self._sorted = column, order
        self._sort()
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return len(HEADERS)

    def headerData(self, section: int, orientation, role: int = 0):
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return HEADERS[section]
        return None

    def data(self, index: QModelIndex, role: int = 0):
        row = self.rows[self.order[index.row()]]
        if role == Qt.ItemDataRole.ForegroundRole and index.column() == 1:
            return QColor(getattr(theme.current(), mark_form(row.error, False)[1]))
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        return (
            f"{self.numbers[row.a]} – {self.numbers[row.b]}", f"{row.error:.2f}",
            f"{row.at_a[0]:.0f}, {row.at_a[1]:.0f}", "found" if row.by_hand is None else "by hand",
        )[index.column()]


class PointList(QTableView):
    """`picked(n)` when a row is chosen, by its place in what was shown."""

    picked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.rows = _Rows()
        self.setModel(self.rows)
        self.setSortingEnabled(True)
        self.sortByColumn(1, Qt.SortOrder.DescendingOrder)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setShowGrid(False)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(22)
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.setAccessibleName("Control points")
        self.setToolTip("Control points and their errors in px; a press goes there")
        self.selectionModel().currentRowChanged.connect(self._changed)

    def show_rows(self, rows: list[Row], numbers: list[int]) -> None:
        self.rows.show_rows(rows, numbers)

    def choose(self, n: int | None) -> None:
        """Show a row as chosen, without saying so."""
        self.selectionModel().blockSignals(True)
        if n is None or n not in self.rows.order:
            self.clearSelection()
        else:
            self.selectRow(self.rows.order.index(n))
            self.scrollTo(self.rows.index(self.rows.order.index(n), 0))
        self.selectionModel().blockSignals(False)
        self.viewport().update()

    def _changed(self, current: QModelIndex, _before: QModelIndex) -> None:
        if current.isValid():
            self.picked.emit(self.rows.order[current.row()])


class ErrorPlot(QWidget):
    """How many points have which error; the limit beyond which they are poor is marked."""

    BINS = 24

    def __init__(self) -> None:
        super().__init__()
        self.errors = np.zeros(0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Errors of all points")

    def minimumSizeHint(self) -> QSize:
        return QSize(120, 60)

    def show_errors(self, errors: np.ndarray) -> None:
        self.errors = errors
        self.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setFont(theme.numbers_font(8))
        if not len(self.errors):
            return
        top = max(float(np.percentile(self.errors, 99.5)) * 1.05, 0.2)
        counts, edges = np.histogram(np.minimum(self.errors, top), self.BINS, (0, top))
        box = QRectF(4, 4, self.width() - 8, self.height() - 24)
        wide = box.width() / self.BINS
        for n, count in enumerate(counts):
            high = box.height() * count / counts.max()
            name = mark_form(float(edges[n]), False)[1]
            p.fillRect(QRectF(box.x() + n * wide, box.bottom() - high, wide - 1, high), theme.colour(name))
        p.setPen(theme.colour("quiet"))
        flags = Qt.AlignmentFlag.AlignBottom
        whole = QRectF(4, 0, self.width() - 8, self.height() - 2)
        p.drawText(whole, flags | Qt.AlignmentFlag.AlignLeft, "0")
        p.drawText(whole, flags | Qt.AlignmentFlag.AlignRight, f"{top:.2f} px")
        over = int((self.errors > POOR_PX).sum())
        words = f"median {np.median(self.errors):.2f} px" + (f", {over} beyond {POOR_PX:.0f}" if over else "")
        p.drawText(whole, flags | Qt.AlignmentFlag.AlignHCenter, words)
