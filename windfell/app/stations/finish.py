"""Finish: a list of adjustments of the picture, each with its values, area and strength; the histogram."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from windfell.app.area_hand import AreaHand, AreaTarget
from windfell.app.picture.clipping import ClippingTick
from windfell.app.picture.move_tool import MoveTool
from windfell.app.picture.sampled import band_of, pixels_of
from windfell.app.picture.tool import Spot
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.adjustment_deeds import AdjustmentDeeds
from windfell.app.stations.adjustment_pages import KindPage
from windfell.app.stations.looks import LookButton
from windfell.app.stations.mending import Mending
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.histogram import HistogramView
from windfell.app.widgets.layer_list import LayerList
from windfell.app.widgets.ruler import Ruler
from windfell.finish.histogram import Histogram, histogram_of
from windfell.finish.kinds import KINDS, kind_of
from windfell.job import Job
from windfell.recipe import adjusting
from windfell.recipe import finishing as f
from windfell.recipe.areas import Area
from windfell.recipe.model import Project


class Finish(Station):
    """The list at the left, the values of the adjustment in hand and the histogram at the right."""

    name = "finish"

    def __init__(self, session: Session, view: PictureView, hand: AreaHand) -> None:
        super().__init__(session)
        self._view, self.hand = view, hand
        hand.taken.connect(self._hand_changed)
        self.deeds = AdjustmentDeeds(session, self)
        self._shown: tuple = ()
        self.spot, self.pull = Spot(), MoveTool()
        self.spot.pressed.connect(self._picked_on_picture)
        self.pull.moved.connect(lambda right, _, first: self._pulled(self.pull.start, right, first))
        self._pulled_from = 0.0
        view.source.arrived.connect(self._picture_arrived)
        self._controls()
        self._instrument()

    # -- its parts

    def _controls(self) -> None:
        self.column.setContentsMargins(16, 6, 12, 4)
        self.column.setSpacing(4)
        self.all_on = QCheckBox("Finish")
        self.all_on.setProperty("role", "title")
        self.all_on.setToolTip("The whole list on or off (Shift+A)")
        self.all_on.clicked.connect(self.deeds.toggle_all)
        self.clipping = ClippingTick(self.session, self._view, self.name)
        self.up_to_here = QCheckBox("Up to here")
        self.up_to_here.setToolTip("See the picture as it is after the adjustment in hand, without those below it")
        self.up_to_here.clicked.connect(lambda: self.session.changed.emit())
        top = QHBoxLayout()
        top.setSpacing(14)
        for part in (self.all_on, self.up_to_here, self.clipping):
            top.addWidget(part)
        top.addStretch(1)
        self.column.addLayout(top)
        self.list = LayerList("Adjustments, the first done first", "What is done to the picture, from the top; drag "
                              "elsewhere (Alt with up and down)")
        self.list.moved.connect(self.deeds.move)
        self.list.currentRowChanged.connect(lambda _: self._show_one())
        self.list.itemChanged.connect(self.deeds.switch)
        self.column.addWidget(self.list, 1)
        self.add, self.remove = QPushButton("Add"), QPushButton("Remove")
        self.double, self.area = QPushButton("Duplicate"), QPushButton("Area…", checkable=True)
        self.everywhere, self.look = QPushButton("Everywhere"), LookButton(
            self.session, self._in_hand)
        menu = QMenu(self.add)
        for kind, known in KINDS.items():
            menu.addAction(known.title, lambda k=kind: self.deeds.add_kind(k))
        self.add.setMenu(menu)
        for button, tip, deed in (
                (self.add, "An adjustment more, after all others", None),
                (self.remove, "Without the one in hand", self.deeds.remove),
                (self.double, "The one in hand once more, below it", self.deeds.duplicate),
                (self.area, "Draw where the one in hand holds", None),
                (self.everywhere, "It holds everywhere", self._everywhere),
                (self.look, "Keep this finish as a file, use one, take it to other sets", None)):
            button.setToolTip(tip)
            if deed:
                button.clicked.connect(lambda _=False, d=deed: d())
        self.area.clicked.connect(lambda on: self.take_area() if on else self.hand.put_away())
        grid = QGridLayout()
        grid.setSpacing(4)
        for n, button in enumerate((self.add, self.remove, self.double, self.area, self.everywhere, self.look)):
            grid.addWidget(button, n // 3, n % 3)
        self.column.addLayout(grid)

    def _instrument(self) -> None:
        self.empty = self.quiet("Add an adjustment: light, colour, a curve, detail… Each can be limited to an area, "
                                "weakened, moved in the order, switched off.")
        self.strength = Ruler("Strength", 0.0, 100.0, 100.0, "%", 1.0, 76)
        self.strength.changed.connect(self.deeds.change_strength)
        self.auto = QPushButton("Auto")
        self.auto.setToolTip("Modest values by what the picture shows")
        self.auto.clicked.connect(self.deeds.use_auto)
        self.alone = QPushButton("What is sharpened", checkable=True)
        self.alone.setToolTip("See by itself what stands out beyond the threshold: white is sharpened wholly, black "
                              "not at all (at 1:1 as it will be)")
        self.alone.toggled.connect(lambda _: self.session.changed.emit())
        self.stack = QStackedWidget()
        self.pages: dict[type, KindPage] = {}
        for kind in KINDS:
            page = KindPage(kind)
            page.changed.connect(self.deeds.change)
            page.band_changed.connect(self.deeds.change_band)
            page.drag.clicked.connect(lambda on: self._view.take_tool(self.pull if on else None))
            self.pages[kind] = page
            scroll = QScrollArea()
            scroll.setWidgetResizable(True)
            scroll.setFrameShape(QScrollArea.Shape.NoFrame)
            scroll.setWidget(page)
            self.stack.addWidget(scroll)
        curve = self.pages[f.Curve]
        curve.channel.picked.connect(lambda name: (curve.channel.set_value(name), self._show_one()))
        curve.straight.clicked.connect(lambda on: self._view.take_tool(self.spot if on else None))
        self.histogram = HistogramView()
        self.histogram.bent.connect(self._bent)
        head = QHBoxLayout()
        head.addWidget(self.strength, 1)
        head.addWidget(self.auto)
        head.addWidget(self.alone)
        left = QVBoxLayout()
        left.addWidget(self.empty)
        left.addLayout(head)
        left.addWidget(self.stack, 1)
        self.values_page = QWidget()
        inner = QHBoxLayout(self.values_page)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(16)
        inner.addLayout(left, 7)
        inner.addWidget(self.histogram, 3)
        self.mending = Mending(self.session, self._view, self.hand)
        self.views = Choice("", (
            ("values", "Values", "Of the adjustment in hand, and the histogram"),
            ("repairs", "Repairs", "Healed, cloned, filled, taken from another frame")))
        self.views.picked.connect(self.open_view)
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(8, 4, 16, 6)
        layout.setSpacing(4)
        layout.addWidget(self.views)
        layout.addWidget(self.values_page, 1)
        layout.addWidget(self.mending, 1)
        self.open_view("values")

    def open_view(self, name: str) -> None:
        self.views.set_value(name)
        self.values_page.setVisible(name == "values")
        self.mending.setVisible(name == "repairs")
        if name != "repairs":
            self.mending.place.put_away()

    def dressed(self) -> list[QWidget]:
        pages = [self.stack.widget(n) for n in range(self.stack.count())]
        return [self.controls, self.views, self.empty, self.strength, self.auto, self.alone, *pages, self.histogram,
                self.mending]

    @property
    def needed(self) -> list[QWidget]:
        return [self.all_on, self.strength]

    # -- what is shown

    @property
    def adjustments(self) -> tuple[f.Adjustment, ...]:
        own = self.session.frame_set
        return own.finish.adjustments if own else ()

    @property
    def chosen(self) -> int | None:
        """Which adjustment is in hand."""
        row = self.list.currentRow()
        return row if 0 <= row < len(self.adjustments) else None

    def _hand_changed(self) -> None:
        if self.session.station == self.name:
            self._show_one()

    def entered(self) -> None:
        self._view.overlay = self.paint_over
        self._picture_arrived()

    def left(self) -> None:
        self.hand.put_away()
        self._view.overlay = None
        self._view.take_tool(None)
        self._drop_tools()

    def _drop_tools(self) -> None:
        self.pages[f.Curve].straight.setChecked(False)
        for page in self.pages.values():
            page.drag.setChecked(False)
        self.alone.setChecked(False)

    def refresh(self) -> None:
        own = self.session.frame_set
        if own is None:
            return
        self.all_on.setChecked(own.finish.on)
        rows = tuple((a.name, type(a.values), a.on, a.area is not None, a.strength_pct)
                     for a in own.finish.adjustments)
        if (own.id, rows) != self._shown:
            fresh = not self._shown or self._shown[0] != own.id
            grown = not fresh and len(rows) > len(self._shown[1])
            kept = self.list.currentRow()
            self._shown = own.id, rows
            self._fill()
            last = self.list.count() - 1
            self.list.setCurrentRow(last if grown else min(max(kept, 0), last))
        self.mending.refresh()
        self._show_one()

    def _fill(self) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for a in self.adjustments:
            more = ", in its area" if a.area is not None else ""
            more += f", {a.strength_pct:g} %" if a.strength_pct < 100 else ""
            item = QListWidgetItem(f"{a.name or kind_of(a).title}{more}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if a.on else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)

    def _show_one(self) -> None:
        n = self.chosen
        there = n is not None
        for part in (self.remove, self.double, self.area, self.strength, self.up_to_here):
            part.setEnabled(there)
        self.everywhere.setEnabled(there and self.adjustments[n].area is not None)
        self.area.setChecked(self.hand.target is not None)
        self.empty.setVisible(not there)
        self.stack.setVisible(there)
        self.alone.setVisible(there and isinstance(self.adjustments[n].values, f.Detail))
        self.auto.setVisible(there and isinstance(self.adjustments[n].values, f.Light))
        if not there:
            self.histogram.show_curve(None)
            return
        found = self.adjustments[n]
        self.strength.set_value(found.strength_pct)
        page = self.pages[type(found.values)]
        self.stack.setCurrentIndex(list(KINDS).index(type(found.values)))
        page.show_values(found.values)
        curve = isinstance(found.values, f.Curve)
        self.histogram.show_curve(getattr(found.values, self._channel) if curve else None)
        seen_apart = self.up_to_here.isChecked() or self.alone.isChecked()
        if seen_apart and self.session.station == self.name and not self.session.moving:
            self._view.source.show(self.picture_of(self.session.project), self.session.set_id)

    @property
    def _channel(self) -> str:
        page = self.pages[f.Curve]
        return next(v for v, b in page.channel._buttons.items() if b.isChecked())

    def _picture_arrived(self) -> None:
        shown = self._view.source.shown
        if self.session.station != self.name or shown is None:
            return
        image = shown.image

        def look(job: Job) -> Histogram:
            return histogram_of(*pixels_of(image))

        self.session.desk.follow("histogram", look, self.histogram.show_histogram, None, None, True)

    def paint_over(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """Stripes where channels are clipped."""
        self.clipping.paint_over(painter, rect)

    def picture_of(self, project: Project) -> Project:
        n = self.chosen
        alone = n is not None and self.alone.isChecked() and isinstance(
            self.adjustments[n].values, f.Detail)
        if n is None or not (alone or self.up_to_here.isChecked()):
            return project
        own = project.set(self.session.set_id)
        found = list(own.finish.adjustments[: n + 1])
        if alone:
            found[n] = replace(found[n], values=replace(found[n].values, alone=True), area=None, strength_pct=100.0)
        finish = replace(own.finish, adjustments=tuple(found))
        return project.with_set(replace(own, finish=finish))

    def held_against(self, project: Project) -> tuple[Project, tuple[str, str]] | None:
        own = project.set(self.session.set_id)
        plain = replace(own, finish=replace(own.finish, on=False))
        return project.with_set(plain), ("without the finish", "with it")

    # -- edits

    def _in_hand(self) -> f.Adjustment | None:
        n = self.chosen
        return None if n is None else self.session.frame_set.finish.adjustments[n]

    def _bent(self, knots: f.Knots, first: bool) -> None:
        self.deeds.change(self._channel, knots, first)

    # -- areas

    def take_area(self) -> None:
        """Draw where the adjustment in hand holds."""
        s, n = self.session, self.chosen
        if n is None:
            return
        set_id = s.set_id
        if self.adjustments[n].area is None:
            s.edit(adjusting.set_part(s.project, set_id, n, "an area", area=Area()), True)

        def read(project: Project) -> Area | None:
            own = next((x for x in project.sets if x.id == set_id), None)
            there = own is not None and n < len(own.finish.adjustments)
            return (own.finish.adjustments[n].area or Area()) if there else None

        title = self.adjustments[n].name or kind_of(self.adjustments[n]).title
        self.hand.take(AreaTarget(set_id, f"Where {title.lower()} holds", read,
                                  lambda project, area: adjusting.with_area(project, set_id, n, area)))

    def _everywhere(self) -> None:
        s, n = self.session, self.chosen
        if n is not None:
            self.hand.put_away()
            s.edit(adjusting.set_part(s.project, s.set_id, n, "everywhere", area=None), True)

    def _picked_on_picture(self, at: QPointF) -> None:
        """A knot of the curve at the brightness of the spot."""
        shown = self._view.source.shown
        n = self.chosen
        if shown is None or n is None or not isinstance(self.adjustments[n].values, f.Curve):
            return
        pixel = shown.image.pixelColor(min(int(at.x() * shown.image.width()), shown.image.width() - 1),
                                       min(int(at.y() * shown.image.height()), shown.image.height() - 1))
        own = {"red": pixel.red(), "green": pixel.green(), "blue": pixel.blue()}
        value = own.get(self._channel, 0.2126 * pixel.red() + 0.7152 * pixel.green() + 0.0722 * pixel.blue())
        self.histogram.add_knot(value / 255)

    def _pulled(self, spot: QPointF, way: float, first: bool) -> None:
        """The band of the colour at a spot goes with the hand: half the picture's width is its whole range."""
        n, shown = self.chosen, self._view.source.shown
        if n is None or shown is None or not self.pages[type(self.adjustments[n].values)].bands:
            return
        page = self.pages[type(self.adjustments[n].values)]
        band = band_of(shown.image, spot)
        ruler = page.bands[page.shown_bands][band]
        if first:
            self._pulled_from = ruler.value
        value = self._pulled_from + 2 * way * (ruler._line.high - ruler._line.low)
        self.deeds.change_band(page.shown_bands, band, round(value), first)
