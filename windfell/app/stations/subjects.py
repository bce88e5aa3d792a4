"""Subjects: everything that moves in a stack, each a piece to take or leave."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from windfell.app.area_hand import AreaHand, AreaTarget
from windfell.app.picture.images import image_of
from windfell.app.picture.tool import Box, Spot
from windfell.app.picture.view import PictureView
from windfell.app.screen import draw_picture
from windfell.app.session import Session
from windfell.app.stations.animating import AnimatingPage
from windfell.app.stations.best_page import BestPage
from windfell.app.stations.conflicts_page import ConflictsPage
from windfell.app.stations.piece_deeds import PieceDeeds
from windfell.app.stations.station import Station
from windfell.app.stations.subjects_controls import SubjectsControls
from windfell.app.stations.subjects_over import SIGN_PX, SubjectsOver, place_on_view
from windfell.app.stations.subjects_words import all_of_it, names_of, one_of_it
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.shelf import ShelfView, Tile
from windfell.engine.following import Followed, followed
from windfell.engine.shelf import Shelf, mover_at, shelf_of
from windfell.engine.stack_subjects import LEAST_FRAMES
from windfell.job import Job
from windfell.recipe import pieces, pile
from windfell.recipe.areas import Area, Meets
from windfell.recipe.combining import Layer
from windfell.recipe.model import FrameSet, Project, picture_parts

VIEWS = (
    ("shelf", "Shelf", "What moves, by track and by frame: press to take or leave"),
    ("conflicts", "Conflicts", "Pieces taken that share a place"),
    ("best", "Best of", "A group: one person as all frames show them: press the wished one"),
    ("animate", "Moving picture", "The series, or what moves in it, as a moving picture"))


class Subjects(Station):
    """The shelf at the right, what is done with all of it at the left; what moves is outlined on the picture."""

    name = "subjects"

    def __init__(self, session: Session, view: PictureView, hand: AreaHand) -> None:
        super().__init__(session)
        self._view, self.hand = view, hand
        hand.taken.connect(self._hand_changed)
        self.shelf: Shelf | None = None
        self._frames: tuple[str, ...] = ()
        self.boxed: Followed | None = None
        self._box = (0, 0, 0, 0)
        self._asked: tuple | None = None
        self._error = ""
        self._waits = False
        session.rested.connect(self._rested)
        self._images: dict[int, QImage] = {}
        self.over = SubjectsOver()
        self.spot, self.box = Spot(), Box()
        self.spot.pressed.connect(self._pressed_on_picture)
        self.box.drawn.connect(self._boxed)
        self.deeds = PieceDeeds(session, self)
        self._connect_controls()
        self.view = ShelfView()
        self.view.pressed.connect(self.deeds.turn)
        self.view.pointed.connect(lambda _: (self._view.update(), self._show_one()))
        self.frame_of = QScrollArea()
        self.frame_of.setWidget(self.view)
        self.frame_of.setWidgetResizable(True)
        self.frame_of.setFrameShape(QScrollArea.Shape.NoFrame)
        self.animating = AnimatingPage(session)
        self.animating.moved.connect(view.update)
        self.best = BestPage(session)
        self.best.boxing.connect(self._box_for_best)
        self.best.placed.connect(self._view.update)
        self.conflicts = ConflictsPage()
        self.conflicts.asked.connect(self.deeds.solve)
        self.conflicts.pointed.connect(self.view.hold)
        self.views = Choice("", VIEWS)
        self.views.picked.connect(self.open_view)
        self.one = self.quiet()
        self._one_row()
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(8, 4, 16, 6)
        layout.setSpacing(4)
        layout.addLayout(self._seeing_row())
        layout.addWidget(self.one_row)
        layout.addWidget(self.frame_of, 1)
        layout.addWidget(self.conflicts, 1)
        layout.addWidget(self.best, 1)
        layout.addWidget(self.animating, 1)
        self.open_view("shelf")

    def _connect_controls(self) -> None:
        self.controls_of = c = SubjectsControls(self.column)
        d = self.deeds
        c.base_picked.connect(d.put_behind)
        c.shadows_changed.connect(d.shadows_changed)
        c.seen_changed.connect(self._view.update)
        for button, deed in (
                (c.suggest, d.take_suggested), (c.all, d.take_all), (c.none, d.leave_all),
                (c.follow, self._take_box), (c.drop, d.drop_frames), (c.mend, d.mend_plate)):
            button.clicked.connect(lambda _=False, f=deed: f())

    def _seeing_row(self) -> QHBoxLayout:
        """Which page is open, and what the picture area shows against what."""
        self.see, self.against = QComboBox(), QComboBox()
        self.see.setAccessibleName("What is seen")
        self.see.setToolTip("What the picture area shows")
        self.against.setAccessibleName("What it is compared with")
        self.against.setToolTip("What divide, blink, ghost and difference compare it with")
        self.see.activated.connect(lambda _: self.session.changed.emit())
        self.against.activated.connect(lambda _: (self._view.looked.emit(), self._view.update()))
        row = QHBoxLayout()
        row.addWidget(self.views, 1)
        for words, box in (("See", self.see), ("against", self.against)):
            label = QLabel(words)
            label.setProperty("role", "quiet")
            row.addWidget(label)
            row.addWidget(box)
        return row

    def _one_row(self) -> None:
        """What is said of, and done with, the piece in hand."""
        self.one_row = QWidget()
        row = QHBoxLayout(self.one_row)
        row.setContentsMargins(0, 0, 0, 0)
        self.front, self.behind = QPushButton("In front"), QPushButton("Behind")
        self.front.setToolTip("The piece in hand in front of all others")
        self.behind.setToolTip("The piece in hand behind all others")
        self.front.clicked.connect(lambda: self.deeds.to_end(True))
        self.behind.clicked.connect(lambda: self.deeds.to_end(False))
        self.paint = QPushButton("Paint…", checkable=True)
        self.paint.setToolTip("Draw where the taken piece in hand holds; with none in hand a new piece of the frame "
                              "chosen at the left: rough strokes with “Grow” find the thing")
        self.paint.clicked.connect(lambda on: self.take_area() if on else self.hand.put_away())
        row.addWidget(self.one, 1)
        row.addWidget(self.paint)
        row.addWidget(self.front)
        row.addWidget(self.behind)

    def open_view(self, name: str) -> None:
        self.views.set_value(name)
        self.one_row.setVisible(name == "shelf")
        self.frame_of.setVisible(name == "shelf")
        self.best.setVisible(name == "best")
        self.conflicts.setVisible(name == "conflicts")
        self.animating.setVisible(name == "animate")
        self.animating.open = name == "animate"
        self.animating.refresh()

    @property
    def needed(self) -> list[QWidget]:
        return [self.controls_of.suggest]

    # -- what is found

    @property
    def settled(self) -> bool:
        runs = self.session.desk.runs
        return not self._waits and not runs("subjects") and not runs("cut between") and (
            self.animating.settled and self.best.settled)

    def entered(self) -> None:
        self._view.take_tool(self.spot)
        self._view.overlay = self.paint_over

    def left(self) -> None:
        self.hand.put_away()
        self._view.take_tool(None)
        self._view.overlay = None
        self.controls_of.follow.setChecked(self.boxed is not None)
        self.animating.stop()

    def refresh(self) -> None:
        s, own = self.session, self.session.frame_set
        if own is None or "subjects" not in s.stations:
            return
        self._ask(own)
        self._fill_frames(own)
        self.show()
        self.best.refresh()
        self.animating.refresh()

    def _ask(self, own: FrameSet) -> None:
        """Look for what moves when frames or their places changed; the layers above them do not matter."""
        s = self.session
        lowest = pieces.without_layers(s.project, own.id)
        key, frames = _key_of(lowest, own), (own.id, *(f.id for f in own.used))
        if frames != self._frames:  # what was found of others says nothing of these
            self._frames, self.shelf, self._images = frames, None, {}
            self._asked = self._asked and (self._asked[0], None)
        self._waits = key != self._asked and s.moving
        if key == self._asked or s.moving:
            return  # while a hand moves nothing is looked for
        if self._asked is None or self._asked[0] != own.id:
            self.boxed = None
            self.controls_of.follow.setChecked(False)
        self._asked, self.shelf, self._images, self._error = key, None, {}, ""
        self.over.forget()
        if len(own.used) < LEAST_FRAMES:
            self._error = "What moves is told from what stays by at least three frames."
            return
        engine, set_id = s.engine, own.id

        def look(job: Job) -> Shelf:
            return shelf_of(engine.stages(lowest, set_id), job)

        def failed(words: str = "") -> None:
            self._error = words
            self.show()

        s.desk.ask("subjects", look, lambda found: self._arrived(key, found), failed, self._forget)

    def _rested(self) -> None:
        if self._waits and self.session.station == self.name:
            self.refresh()

    def _forget(self, *_) -> None:
        self._asked = None

    def _arrived(self, key: tuple, found: Shelf) -> None:
        own = self.session.frame_set
        if key != self._asked:
            return
        if own is None or key != _key_of(pieces.without_layers(self.session.project, own.id), own):
            self._forget()  # the frames are others now; when the station is seen again it asks anew
            return
        self.shelf = found
        self._images = {n: image_of(one.picture) for n, one in enumerate(found.shown)}
        if self.boxed is not None:
            self._follow()
        self.show()
        self._view.update()

    @property
    def taken(self) -> list[int]:
        """The movers that are taken, by index, the lowest first."""
        own = self.session.frame_set
        if own is None or self.shelf is None:
            return []
        found = (self.shelf.named(pieces.mask_of(x)) for x in own.combining.layers if x.on)
        return [n for n in found if n is not None]

    @property
    def offered(self) -> list[int]:
        """The movers on the shelf: all, or those of the tracks that a box has chosen."""
        if self.shelf is None:
            return []
        return list(range(len(self.shelf.found.movers))) if self.boxed is None else list(self.boxed.movers)

    @property
    def with_shadows(self) -> bool:
        return self.controls_of.shadows.isChecked()

    def show(self) -> None:
        own = self.session.frame_set
        if own is None:
            return
        shelf, taken = self.shelf, set(self.taken)
        there = shelf is not None and bool(shelf.found.movers)
        c = self.controls_of
        c.allow(there)
        c.drop.setEnabled(shelf is not None and bool(shelf.found.dropped or (self.boxed and self.boxed.lost)))
        c.mend.setEnabled(bool(self.deeds.unmended()))
        if shelf is None:
            c.words.setText(self._error or "Looking for what moves…")
            self.conflicts.show_pairs(())
            self.view.show_tiles((), {})
            self._show_one()
            return
        movers, numbers = shelf.found.movers, own.numbers
        tiles = []
        for n in self.offered:
            against = [j for j in shelf.found.conflicts_of(n, self.with_shadows) if j in taken]
            number = numbers[movers[n].frame]
            words = f"Track {movers[n].track + 1}, frame {number}"
            if against:
                words += ": shares its place with " + names_of(movers, against, numbers)
            tiles.append(Tile(n, number, movers[n].track, n in taken, bool(against), words))
        self.view.show_tiles(tuple(tiles), self._images)
        pairs = self._open_pairs()
        self.conflicts.show_pairs([(i, j, self._clash(i, j)) for i, j in pairs])
        c.words.setText(all_of_it(shelf.found, len(taken), len(pairs), self.boxed, numbers))
        self._show_one()

    def _clash(self, i: int, j: int) -> str:
        found = self.shelf.found
        how = "they overlap" if j in found.conflicts_of(i, False) else "one stands on the other's shadow"
        one, other = (names_of(found.movers, [n], self.session.frame_set.numbers) for n in (i, j))
        return f"{one} and {other}: {how}".capitalize()

    def _open_pairs(self) -> list[tuple[int, int]]:
        """The pairs of taken pieces that share a place and were not parted."""
        taken, found = self.taken, self.shelf.found
        own = self.session.frame_set.combining.layers
        cut = {n for n in taken if any(p.meets is Meets.BOTH for p in own[self.layer_of(n)].area.parts)}
        return [(i, j) for i in sorted(taken) for j in found.conflicts_of(i, self.with_shadows)
                if i < j and j in taken and not (i in cut and j in cut)]

    def _show_one(self) -> None:
        n = self.view.in_hand
        own = self.session.frame_set
        on = n is not None and n in self.taken
        self.paint.setEnabled(on or self.session.frame_id is not None)
        self.paint.setChecked(self.hand.target is not None)
        self.front.setEnabled(on)
        self.behind.setEnabled(on)
        if n is None or self.shelf is None or own is None or n >= len(self.shelf.found.movers):
            self.one.setText("Press a small picture, or what moves in the picture, to take or leave it.")
            return
        against = [j for j in self.shelf.found.conflicts_of(n, self.with_shadows) if j in self.taken]
        self.one.setText(one_of_it(self.shelf.found, n, against, own.numbers))

    def _fill_frames(self, own: FrameSet) -> None:
        plain = str(own.combining.rule) == "median"
        plate = "the clean plate" if plain else f"the rule: {own.combining.rule}"
        frames = [(f"frame {n + 1}", f.id) for n, f in enumerate(own.frames)]
        for box, first in ((self.controls_of.base, [(plate, None)]),
                           (self.see, [("the picture", "result"), ("the plate", "plate")]),
                           (self.against, [("the plate", "plate"), ("the picture", "result")])):
            before = box.currentData()
            box.clear()
            for words, data in (*first, *frames):
                box.addItem(words, data)
            now = pieces.base_of(own) if box is self.controls_of.base else before
            box.setCurrentIndex(max(0, box.findData(now)))

    # -- by hand

    def take_area(self) -> None:
        """Draw where the piece in hand holds, or a new piece of the frame chosen at the left."""
        s, n = self.session, self.view.in_hand
        own, set_id = s.frame_set, s.set_id
        at = self.layer_of(n)
        if at is None:
            if s.frame_id is None:
                self.paint.setChecked(False)
                return
            at = len(own.combining.layers)
            number = own.number_of(s.frame_id)
            s.edit(pile.add_layer(s.project, set_id, Layer(
                frames=(s.frame_id,), name=f"by hand, frame {number}", area=Area())), True)

        def read(project: Project) -> Area | None:
            now = next((x for x in project.sets if x.id == set_id), None)
            there = now is not None and at < len(now.combining.layers)
            return (now.combining.layers[at].area or Area()) if there else None

        self.hand.take(AreaTarget(set_id, f"Where {s.frame_set.combining.layers[at].name} holds", read,
                                  lambda project, area: pile.with_layer_area(project, set_id, at, area)))
        self._show_one()

    def layer_of(self, n: int | None) -> int | None:
        """Which layer a taken mover is."""
        if n is None or self.shelf is None or n >= len(self.shelf.shown):
            return None
        layers = self.session.frame_set.combining.layers
        return next((k for k, x in enumerate(layers) if pieces.mask_of(x) == self.shelf.shown[n].mask), None)

    def _hand_changed(self) -> None:
        """The area was put away: presses on the picture take pieces again."""
        if self.session.station != self.name:
            return
        if self.hand.target is None:
            self._view.take_tool(self.spot)
        self._show_one()

    # -- on the picture

    def _take_box(self) -> None:
        if self.boxed is not None:
            self.boxed = None
            self.controls_of.follow.setChecked(False)
            self.show()
            return
        self._view.take_tool(self.box if self.controls_of.follow.isChecked() else self.spot)

    def _box_for_best(self, on: bool) -> None:
        self._view.take_tool(self.box if on else self.spot)

    def _boxed(self, box: QRectF) -> None:
        if self.best.isVisible():
            shown = self._view.source.shown
            self._view.take_tool(self.spot)
            if shown is not None:
                self.best.box(box, (shown.width, shown.height))
            return
        if self.shelf is None:
            return
        w, h = self.shelf.found.size
        self._box = round(box.x() * w), round(box.y() * h), round(box.width() * w), round(box.height() * h)
        self._view.take_tool(self.spot)
        self._follow()
        if self.boxed is None:
            self.session.say("Nothing that moves lies in this box.", "wrong")
        self.show()

    def _follow(self) -> None:
        """What lies in the box, followed through the frames as they are now."""
        found = followed(self.shelf.found, self._box)
        self.boxed = found if found.movers else None
        self.controls_of.follow.setChecked(self.boxed is not None)

    def _pressed_on_picture(self, at: QPointF) -> None:
        if self.best.isVisible():
            shown = self._view.source.shown
            if shown is not None:
                more = bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)
                self.best.point(at, (shown.width, shown.height), more)
            return
        if self.shelf is None:
            return
        rect = self._view.picture_rect()
        spot = QPointF(rect.x() + at.x() * rect.width(), rect.y() + at.y() * rect.height())
        for n, place in enumerate(self.shelf.found.standing):
            sign = place_on_view(self.shelf.found, place, rect)[1]
            if self.frame_of.isVisible() and not place.sure and (sign - spot).manhattanLength() < 2 * SIGN_PX:
                self.deeds.choose_ground(n)
                return
        w, h = self.shelf.found.size
        x, y = at.x() * w, at.y() * h
        here = [n for n in mover_at(self.shelf.found, x, y) if n in self.offered]
        taken = self.taken
        on_top = [n for n in reversed(taken) if n in here]
        if on_top or here:
            chosen = on_top[0] if on_top else here[0]
            self.view.hold(chosen)
            self.deeds.turn(chosen)

    def paint_over(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """Outlines of what is taken and of the piece in hand; that one's matte alone; or the moving picture."""
        if self.animating.now is not None:
            draw_picture(painter, rect, self.animating.now)
            return
        shown = self._view.source.shown
        if self.best.isVisible() and self.best.place is not None and shown is not None:
            self.over.place(painter, rect, self.best.place, (shown.width, shown.height))
        if self.shelf is None:
            return
        n = self.view.in_hand
        c = self.controls_of
        if c.alone.isChecked() and n is not None and n < len(self.shelf.found.movers):
            self.over.matte(painter, rect, self.shelf, n)
            return
        if c.outlined.isChecked():
            self.over.outlines(painter, rect, self.shelf, self.taken, n)
        if self.frame_of.isVisible():
            self.over.signs(painter, rect, self.shelf.found)

    def picture_of(self, project: Project) -> Project:
        """The whole ground is seen here, so that all pieces are."""
        return pieces.seen_as(project, self.session.set_id, self._data_of(self.see))

    def held_against(self, project: Project) -> tuple[Project, tuple[str, str]] | None:
        words = [box.currentText() or "the picture" for box in (self.against, self.see)]
        return pieces.seen_as(project, self.session.set_id, self._data_of(self.against, "plate")), tuple(words)

    def _data_of(self, box: QComboBox, usual: str = "result") -> str:
        """What a box chooses, unless it is gone."""
        own, what = self.session.frame_set, box.currentData()
        there = what in ("result", "plate") or any(f.id == what for f in own.used)
        return what if there else usual


def _key_of(lowest: Project, own: FrameSet) -> tuple:
    """What hangs on frames and places alone, of a project without layers above them."""
    return own.id, picture_parts(lowest, own.id)
