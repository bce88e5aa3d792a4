"""Align: which frames hold together, how well, and why one does not."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from windfell.align.registration import PanoramaRegistration, Placed
from windfell.align.series import Onto
from windfell.app import theme
from windfell.app.registrations import Registrations
from windfell.app.session import Session
from windfell.app.stations.overlap_map import OverlapMap, link_form
from windfell.app.stations.station import Station
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.choice import Choice
from windfell.geometry import planar
from windfell.recipe.model import Align as Way
from windfell.recipe.model import Kind

_ORIGIN = np.zeros((1, 2))


class Align(Station):
    """Panorama: the overlap map and links. Stack: the way of alignment and every frame's place."""

    name = "align"

    def __init__(self, session: Session, found: Registrations, thumbnails: Thumbnails) -> None:
        super().__init__(session)
        self.found = found
        self.map = OverlapMap(session, found, thumbnails)
        self.map.picked.connect(session.select_frame)
        self.page = self.map
        self.again = QPushButton("Align again")
        self.again.setToolTip("Register the set in hand anew")
        self.again.clicked.connect(lambda: found.ask(again=True))
        self.level = QCheckBox("Level the horizon by itself")
        self.level.clicked.connect(lambda on: session.change("registration.level", on, True))
        self.focal = QLineEdit()
        self.focal.setFont(theme.numbers_font())
        self.focal.setFixedWidth(96)
        self.focal.setAccessibleName("Focal length in px")
        self.focal.editingFinished.connect(self._focal_typed)
        self.way = Choice("Align by", [(str(w), str(w), tip) for w, tip in (
            (Way.NONE, "Leave every frame where it is, as on a tripod"),
            (Way.SHIFT, "Move the frames sideways"),
            (Way.SIMILARITY, "Move, turn and scale the frames"),
            (Way.PERSPECTIVE, "Bend the frames in perspective, as held in hand"))])
        self.way.picked.connect(lambda v: session.change("registration.align", Way(v), True))
        self.reference = QComboBox()
        self.reference.setAccessibleName("Reference frame")
        self.reference.activated.connect(self._reference_chosen)
        self._build_controls()
        self._build_instrument()
        found.arrived.connect(self.refresh)

    def _build_controls(self) -> None:
        self.summary = self.quiet()
        self.column.addWidget(self.title("Align"))
        self.column.addWidget(self.summary)
        self._panorama = QWidget()
        rows = QVBoxLayout(self._panorama)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self.level)
        row = QHBoxLayout()
        row.addWidget(QLabel("Focal length"))
        row.addWidget(self.focal)
        row.addStretch(1)
        rows.addLayout(row)
        self._stack = QWidget()
        rows = QVBoxLayout(self._stack)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self.way)
        row = QHBoxLayout()
        label = QLabel("Reference")
        label.setFixedWidth(62)
        row.addWidget(label)
        row.addWidget(self.reference, 1)
        rows.addLayout(row)
        for part in (self._panorama, self._stack, self.again):
            self.column.addWidget(part)
        self.column.addStretch(1)

    def _build_instrument(self) -> None:
        self.frames = _table(("Frame", "Placed", "Error px", "Why not, or where"))
        self.links = _table(("Pair", "Points", "Error px", "Rating"))
        self.links.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.frames.itemSelectionChanged.connect(self._row_chosen)
        self.instrument = QWidget()
        row = QHBoxLayout(self.instrument)
        row.setContentsMargins(12, 12, 16, 10)
        row.setSpacing(10)
        row.addWidget(self.frames, 3)
        row.addWidget(self.links, 2)

    @property
    def settled(self) -> bool:
        return not self.found.waiting

    def entered(self) -> None:
        self.found.ask()

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None:
            return
        panorama = frame_set.kind is Kind.PANORAMA
        self.page = self.map if panorama else None
        self._panorama.setVisible(panorama)
        self._stack.setVisible(not panorama)
        self.links.setVisible(panorama)
        r = frame_set.registration
        self.level.setChecked(r.level)
        if not self.focal.hasFocus():
            self.focal.setText(f"{r.focal_px:.1f} px" if r.focal_px else self._found_focal())
        self.way.set_value(str(r.align))
        self._fill_reference()
        self._fill_frames()
        self._fill_links()
        self.summary.setText(self._summary())
        self.map.update()

    def _found_focal(self) -> str:
        found = self.found.found
        if isinstance(found, PanoramaRegistration):
            return f"{found.frames[found.placed[0]].lens.focal_px:.1f} px"
        return "automatic"

    def _summary(self) -> str:
        if self.found.waiting:
            return "Looking for what the frames share…"
        if self.found.error:
            return self.found.error
        found = self.found.found
        if isinstance(found, PanoramaRegistration):
            lens = found.frames[found.placed[0]].lens
            return (f"{len(found.placed)} of {len(found.frames)} frames placed, {found.rms_px:.2f} px. "
                    f"Distortion k1 {lens.k1:+.4f}.")
        if found is not None:
            return f"{len(found.used)} of {len(found.frames)} frames lie on the reference."
        return ""

    def _fill_reference(self) -> None:
        frame_set = self.session.frame_set
        self.reference.blockSignals(True)
        self.reference.clear()
        for n, frame in enumerate(frame_set.frames):
            if frame.on:
                self.reference.addItem(f"Frame {n + 1}", frame.id)
        at = self.reference.findData(frame_set.registration.reference)
        self.reference.setCurrentIndex(max(0, at))
        self.reference.blockSignals(False)

    def _fill_frames(self) -> None:
        found, frame_set = self.found.found, self.session.frame_set
        places = found.frames if found is not None and self.found.frame_set.id == frame_set.id else ()
        used = frame_set.used
        self.frames.setRowCount(len(used) if len(places) == len(used) else 0)
        numbers = {f.id: n + 1 for n, f in enumerate(frame_set.frames)}
        for row in range(self.frames.rowCount()):
            words = _place_words(places[row])
            for column, text in enumerate((str(numbers[used[row].id]), *words)):
                self.frames.setItem(row, column, _cell(text, wrong=words[0] == "no" and bool(column)))
        self.frames.resizeRowsToContents()

    def _fill_links(self) -> None:
        found = self.found.found
        links = found.links if isinstance(found, PanoramaRegistration) else ()
        self.links.setRowCount(len(links))
        for row, k in enumerate(sorted(links, key=lambda k: -k.rms_px)):
            name, _, word = link_form(k.rms_px)
            cells = (f"{k.a + 1} – {k.b + 1}", str(len(k.points_a)), f"{k.rms_px:.2f}", word)
            for column, text in enumerate(cells):
                item = _cell(text)
                if column == 3:
                    item.setForeground(QColor(getattr(theme.current(), name)))
                self.links.setItem(row, column, item)

    def _row_chosen(self) -> None:
        rows = {i.row() for i in self.frames.selectedIndexes()}
        used = self.session.frame_set.used if self.session.frame_set else ()
        if len(rows) == 1 and max(rows) < len(used):
            self.session.select_frame(used[rows.pop()].id)

    def _focal_typed(self) -> None:
        text = self.focal.text().replace("px", "").replace(",", ".").strip().lower()
        if text in ("", "automatic", "auto"):
            self.session.change("registration.focal_px", None, True)
            return
        try:
            value = float(text)
        except ValueError:
            self.session.say(f"{text}: not a focal length; give a number in px, or nothing.", "wrong")
            self.refresh()
            return
        if f"{value:.1f} px" != self._found_focal():
            self.session.change("registration.focal_px", value, True)

    def _reference_chosen(self, index: int) -> None:
        self.session.change("registration.reference", self.reference.itemData(index), True)


def _place_words(place) -> tuple[str, str, str]:
    if isinstance(place, Placed):
        return "yes", f"{place.rms_px:.2f}", ""
    if isinstance(place, Onto):
        if place.still:
            return "yes", f"{place.rms_px:.2f}", "as it is"
        shift = planar.apply(place.transform, _ORIGIN)[0]
        return "yes", f"{place.rms_px:.2f}", f"moved {shift[0]:+.1f}, {shift[1]:+.1f} px"
    return "no", "", place.reason


def _table(headers: tuple[str, ...]) -> QTableWidget:
    table = QTableWidget(0, len(headers))
    table.setHorizontalHeaderLabels(headers)
    table.verticalHeader().hide()
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setShowGrid(False)
    table.setWordWrap(True)
    table.verticalHeader().setDefaultSectionSize(22)
    header = table.horizontalHeader()
    header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    header.setSectionResizeMode(len(headers) - 1, QHeaderView.ResizeMode.Stretch)
    header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
    return table


def _cell(text: str, wrong: bool = False) -> QTableWidgetItem:
    item = QTableWidgetItem(text)
    item.setToolTip(text)
    if wrong:
        item.setForeground(QColor(theme.current().rowan))
    return item

