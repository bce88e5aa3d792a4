"""Align: which frames hold together, how well, and why one does not."""

from __future__ import annotations

from collections.abc import Sequence

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
    QStackedWidget,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from windfell.align.registration import PanoramaRegistration, Placed, Unplaced
from windfell.align.series import Onto
from windfell.app import theme
from windfell.app.registrations import Registrations
from windfell.app.session import Session
from windfell.app.stations.direction import Direction
from windfell.app.stations.overlap_map import OverlapMap, link_form
from windfell.app.stations.points import Points
from windfell.app.stations.station import Station
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.area_bar import AreaBar
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.typed import typed_number
from windfell.geometry import planar
from windfell.recipe.model import Align as Way
from windfell.recipe.model import Camera, Kind

_ORIGIN = np.zeros((1, 2))
EVEN_FROM_PX = 1.0
REMEDY = "Add two points by hand under Two frames, type its direction, or keep it aside."


class Align(Station):
    """Panorama: the overlap map and links. Stack: the way of alignment and every frame's place."""

    name = "align"

    def __init__(self, session: Session, found: Registrations, thumbnails: Thumbnails, bar: AreaBar) -> None:
        super().__init__(session)
        self.found = found
        self.map = OverlapMap(session, found, thumbnails)
        self.map.picked.connect(session.select_frame)
        self.points = Points(session, found, bar)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.map)
        self.pages.addWidget(self.points.page)
        self.page = self.pages
        self.shown = Choice("", (
            ("map", "Overlap map", "Where the frames lie and how they hold together"),
            ("parallax", "Parallax", "Which way and how far near things are seen aside"),
            ("points", "Two frames", "Control points, lines and ignored areas on two frames side by side")))
        self.shown.set_value("map")
        self.shown.picked.connect(self.show_page)
        self.camera = Choice("Camera", (
            ("turned", "Turned", "The camera turned about one spot"),
            ("slid", "Slid", "The camera moved along a flat subject: a wall, a mural, a document")))
        self.camera.picked.connect(lambda v: session.change("registration.camera", Camera(v), True))
        self.again = QPushButton("Align again")
        self.again.setToolTip("Register the set in hand anew")
        self.again.clicked.connect(lambda: found.ask(again=True))
        self.level = QCheckBox("Level the horizon by itself")
        self.level.setToolTip("The world is set upright by upright edges and the horizon that the frames show")
        self.level.clicked.connect(lambda on: session.change("registration.level", on, True))
        self.focal = QLineEdit()
        self.focal.setFont(theme.numbers_font())
        self.focal.setFixedWidth(96)
        self.focal.setAccessibleName("Focal length in px")
        self.focal.setToolTip("The lens's focal length in px of a frame at full size; nothing: it is estimated")
        self.focal.editingFinished.connect(self._focal_typed)
        self.way = Choice("Align by", [(str(w), str(w), tip) for w, tip in (
            (Way.NONE, "Leave every frame where it is, as on a tripod"),
            (Way.SHIFT, "Move the frames sideways"),
            (Way.RIGID, "Move and turn the frames, their size stays"),
            (Way.SIMILARITY, "Move, turn and scale the frames"),
            (Way.PERSPECTIVE, "Bend the frames in perspective, as held in hand"),
            (Way.STARS, "By the stars; what stands on the ground is left behind"))], in_row=3)
        self.ground = QCheckBox("Bring the ground together by itself")
        self.ground.setToolTip("Under stars: the ground is registered apart and joined to the sky along the skyline")
        self.ground.clicked.connect(lambda on: session.change("registration.ground_apart", on, True))
        self.way.picked.connect(lambda v: session.change("registration.align", Way(v), True))
        self.layout_hint = QLineEdit()
        self.layout_hint.setFont(theme.numbers_font())
        self.layout_hint.setFixedWidth(64)
        self.layout_hint.setPlaceholderText("2x5")
        self.layout_hint.setAccessibleName("Layout, rows x columns")
        self.layout_hint.setToolTip("Frames taken row by row from left to right: rows x columns. Nothing: any order")
        self.layout_hint.editingFinished.connect(self._layout_typed)
        self.direction = Direction(session, found)
        self.reference = QComboBox()
        self.reference.setAccessibleName("Reference frame")
        self.reference.setToolTip("The frame that the others are brought onto; it keeps its place and size")
        self.reference.activated.connect(self._reference_chosen)
        self._build_controls()
        self._build_instrument()
        found.arrived.connect(self.refresh)

    def _build_controls(self) -> None:
        self.summary = self.quiet()
        self.column.setContentsMargins(16, 6, 12, 4)
        self.column.setSpacing(4)
        top = QHBoxLayout()
        top.addWidget(self.title("Align"))
        top.addStretch(1)
        top.addWidget(self.again)
        self.column.addLayout(top)
        self.column.addWidget(self.summary)
        self._panorama = QWidget()
        rows = QVBoxLayout(self._panorama)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(5)
        rows.addWidget(self.shown)
        rows.addWidget(self.camera)
        rows.addWidget(self.level)
        row = QHBoxLayout()
        row.addWidget(QLabel("Focal length"))
        row.addWidget(self.focal)
        row.addStretch(1)
        row.addWidget(QLabel("Layout"))
        row.addWidget(self.layout_hint)
        rows.addLayout(row)
        rows.addWidget(self.direction)
        self._stack = QWidget()
        rows = QVBoxLayout(self._stack)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self.way)
        rows.addWidget(self.ground)
        row = QHBoxLayout()
        label = QLabel("Reference")
        label.setFixedWidth(62)
        row.addWidget(label)
        row.addWidget(self.reference, 1)
        rows.addLayout(row)
        for part in (self._panorama, self._stack):
            self.column.addWidget(part)
        self.column.addStretch(1)

    def _build_instrument(self) -> None:
        self._filled: dict[QTableWidget, tuple] = {}
        self.frames = _table("Frames and their places", ("Frame", "Placed", "Error px", "Adds", "Why not, or where"))
        # words are wrapped by a width that the column gets only later
        self.frames.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.links = _table("Links between frames", ("Pair", "Points", "Error px", "Rating"))
        self.links.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.frames.itemSelectionChanged.connect(self._row_chosen)
        tables = QWidget()
        self.instrument = QStackedWidget()
        self.instrument.addWidget(tables)
        self.instrument.addWidget(self.points.board)
        row = QHBoxLayout(tables)
        row.setContentsMargins(12, 12, 16, 10)
        row.setSpacing(10)
        row.addWidget(self.frames, 3)
        row.addWidget(self.links, 2)

    @property
    def needed(self) -> list[QWidget]:
        return [self.shown, self.way, self.again]

    @property
    def settled(self) -> bool:
        return not self.found.waiting and (self.pages.currentIndex() == 0 or self.points.settled)

    def show_page(self, name: str) -> None:
        """The overlap map with links or with parallax, or two frames side by side."""
        self.shown.set_value(name)
        self.map.show_parallax(name == "parallax")
        self.pages.setCurrentIndex(int(name == "points"))
        if name != "points":
            self.points.set_tool("points")
        self.refresh()

    def entered(self) -> None:
        self.found.ask()

    def left(self) -> None:
        self.points.set_tool("points")

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None:
            return
        panorama = frame_set.kind is Kind.PANORAMA
        self.page = self.pages if panorama else None
        by_points = panorama and self.pages.currentIndex() == 1
        self.instrument.setCurrentIndex(int(by_points))
        if by_points:
            self.points.refresh()
        self._panorama.setVisible(panorama)
        self._stack.setVisible(not panorama)
        self.shown.setVisible(panorama)
        self.way.setVisible(not panorama)
        self.links.setVisible(panorama)
        self.frames.setColumnHidden(3, not panorama)
        r = frame_set.registration
        self.level.setChecked(r.level)
        self.level.setText(self._level_words())
        self.camera.set_value(str(r.camera))
        if not self.layout_hint.hasFocus():
            self.layout_hint.setText(f"{r.rows}x{r.columns}" if r.rows else "")
        self.direction.refresh()
        if not self.focal.hasFocus():
            self.focal.setText(f"{r.focal_px:.1f} px" if r.focal_px else self._found_focal())
        self.way.set_value(str(r.align))
        self.ground.setVisible(r.align is Way.STARS)
        self.ground.setChecked(r.ground_apart)
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

    def _level_words(self) -> str:
        """What the level rests on, with its figure."""
        found = self.found.found
        if isinstance(found, PanoramaRegistration) and found.upright:
            return "Level by lines or directions by hand"
        if isinstance(found, PanoramaRegistration) and found.by_edges is not None:
            by = found.by_edges
            words = "Level by the horizon" if by.by == "horizon" else f"Upright by {by.edges} edges"
            return f"{words}, ±{by.error_deg:.2f}°"
        return "Level the horizon by itself"

    def _summary(self) -> str:
        if self.found.waiting:
            return "Looking for what the frames share…"
        if self.found.error:
            # the map has the room for the sentence
            panorama = self.session.frame_set.kind is Kind.PANORAMA
            return "Nothing is joined; the overlap map says why." if panorama else self.found.error
        found = self.found.found
        if isinstance(found, PanoramaRegistration):
            lens = found.frames[found.placed[0]].lens
            depth = self.found.depth
            parallax = "" if depth is None or depth.rating_px is None else f", parallax {depth.rating_px:.1f} px"
            if depth and depth.rating_px and depth.rating_px > EVEN_FROM_PX:
                parallax += "; Join can even it out"
            return (f"{len(found.placed)} of {len(found.frames)} placed, {found.rms_px:.2f} px, "
                    f"k1 {lens.k1:+.3f}{parallax}")
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
        numbers = frame_set.numbers
        rows = []
        for row, place in enumerate(places if len(places) == len(used) else ()):
            placed, error, why = _place_words(place, numbers)
            adds, redundant = self._adds(row)
            near = self.found.depth.worst.get(row) if self.found.depth else None
            if near is not None:
                why = f"{near:.1f} px of parallax: its camera stood elsewhere; leaving it out may help"
            why = why or self.found.doubts.get(row, "could be left out" if redundant else "")
            words = (str(numbers[row]), placed, error, adds, why)
            wrong = [(placed == "no" and bool(c)) or (c == 4 and row in self.found.doubts) for c in range(5)]
            rows.append([(text, "rowan" if bad else "") for text, bad in zip(words, wrong, strict=True)])
        self._fill(self.frames, rows)

    def _fill(self, table: QTableWidget, rows: list[list[tuple[str, str]]]) -> None:
        """Show rows of words and their colours, unless the table does."""
        known = rows, theme.current()
        if self._filled.get(table) == known:
            return
        self._filled[table] = known
        table.setRowCount(len(rows))
        for row, cells in enumerate(rows):
            for column, cell in enumerate(cells):
                table.setItem(row, column, _cell(*cell))

    def _adds(self, n: int) -> tuple[str, bool]:
        """How much new picture a frame adds, in words, and whether it could be left out."""
        coverage = self.found.coverage
        if coverage is None or n >= len(coverage.added) or coverage.added[n] is None:
            return "", False
        return f"{100 * coverage.added[n]:.0f} %", n in coverage.redundant

    def _fill_links(self) -> None:
        found = self.found.found
        links = found.links if isinstance(found, PanoramaRegistration) else ()
        numbers, rows = self.found.frame_set.numbers if links else (), []
        for k in sorted(links, key=lambda k: -k.rms_px):
            name, _, word = link_form(k.rms_px)
            words = f"{numbers[k.a]} – {numbers[k.b]}", str(len(k.points_a)), f"{k.rms_px:.2f}"
            rows.append([*((text, "") for text in words), (word, name)])
        self._fill(self.links, rows)

    def _row_chosen(self) -> None:
        rows = {i.row() for i in self.frames.selectedIndexes()}
        used = self.session.frame_set.used if self.session.frame_set else ()
        if len(rows) == 1 and max(rows) < len(used):
            self.session.select_frame(used[rows.pop()].id)

    def _focal_typed(self) -> None:
        text = self.focal.text().replace("px", "").replace(",", ".").strip().lower()
        if text in ("", "automatic", "auto"):
            self.session.change("registration.focal_px", None, True)
            self.refresh()
            return
        value = typed_number(text)
        if value is None:
            self.session.say(f"{text}: not a focal length; give a number in px, or nothing.", "wrong")
            self.refresh()
            return
        if f"{value:.1f} px" != self._found_focal():
            self.session.change("registration.focal_px", value, True)

    def _layout_typed(self) -> None:
        text = self.layout_hint.text().strip().lower().replace("×", "x")
        rows, _, columns = text.partition("x")
        if not text:
            self.session.change_all({"registration.rows": 0, "registration.columns": 0}, True)
        elif rows.isdigit() and columns.isdigit() and int(rows) * int(columns) == len(self.session.frame_set.used):
            self.session.change_all({"registration.rows": int(rows), "registration.columns": int(columns)}, True)
        else:
            count = len(self.session.frame_set.used)
            self.session.say(f"{text}: not a layout of {count} frames; give rows x columns, or nothing.", "wrong")
            self.layout_hint.setText("")

    def _reference_chosen(self, index: int) -> None:
        self.session.change("registration.reference", self.reference.itemData(index), True)


def _place_words(place, numbers: Sequence[int]) -> tuple[str, str, str]:
    if isinstance(place, Placed):
        return "yes", f"{place.rms_px:.2f}", ""
    if isinstance(place, Onto):
        if place.still:
            return "yes", f"{place.rms_px:.2f}", "as it is"
        shift = planar.apply(place.transform, _ORIGIN)[0]
        return "yes", f"{place.rms_px:.2f}", f"moved {shift[0]:+.1f}, {shift[1]:+.1f} px"
    return "no", "", f"{place.words(numbers)}. {REMEDY}" if isinstance(place, Unplaced) else place.reason


def _table(name: str, headers: tuple[str, ...]) -> QTableWidget:
    table = QTableWidget(0, len(headers))
    table.setAccessibleName(name)
    table.setToolTip(name)
    table.setHorizontalHeaderLabels(headers)
    table.verticalHeader().hide()
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setShowGrid(False)
    table.setTabKeyNavigation(False)
    table.setWordWrap(True)
    table.verticalHeader().setDefaultSectionSize(22)
    header = table.horizontalHeader()
    header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    header.setSectionResizeMode(len(headers) - 1, QHeaderView.ResizeMode.Stretch)
    header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
    return table


def _cell(text: str, colour: str) -> QTableWidgetItem:
    item = QTableWidgetItem(text)
    item.setToolTip(text)
    if colour:
        item.setForeground(QColor(getattr(theme.current(), colour)))
    return item
