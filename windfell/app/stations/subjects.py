"""Subjects: everything that moves in a stack, each a piece to take or leave."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.area_hand import AreaHand, AreaTarget
from windfell.app.picture.images import image_of
from windfell.app.picture.tool import Box, Spot, on_view
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.animating import AnimatingPage
from windfell.app.stations.best_page import BestPage
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.shelf import ShelfView, Tile
from windfell.engine.pieces_laid import piece_layer, piece_mask, suggested, tracks_in
from windfell.engine.shelf import Shelf, mover_at, shelf_of
from windfell.job import Job
from windfell.recipe import edits, pieces, pile
from windfell.recipe.areas import Area
from windfell.recipe.combining import Layer
from windfell.recipe.model import FrameSet, Project, picture_parts


class Subjects(Station):
    """The shelf at the right, what is done with all of it at the left; what moves is outlined on the picture."""

    name = "subjects"

    def __init__(self, session: Session, view: PictureView, hand: AreaHand) -> None:
        super().__init__(session)
        self._view, self.hand = view, hand
        self.shelf: Shelf | None = None
        self.only: set[int] = set()
        self._asked: tuple | None = None
        self._error = ""
        self._waits = False
        session.rested.connect(self._rested)
        self._images: dict[int, QImage] = {}
        self._matte: tuple[int, QImage] | None = None
        self.spot, self.box = Spot(), Box()
        self.spot.pressed.connect(self._pressed_on_picture)
        self.box.drawn.connect(self._boxed)
        self._controls()
        self.view = ShelfView()
        self.view.pressed.connect(self.turn)
        self.view.pointed.connect(lambda _: (self._view.update(), self._show_one()))
        self.scroll = QScrollArea()
        self.scroll.setWidget(self.view)
        self.scroll.setWidgetResizable(True)
        self.scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        self.animating = AnimatingPage(session)
        self.animating.moved.connect(view.update)
        self.best = BestPage(session)
        self.best.boxing.connect(self._box_for_best)
        self.views = Choice("", (
            ("shelf", "Shelf", "What moves, by track and by frame: press to take or leave"),
            ("best", "Best of", "A group: one person as all frames show them: press the wished one"),
            ("animate", "Moving picture", "The series, or what moves in it, as a moving picture")))
        self.views.picked.connect(self.open_view)
        self.views.set_value("shelf")
        self.one = self.quiet()
        self._one_row()
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(8, 4, 16, 6)
        layout.setSpacing(4)
        layout.addWidget(self.views)
        layout.addWidget(self.one_row)
        layout.addWidget(self.scroll, 1)
        layout.addWidget(self.best, 1)
        layout.addWidget(self.animating, 1)
        self.open_view("shelf")

    def _controls(self) -> None:
        self.column.setContentsMargins(16, 6, 12, 4)
        self.column.addWidget(self.title("Subjects"))
        self.words = self.quiet()
        self.column.addWidget(self.words)
        self.base = QComboBox()
        self.base.setAccessibleName("Behind the pieces")
        self.base.setToolTip("What is seen behind the pieces: the picture of Combine's rule, or a frame")
        self.base.activated.connect(lambda n: self.put_behind(self.base.itemData(n)))
        row = QHBoxLayout()
        row.addWidget(QLabel("Behind"))
        row.addWidget(self.base, 1)
        self.column.addLayout(row)
        self.shadows = QCheckBox("With shadows")
        self.shadows.setToolTip("What is taken brings its shadow and the light it spills")
        self.shadows.setChecked(True)
        self.shadows.clicked.connect(self._shadows_switched)
        self.outlined = QCheckBox("Outlines")
        self.outlined.setToolTip("Draw them on the picture: whole lines what is taken, dotted the one in hand")
        self.outlined.setChecked(True)
        self.outlined.clicked.connect(lambda: self._view.update())
        self.alone = QCheckBox("Matte")
        self.alone.setToolTip("The piece in hand by itself in black and white")
        self.alone.clicked.connect(lambda: self._view.update())
        row = QHBoxLayout()
        for part in (self.shadows, self.outlined, self.alone):
            row.addWidget(part)
        row.addStretch(1)
        self.column.addLayout(row)
        self.suggest, self.all = QPushButton("Suggest"), QPushButton("Take all")
        self.none, self.follow = QPushButton("Leave all"), QPushButton("Box…", checkable=True)
        self.drop = QPushButton("Drop frames")
        for button, tip, deed in (
                (self.suggest, "As many as stand together without conflicts", self.take_suggested),
                (self.all, "Every piece", self.take_all), (self.none, "No piece", self.leave_all),
                (self.follow, "Draw a box around one subject: only its track is left on the shelf", self._take_box),
                (self.drop, "Keep aside the frames whose light changed", self.drop_frames)):
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, f=deed: f())
        grid = QGridLayout()
        grid.setSpacing(4)
        for n, button in enumerate((self.suggest, self.all, self.none, self.follow, self.drop)):
            grid.addWidget(button, n // 3, n % 3)
        self.column.addLayout(grid)
        self.column.addStretch(1)

    def _one_row(self) -> None:
        """What is said of, and done with, the piece in hand."""
        self.one_row = QWidget()
        row = QHBoxLayout(self.one_row)
        row.setContentsMargins(0, 0, 0, 0)
        self.front, self.behind = QPushButton("In front"), QPushButton("Behind")
        self.front.setToolTip("The piece in hand in front of all others")
        self.behind.setToolTip("The piece in hand behind all others")
        self.front.clicked.connect(lambda: self._to_end(True))
        self.behind.clicked.connect(lambda: self._to_end(False))
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
        self.scroll.setVisible(name == "shelf")
        self.best.setVisible(name == "best")
        self.animating.setVisible(name == "animate")
        self.animating.open = name == "animate"
        self.animating.refresh()

    @property
    def needed(self) -> list[QWidget]:
        return [self.suggest]

    # -- what is found

    @property
    def settled(self) -> bool:
        return not self._waits and not self.session.desk.runs("subjects") and (
            self.animating.settled and self.best.settled)

    def entered(self) -> None:
        self.hand.taken.connect(self._hand_changed)
        self._view.take_tool(self.spot)
        self._view.overlay = self.paint_over

    def left(self) -> None:
        self.hand.taken.disconnect(self._hand_changed)
        self.hand.put_away()
        self._view.take_tool(None)
        self._view.overlay = None
        self.follow.setChecked(False)
        self.animating.stop()

    def refresh(self) -> None:
        s, own = self.session, self.session.frame_set
        if own is None or "subjects" not in s.stations:
            return
        self._ask(own)
        self._fill_base(own)
        self._show()
        self.best.refresh()
        self.animating.refresh()

    def _ask(self, own: FrameSet) -> None:
        """Look for what moves when frames or their places changed; the layers above them do not matter."""
        s = self.session
        lowest = pieces.without_layers(s.project, own.id)
        key = own.id, picture_parts(lowest, own.id)
        self._waits = key != self._asked and s.moving
        if key == self._asked or s.moving:
            return  # while a hand moves nothing is looked for
        if self._asked is None or self._asked[0] != own.id:
            self.only = set()
        self._asked, self.shelf, self._images, self._matte, self._error = key, None, {}, None, ""
        if len(own.used) < 3:
            self._error = "What moves is told from what stays by at least three frames."
            return
        engine, set_id = s.engine, own.id

        def look(job: Job) -> Shelf:
            return shelf_of(engine.stages(lowest, set_id), job)

        def failed(words: str = "") -> None:
            self._error = words
            self._show()

        s.desk.ask("subjects", look, lambda found: self._arrived(key, found), failed, self._forget)

    def _rested(self) -> None:
        if self._waits and self.session.station == self.name:
            self.refresh()

    def _forget(self, *_) -> None:
        self._asked = None

    def _arrived(self, key: tuple, found: Shelf) -> None:
        if key != self._asked:
            return
        self.shelf = found
        self._images = {n: image_of(one.picture) for n, one in enumerate(found.shown)}
        self._show()
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
        return [n for n, m in enumerate(self.shelf.found.movers) if not self.only or m.track in self.only]

    def _show(self) -> None:
        own = self.session.frame_set
        if own is None:
            return
        shelf, taken = self.shelf, set(self.taken)
        there = shelf is not None and bool(shelf.found.movers)
        for button in (self.suggest, self.all, self.none, self.follow):
            button.setEnabled(there)
        self.drop.setEnabled(shelf is not None and bool(shelf.found.dropped))
        if shelf is None:
            self.words.setText(self._error or "Looking for what moves…")
            self.view.show_tiles((), {})
            self._show_one()
            return
        movers = shelf.found.movers
        tiles = []
        for n in self.offered:
            against = [j for j in shelf.found.conflicts_of(n, self.shadows.isChecked()) if j in taken]
            words = f"Track {movers[n].track + 1}, frame {movers[n].frame + 1}"
            if against:
                words += ": shares its place with " + self._names(against)
            tiles.append(Tile(n, movers[n].frame, movers[n].track, n in taken, bool(against), words))
        self.view.show_tiles(tuple(tiles), self._images)
        self.words.setText(self._sentence(taken))
        self._show_one()

    def _names(self, some: Sequence[int]) -> str:
        movers = self.shelf.found.movers
        return ", ".join(f"track {movers[j].track + 1} of frame {movers[j].frame + 1}" for j in some[:3]) + (
            f" and {len(some) - 3} more" if len(some) > 3 else "")

    def _sentence(self, taken: set[int]) -> str:
        found = self.shelf.found
        if not found.movers:
            said = "Nothing that moves was found."
        else:
            tracks = len({m.track for m in found.movers})
            words = "track" if tracks == 1 else "tracks"
            said = f"{len(found.movers)} pieces in {tracks} {words}, {len(taken)} taken."
        clashes = sum(1 for i in taken for j in found.conflicts_of(i, self.shadows.isChecked()) if j in taken) // 2
        if clashes:
            said += f" {clashes} {'pair shares' if clashes == 1 else 'pairs share'} a place."
        for frame, why in found.dropped[:2]:
            said += f" Frame {frame + 1} left out: {why}."
        if self.only:
            said += " Only the boxed subject is on the shelf."
        return said

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
        mover = self.shelf.found.movers[n]
        share = 100 * mover.piece.area / mover.scale**2 / (self.shelf.found.size[0] * self.shelf.found.size[1])
        ev = round(float(np.log2(np.mean(mover.gain))), 2) + 0.0
        against = [j for j in self.shelf.found.conflicts_of(n, self.shadows.isChecked()) if j in self.taken]
        more = f"; shares its place with {self._names(against)}" if against else ""
        self.one.setText(f"Track {mover.track + 1}, frame {mover.frame + 1}: {share:.1f} % of the picture, light "
                         f"matched by {ev:+.2f} EV{more}.")

    def _fill_base(self, own: FrameSet) -> None:
        self.base.clear()
        plain = str(own.combining.rule) == "median"
        self.base.addItem("the clean plate" if plain else f"the rule: {own.combining.rule}", None)
        for n, f in enumerate(own.frames):
            self.base.addItem(f"frame {n + 1}", f.id)
        self.base.setCurrentIndex(max(0, self.base.findData(pieces.base_of(own))))

    # -- edits

    def _layers(self, some: Sequence[int]) -> list:
        s, own, out = self.session, self.session.frame_set, []
        for n in some:
            layer, mask = piece_layer(own, self.shelf.found.movers[n], self.shadows.isChecked())
            s.engine.masks[pieces.mask_of(layer)] = mask
            out.append(layer)
        return out

    def _masks(self, some: Sequence[int]) -> set[str]:
        return {name for n in some for name in self.shelf.shown[n].masks}

    def turn(self, n: int) -> None:
        """Take a piece, or leave it."""
        s = self.session
        if n in self.taken:
            s.edit(pieces.leave(s.project, s.set_id, self._masks([n])), True)
        else:
            s.edit(pieces.take(s.project, s.set_id, self._layers([n])), True)

    def _set(self, some: Sequence[int], words: str) -> None:
        s = self.session
        s.edit(pieces.swap(s.project, s.set_id, self._masks(self.offered), self._layers(some), words), True)

    def take_suggested(self) -> None:
        """The largest set without conflicts."""
        chosen = suggested(self.shelf.found, self.offered, None, self.shadows.isChecked())
        self._set(chosen, f"take the {len(chosen)} suggested")

    def take_all(self) -> None:
        self._set(self.offered, f"take all {len(self.offered)} pieces")

    def leave_all(self) -> None:
        if self.taken:
            self._set((), "leave all pieces")

    def _shadows_switched(self) -> None:
        taken = [n for n in self.taken if n in self.offered]
        if taken:
            self._set(taken, "pieces with their shadows" if self.shadows.isChecked() else "pieces without shadows")
        else:
            self._show()

    def put_behind(self, base: str | None) -> None:
        """What is seen behind the pieces: a frame (id), or the rule's picture."""
        s = self.session
        if base != pieces.base_of(s.frame_set):
            s.edit(pieces.put_behind(s.project, s.set_id, base), True)

    def _to_end(self, front: bool) -> None:
        s, n = self.session, self.view.in_hand
        at = self._layer_of(n)
        if at is not None:
            mask = pieces.mask_of(s.frame_set.combining.layers[at])
            s.edit(pieces.to_end(s.project, s.set_id, mask, front), True)

    def take_area(self) -> None:
        """Draw where the piece in hand holds, or a new piece of the frame chosen at the left."""
        s, n = self.session, self.view.in_hand
        own, set_id = s.frame_set, s.set_id
        at = self._layer_of(n)
        if at is None:
            if s.frame_id is None:
                self.paint.setChecked(False)
                return
            at = len(own.combining.layers)
            number = 1 + [f.id for f in own.frames].index(s.frame_id)
            s.edit(pile.add_layer(s.project, set_id, Layer(
                frames=(s.frame_id,), name=f"by hand, frame {number}", area=Area())), True)

        def read(project: Project) -> Area | None:
            now = next((x for x in project.sets if x.id == set_id), None)
            there = now is not None and at < len(now.combining.layers)
            return (now.combining.layers[at].area or Area()) if there else None

        self.hand.take(AreaTarget(set_id, f"Where {s.frame_set.combining.layers[at].name} holds", read,
                                  lambda project, area: pile.with_layer_area(project, set_id, at, area)))
        self._show_one()

    def _layer_of(self, n: int | None) -> int | None:
        """Which layer a taken mover is."""
        if n is None or self.shelf is None or n >= len(self.shelf.shown):
            return None
        names = self.shelf.shown[n].masks
        layers = self.session.frame_set.combining.layers
        return next((k for k, x in enumerate(layers) if pieces.mask_of(x) in names), None)

    def drop_frames(self) -> None:
        """The frames whose light changed are kept aside, and all is looked for anew."""
        s, own = self.session, self.session.frame_set
        ids = [own.used[n].id for n, _ in self.shelf.found.dropped]
        s.edit(edits.switch_frames(s.project, s.set_id, ids, False), True)

    def _hand_changed(self) -> None:
        """The area was put away: presses on the picture take pieces again."""
        if self.hand.target is None:
            self._view.take_tool(self.spot)
        self._show_one()

    # -- on the picture

    def _take_box(self) -> None:
        if self.only:
            self.only = set()
            self.follow.setChecked(False)
            self._show()
            return
        self._view.take_tool(self.box if self.follow.isChecked() else self.spot)

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
        found = tracks_in(self.shelf.found, (round(box.x() * w), round(box.y() * h), round(box.width() * w),
                                             round(box.height() * h)))
        self._view.take_tool(self.spot)
        self.only = found
        self.follow.setChecked(bool(found))
        if not found:
            self.session.say("Nothing that moves lies in this box.", "wrong")
        self._show()

    def _pressed_on_picture(self, at: QPointF) -> None:
        if self.shelf is None or self.best.isVisible():
            return
        w, h = self.shelf.found.size
        x, y = at.x() * w, at.y() * h
        here = [n for n in mover_at(self.shelf.found, x, y) if n in self.offered]
        taken = self.taken
        on_top = [n for n in reversed(taken) if n in here]
        if on_top or here:
            chosen = on_top[0] if on_top else here[0]
            self.view.hold(chosen)
            self.turn(chosen)

    def paint_over(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """Outlines of what is taken and of the piece in hand; that one's matte alone; or the moving picture."""
        if self.animating.now is not None:
            painter.drawImage(rect, self.animating.now)
            return
        if self.shelf is None:
            return
        n = self.view.in_hand
        if self.alone.isChecked() and n is not None and n < len(self.shelf.found.movers):
            painter.drawImage(rect, self._matte_image(n))
            return
        if not self.outlined.isChecked():
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        w, h = self.shelf.found.size
        for k in {*self.taken, *([] if n is None else [n])}:
            if k >= len(self.shelf.shown):
                continue
            held = k == n
            for line in self.shelf.shown[k].outlines:
                shape = QPolygonF([on_view(QPointF(x / w, y / h), rect) for x, y in line])
                style = Qt.PenStyle.SolidLine if k in self.taken else Qt.PenStyle.DotLine
                painter.setPen(QPen(theme.colour("ink", 150), 3.2 if held else 2.4))
                painter.drawPolygon(shape)
                painter.setPen(QPen(theme.colour("gorse"), 2.0 if held else 1.2, style))
                painter.drawPolygon(shape)

    def _matte_image(self, n: int) -> QImage:
        if self._matte is None or self._matte[0] != n:
            mask = piece_mask(self.shelf.found.movers[n], False)
            h, w = mask.shape
            self._matte = n, QImage(mask.tobytes(), w, h, w, QImage.Format.Format_Grayscale8).copy()
        return self._matte[1]

    def picture_of(self, project: Project) -> Project:
        """The whole ground is seen here, so that all pieces are."""
        return pieces.whole_ground(project, self.session.set_id)
