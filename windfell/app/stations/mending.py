"""Mending, at Join and Finish: flat views of the sphere, and repairs that stay on their place."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from windfell.app.area_hand import AreaHand, AreaTarget
from windfell.app.picture.tool import Spot
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.repair_place import RepairPlace
from windfell.app.stations.station import Station
from windfell.app.widgets.ruler import Ruler
from windfell.engine.area_pictures import ground_at
from windfell.engine.flat_view import flat_set, taken_back, write_flat_view
from windfell.engine.grown import gap_share
from windfell.engine.seen_behind import seen_behind
from windfell.job import Job
from windfell.recipe import mending
from windfell.recipe.areas import Area, Point
from windfell.recipe.limits import limits_of
from windfell.recipe.model import Kind, Project
from windfell.recipe.repairs import Mend, Repair

LEAST_LIST_WIDE, LIST_WIDE = 190, 320
ANSWERS, COLUMNS = 12, 4
# what another frame can do instead
INSTEAD = (Mend.HEAL, Mend.CLONE, Mend.TEXTURE, Mend.FILL)


class FlatPage(QWidget):
    """Where the flat view looks. `looked` when it looks elsewhere, or is put away."""

    looked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.on = QCheckBox("Flat view: a window onto the sphere")
        self.on.setToolTip("Look along the direction set below, without bending: paint, clone and fill in it")
        self.on.toggled.connect(self.looked)
        self.yaw = Ruler("Turn", -180, 180, 0, "°", 0.5)
        self.pitch = Ruler("Tilt", -90, 90, -90, "°", 0.5)
        self.wide = Ruler("Width", 10, 140, 90, "°", 0.5)
        self.write, self.take = QPushButton("Write it…"), QPushButton("Take back…")
        self.write.setToolTip("As a 16-bit TIFF, to be changed elsewhere")
        self.take.setToolTip("Lay a changed flat view on its place; it is found by what was left alone in it")
        row = QHBoxLayout()
        for button in (self.write, self.take):
            row.addWidget(button)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.on)
        for ruler in (self.yaw, self.pitch, self.wide):
            ruler.changed.connect(lambda *_: self.looked.emit())
            column.addWidget(ruler)
        column.addLayout(row)
        column.addStretch(1)

    @property
    def look(self) -> tuple[float, float, float]:
        """(yaw, pitch, width) in degrees."""
        return self.yaw.value, self.pitch.value, self.wide.value


class Mending(QWidget):
    """The list of repairs, the last one on top of the others; with a `flat` view, where there is one."""

    def __init__(self, session: Session, view: PictureView, hand: AreaHand, flat: FlatPage | None = None) -> None:
        super().__init__()
        self.session, self._view, self.hand, self.flat = session, view, hand, flat
        self.list = QListWidget()
        self.list.setMinimumWidth(LEAST_LIST_WIDE)
        self.list.setMaximumWidth(LIST_WIDE)
        self.list.setAccessibleName("Repairs")
        self.list.setToolTip("Repairs, the last one on top; their marks switch them")
        self.list.itemChanged.connect(self._switched)
        self.list.currentRowChanged.connect(lambda _: self._enable())
        self.heal, self.clone = QPushButton("Heal…"), QPushButton("Clone…")
        self.texture, self.fill = QPushButton("Texture…"), QPushButton("Fill…")
        self.other = QPushButton("Other frame…")
        self.grow = QPushButton("Grow")
        self.most = QSpinBox(minimum=1, maximum=100, value=25, suffix=" % at most")
        self.most.setAccessibleName("The most of the picture that Grow may make up")
        self.most.setToolTip("More of the picture than that is not made up")
        self.paint, self.sources = QPushButton("Paint more…"), QPushButton("Sources…")
        self.answer, self.remove = QPushButton("Another answer"), QPushButton("Remove")
        self._way = Mend.CLONE
        self.words = Station.quiet("Repairs stay on their place when the view turns." + (
            " The flat view (page Mend) shows the ground and the sky without bending." if flat else
            " What another frame shows behind it is true; texture is made up."))
        for button, tip, deed in (
                (self.heal, "Press where to take texture from, then paint; the light stays that of here",
                 lambda: self.begin_clone(Mend.HEAL)),
                (self.clone, "Press where to take from, then paint where it shall be seen",
                 lambda: self.begin_clone(Mend.CLONE)),
                (self.texture, "Paint over a wire, a post, a boat: filled with texture from around it",
                 lambda: self.take_area(None, Mend.TEXTURE)),
                (self.fill, "Paint what is closed smoothly from what surrounds it: small holes, a missing cap",
                 lambda: self.take_area(None, Mend.FILL)),
                (self.other, "Paint where the frame chosen at the left is seen alone: it may show what is behind",
                 self._other_frame),
                (self.grow, "Fill what no frame covers, within the outline, with texture from beside it",
                 self.begin_grow),
                (self.paint, "Draw on the area of the repair in hand", self._paint_chosen),
                (self.sources, "Draw where the repair in hand takes its texture from; inverted: where it does not",
                 self._take_sources),
                (self.answer, "Another texture for the repair in hand", self._other_answer),
                (self.remove, "Without the repair in hand", self._remove)):
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, f=deed: f())
        if flat is not None:
            flat.write.clicked.connect(lambda: self._ask_write())
            flat.take.clicked.connect(lambda: self._ask_take())
        self.place = RepairPlace(session, view, hand, lambda: self.chosen)
        self.spot = Spot()
        self.spot.pressed.connect(self._from_here)
        grid = QGridLayout()
        grid.setSpacing(4)
        for n, button in enumerate((self.other, self.heal, self.clone, self.texture, self.fill, self.paint,
                                    self.sources, self.answer, self.remove)):
            grid.addWidget(button, n // COLUMNS, n % COLUMNS)
        grid.addWidget(self.grow, 2, 1)
        grid.addWidget(self.most, 2, 2)
        grid.addWidget(self.place.button, 2, 3)
        right = QVBoxLayout()
        right.addLayout(grid)
        right.addLayout(self._clone_row())
        right.addWidget(self.words)
        right.addStretch(1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.list)
        layout.addLayout(right, 1)
        self._shown: tuple | None = None
        # a repair for which another frame sees behind what is to go: its number, itself, the frame's id
        self.offer: tuple[int, Repair, str] | None = None

    def _clone_row(self) -> QHBoxLayout:
        """How a clone or a heal takes: its way from stroke to stroke, its turn and its size."""
        self.fixed = QCheckBox("Each stroke from the source")
        self.fixed.setToolTip("Of clone and heal: each stroke begins where was pressed; else strokes go on beside it")
        self.shape = {}
        for name, words in (("turn_deg", "Turn"), ("size_pct", "Size")):
            m, rest = limits_of(Repair, name), getattr(Repair(Mend.CLONE), name)
            self.shape[name] = Ruler(words, m["low"], m["high"], rest, m["unit"], 1.0, 40)
        for (name, ruler), tip in zip(self.shape.items(), (
                "How what is cloned or healed is turned, clockwise", "How large it is seen"), strict=True):
            ruler.setToolTip(tip)
            ruler.changed.connect(lambda v, first, f=name: self._shaped(f, v, first))
        clones = QHBoxLayout()
        for part, room in ((self.fixed, 0), *((r, 1) for r in self.shape.values())):
            clones.addWidget(part, room)
        return clones

    @property
    def repairs(self) -> tuple[Repair, ...]:
        own = self.session.frame_set
        return own.repairs if own else ()

    @property
    def chosen(self) -> int | None:
        """Which repair is in hand."""
        row = self.list.currentRow()
        return row if 0 <= row < len(self.repairs) else None

    def refresh(self) -> None:
        own = self.session.frame_set
        if own is None:
            return
        state = own.id, self.repairs
        if state != self._shown:
            row = self.list.currentRow()
            grown = self._shown is not None and self._shown[0] == own.id and len(self.repairs) > len(self._shown[1])
            self._shown = state
            self.list.blockSignals(True)
            self.list.clear()
            for n, repair in enumerate(self.repairs):
                item = QListWidgetItem(f"{n + 1}  {mending.repair_name(repair, own.kind)}")
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if repair.on else Qt.CheckState.Unchecked)
                self.list.addItem(item)
            self.list.blockSignals(False)
            self.list.setCurrentRow(len(self.repairs) - 1 if grown else min(max(row, 0), len(self.repairs) - 1))
            if grown and self.repairs[-1].way in INSTEAD:
                self._look_behind(len(self.repairs) - 1)
        self._enable()

    def _enable(self) -> None:
        n = self.chosen
        chosen = None if n is None else self.repairs[n]
        way = None if chosen is None else chosen.way
        self.paint.setEnabled(chosen is not None and way is not Mend.GROW)
        self.remove.setEnabled(chosen is not None)
        self.answer.setEnabled(way in mending.MADE_UP)
        self.sources.setEnabled(way is Mend.TEXTURE)
        for name, ruler in self.shape.items():
            ruler.setEnabled(way in mending.FROM_ELSEWHERE)
            ruler.set_value(getattr(chosen or Repair(Mend.FILL), name))
        self.place.refresh()
        own = self.session.frame_set
        for part in (self.grow, self.most):
            part.setVisible(own is not None and own.kind is Kind.PANORAMA)
        offered = self._offered
        number = None if offered is None else own.number_of(offered)
        self.other.setText("Other frame…" if number is None else f"Take frame {number}")
        self.other.setEnabled(number is not None or self.session.frame_id is not None)

    @property
    def _offered(self) -> str | None:
        """The frame that may stand in for the repair in hand."""
        n, own = self.chosen, self.session.frame_set
        if self.offer is None or own is None or n is None or self.offer[0] != n:
            return None
        _, repair, frame = self.offer
        there = self.repairs[n]
        same = (there.way, there.area.parts[:1]) == (repair.way, repair.area.parts[:1])
        return frame if same and any(f.id == frame for f in own.used) else None

    def _look_behind(self, n: int) -> None:
        """Whether another frame sees behind what a new repair is to take away: that is true, and said first."""
        s = self.session
        engine, project, set_id, repair = s.engine, s.project, s.set_id, self.repairs[n]

        def done(frame: str | None) -> None:
            if frame is None or s.set_id != set_id:
                return
            self.offer = n, repair, frame
            self._enable()
            if self._offered is not None:
                s.say(f"{self.other.text().replace('Take frame', 'Frame')} shows what is behind it: press "
                      f"“{self.other.text()}”, since that is true and not made up.", "info")

        s.desk.ask("seen behind", lambda job: seen_behind(engine.stages(project, set_id), n, job), done,
                   lambda _: None, quiet=True)

    def _other_frame(self) -> None:
        """The frame that is offered stands in for the repair in hand; else draw where the chosen one is seen."""
        frame, n, s = self._offered, self.list.currentRow(), self.session
        if frame is None:
            self.take_area(None, Mend.FRAME)
            return
        self.hand.put_away()
        s.edit(mending.change_repair(s.project, s.set_id, n, "another frame for", way=Mend.FRAME, frame=frame), True)

    def _shaped(self, name: str, value: float, starts: bool) -> None:
        n, s = self.chosen, self.session
        if n is not None:
            s.edit(mending.shape_repair(s.project, s.set_id, n, name, value), starts)

    def _other_answer(self) -> None:
        n, s = self.chosen, self.session
        if n is not None:
            s.edit(mending.change_repair(s.project, s.set_id, n, "another answer for",
                                         answer=(self.repairs[n].answer + 1) % ANSWERS), True)

    def _switched(self, item: QListWidgetItem) -> None:
        n, s = self.list.row(item), self.session
        on = item.checkState() == Qt.CheckState.Checked
        if n < len(self.repairs) and self.repairs[n].on != on:
            s.edit(mending.change_repair(s.project, s.set_id, n, "switch", on=on), True)

    def _remove(self) -> None:
        n, s = self.chosen, self.session
        self.hand.put_away()
        if n is not None:
            s.edit(mending.remove_repair(s.project, s.set_id, n), True)

    # -- what is painted

    def begin_clone(self, way: Mend = Mend.CLONE) -> None:
        """The next press says where to take from."""
        self._way = way
        self.hand.put_away()
        self._view.take_tool(self.spot)
        self.session.say("Press where to take from; then paint where it shall be seen.", "info")

    def _from_here(self, at: QPointF) -> None:
        s = self.session
        engine, project, set_id = s.engine, self.hand.picture_of(s.project), s.set_id
        self._view.take_tool(None)
        s.desk.ask("clone source", lambda job: ground_at(engine.stages(project, set_id), [(at.x(), at.y())], job)[0],
                   lambda point: self.take_area(None, self._way, point))

    def begin_grow(self) -> None:
        """Fill the gaps, if that makes up no more than is allowed."""
        s, most = self.session, float(self.most.value())
        engine, project, set_id = s.engine, s.project, s.set_id
        self.hand.put_away()

        def done(share: float) -> None:
            if s.project is not project:
                return
            if share <= 0:
                s.say("There are no gaps: every px of the picture is covered.", "quiet")
            elif 100 * share > most:
                s.say(f"{100 * share:.0f} % of the picture would be made up, more than the {most:.0f} % that are"
                      " allowed; trim or pull the outline at Shape, or raise the limit.", "wrong")
            else:
                s.edit(mending.add_repair(project, set_id, Repair(Mend.GROW, most_pct=most)), True)
                s.say(f"{100 * share:.1f} % of the picture is made up.", "good")

        s.desk.ask("gaps", lambda job: gap_share(engine.stages(project, set_id), job), done)

    def _paint_chosen(self) -> None:
        n = self.chosen
        if n is not None:
            self.take_area(n, self.repairs[n].way)

    def take_area(self, n: int | None, way: Mend, source: Point | None = None) -> None:
        """Draw where repair `n` holds; None: one more, which comes with its first stroke."""
        set_id = self.session.set_id
        at = len(self.repairs) if n is None else n
        frame = self.session.frame_id if way is Mend.FRAME else None

        def read(project: Project) -> Area | None:
            own = next((s for s in project.sets if s.id == set_id), None)
            if own is None or at > len(own.repairs):
                return None
            return own.repairs[at].area if at < len(own.repairs) else Area()

        def write(project: Project, area: Area) -> Project:
            nonlocal at
            there = project.set(set_id).repairs
            if at < len(there) and way in mending.FROM_ELSEWHERE and self.fixed.isChecked() and (
                    len(area.parts) > len(there[at].area.parts)):
                first, at = at, len(there)
                return mending.with_stroke_of_its_own(project, set_id, first, area)
            return mending.with_repair_area(project, set_id, at, way, area, source, frame)

        title = f"{mending.WORDS.get(way, str(way)).capitalize()} of repair {at + 1}"
        self.hand.take(AreaTarget(set_id, title, read, write))

    def _take_sources(self) -> None:
        """Draw where the repair in hand takes its texture from."""
        n, set_id = self.list.currentRow(), self.session.set_id

        def read(project: Project) -> Area | None:
            own = next((s for s in project.sets if s.id == set_id), None)
            there = own is not None and n < len(own.repairs) and own.repairs[n].way is Mend.TEXTURE
            return (own.repairs[n].sources or Area()) if there else None

        self.hand.take(AreaTarget(set_id, f"Sources of repair {n + 1}", read,
                                  lambda project, area: mending.with_sources(project, set_id, n, area)))

    # -- flat views written and taken back

    def _ask_write(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write the flat view", "flat-view.tif", "TIFF (*.tif *.tiff)")
        if path:
            self.write_to(path)

    def write_to(self, path: str) -> None:
        """Write the flat view as it looks now."""
        s, look = self.session, self.flat.look
        engine, project, set_id = s.engine, s.project, s.set_id
        place = Path(path if path.lower().endswith((".tif", ".tiff")) else f"{path}.tif")
        s.desk.ask("flat view", lambda job: write_flat_view(engine, project, set_id, look, place, job),
                   lambda done: s.say(f"{done.path}: {done.width} x {done.height} px written.", "good"))

    def _ask_take(self) -> None:
        kinds = "Pictures (*.tif *.tiff *.png *.jpg)"
        path, _ = QFileDialog.getOpenFileName(self, "Take a flat view back", "", kinds)
        if path:
            self.take_back(path)

    def take_back(self, path: str) -> None:
        """Lay a changed flat view on its place."""
        s, look = self.session, self.flat.look
        engine, project, set_id = s.engine, s.project, s.set_id

        def work(job: Job) -> Repair:
            return taken_back(engine, project, set_id, look, Path(path), job)

        def done(repair: Repair) -> None:
            if s.project is project:
                s.edit(mending.add_repair(s.project, set_id, repair), True)

        s.desk.ask("flat view", work, done)

    def picture_of(self, project: Project) -> Project:
        """The picture as the flat view shows it, while that is on."""
        own = next((s for s in project.sets if s.id == self.session.set_id), None)
        if self.flat is None or not self.flat.on.isChecked() or own is None:
            return project
        return project.with_set(replace(flat_set(own, *self.flat.look), id=own.id))
