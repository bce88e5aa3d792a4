"""Join: light, seams, blending; the seams drawn on the picture."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from windfell.align.even import Evened
from windfell.app import theme
from windfell.app.area_hand import AreaHand
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.behind_page import BehindPage
from windfell.app.stations.mending import FlatPage, Mending
from windfell.app.stations.owning import Owning
from windfell.app.stations.seam_walk import SeamWalk
from windfell.app.stations.station import Station
from windfell.app.widgets.bars import Bars
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler
from windfell.engine.seam_bends import SeamBends
from windfell.job import Job
from windfell.recipe.model import Blend, FrameSet, Project, picture_parts

SEAM_SIDE = 1400


@dataclass(frozen=True)
class SeamPicture:
    """Seams as an image over the picture, each frame's share of it, 0..1, and its light; how parallax was evened
    out, None if that is not asked.
    """

    image: QImage
    shares: list[float | None]
    gains_ev: list[float | None]
    evened: Evened | None = None
    bent: SeamBends | None = None


class Join(Station):
    """Controls of light, seams and blend. Instrument: area and light given by each frame."""

    name = "join"

    def __init__(self, session: Session, view: PictureView, hand: AreaHand) -> None:
        super().__init__(session)
        self._view, self.hand = view, hand
        self.seams: SeamPicture | None = None
        self._asked = None
        session.rested.connect(self._calm)
        view.source.arrived.connect(self._calm)
        self.column.setContentsMargins(16, 6, 12, 4)
        self.stack, self.sheets = QStackedWidget(), QStackedWidget()
        self.pages = Choice("", (
            ("blend", "Blend", "How the frames pass into each other"),
            ("own", "Own", "Which frame gives what"),
            ("mend", "Mend", "A flat view of any direction, to paint, clone and fill in"),
            ("behind", "Behind", "Another panorama seen where this one has its sky")))
        self.pages.picked.connect(self.open_page)
        self.pages.set_value("blend")
        self.show_seams = QCheckBox("Show seams on the picture")
        self.show_seams.setToolTip("Where one frame ends and the next begins")
        self.show_seams.setChecked(True)
        self.show_seams.toggled.connect(lambda _: view.update())
        self.column.addWidget(self.pages)
        self.column.addWidget(self.stack, 1)
        self.column.addWidget(self.show_seams)
        self._blend_page()
        self.own, self.flat = Owning(session, view, hand), FlatPage()
        self.flat.looked.connect(session.changed)
        self.stack.addWidget(self.own)
        self.stack.addWidget(self.flat)
        self.behind = BehindPage(session, view, hand)
        self.stack.addWidget(self.behind)
        self._make_instrument()

    def _blend_page(self) -> None:
        session, column = self.session, self.page_of(self.stack, 4)
        self.light = self._switch("Match light between frames", "joining.match_light",
                                  "Undo exposure and white balance drift and darkened corners")
        self.cut = self._switch("Lay seams around what differs", "joining.cut_seams",
                                "Off: each spot comes from the frame in whose middle it lies")
        self.even = self._switch("Even out parallax", "joining.even_parallax",
                                 "Bend the frames a little, smoothly, where near things do not meet; left alone "
                                 "where that would not help")
        self.bend = self._switch("Bend along seams", "joining.bend_seams",
                                 "What two frames still show apart along a seam meets halfway; gone a short way from "
                                 "it")
        self.even_words = self.quiet()
        self.blend = Ruler("Blend", 0, 100, 60, "%", 1)
        self.blend.changed.connect(lambda v, first: session.change("joining.blend_pct", v, first))
        self.blending = Choice("", (
            ("wide", "Wide bands", "Light passes over widely, detail narrowly"),
            ("feather", "Feather", "A few px of both frames"), ("none", "None", "Edge to edge")))
        self.blending.picked.connect(lambda v: session.change("joining.blend", Blend(v), True))
        bends = QHBoxLayout()
        bends.addWidget(self.even)
        bends.addWidget(self.bend)
        column.addWidget(self.light)
        column.addWidget(self.cut)
        column.addLayout(bends)
        for part in (self.even_words, self.blend, self.blending):
            column.addWidget(part)
        column.addStretch(1)

    def _switch(self, words: str, path: str, tip: str) -> QCheckBox:
        """A switch of one value of the set."""
        box = QCheckBox(words)
        box.setToolTip(tip)
        box.clicked.connect(lambda on: self.session.change(path, on, True))
        return box

    def _make_instrument(self) -> None:
        view = self._view
        self.walk = SeamWalk(self.session)
        self.walk.flown.connect(lambda x, y: view.look_at(x, y, 1.0))
        self.area = Bars("Area each frame gives to the picture, %", "%")
        self.gain = Bars("Light added to each frame, in EV above the least", "EV")
        self.mending = Mending(self.session, view, self.hand, self.flat)
        bars = QWidget()
        column = QVBoxLayout(bars)
        column.setContentsMargins(0, 0, 0, 0)
        for part in (self.area, self.gain):
            part.picked.connect(self._pick)
            column.addWidget(part, 1)
        self.tabs = Choice("", (
            ("walk", "Seam walk", "Every stretch of every seam, the worst first"),
            ("bars", "Area and light", "What each frame gives"),
            ("repairs", "Repairs", "Pieces laid over the picture")))
        for sheet in (self.walk, bars, self.mending):
            self.sheets.addWidget(sheet)
        self.tabs.picked.connect(self.open_tab)
        self.tabs.set_value("walk")
        self.instrument = QWidget()
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(12, 4, 16, 4)
        layout.setSpacing(4)
        layout.addWidget(self.tabs)
        layout.addWidget(self.sheets, 1)

    @property
    def needed(self) -> list[QWidget]:
        return [self.blend, self.cut, self.show_seams]

    @property
    def settled(self) -> bool:
        return self.seams is not None or self._view.source.error is not None

    def entered(self) -> None:
        self._view.overlay = self._paint_seams
        self._view.update()

    def open_page(self, name: str) -> None:
        """Show a page of the controls; the brush is put away elsewhere."""
        self.pages.set_value(name)
        self.stack.setCurrentIndex(("blend", "own", "mend", "behind").index(name))
        self.hand.put_away()
        if name == "own":
            self.own.refresh()
        elif name == "mend":
            self.open_tab("repairs")
        if name != "mend" and self.flat.on.isChecked():
            self.flat.on.setChecked(False)

    def open_tab(self, name: str) -> None:
        """Show an instrument."""
        self.tabs.set_value(name)
        self.sheets.setCurrentIndex(("walk", "bars", "repairs").index(name))
        if name != "repairs":
            self.mending.place.put_away()

    def picture_of(self, project: Project) -> Project:
        return self.mending.picture_of(project)

    def left(self) -> None:
        self.hand.put_away()
        self._view.overlay = None
        self._view.update()

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None or "join" not in self.session.stations:
            return
        self.light.setChecked(frame_set.joining.match_light)
        self.cut.setChecked(frame_set.joining.cut_seams)
        self.even.setChecked(frame_set.joining.even_parallax)
        self.bend.setChecked(frame_set.joining.bend_seams)
        self.blending.set_value(str(frame_set.joining.blend))
        self.blend.set_value(frame_set.joining.blend_pct)
        self.blend.setEnabled(frame_set.joining.blend is Blend.WIDE)
        self.walk.refresh()
        self.own.refresh()
        self.behind.show_set(frame_set, self.session.project)
        self.mending.refresh()
        self._ask(frame_set)
        self._show_bars()

    def note(self, frame_id: str) -> tuple[str, bool]:
        """The frame's share of the picture."""
        frame_set = self.session.frame_set
        ids = [f.id for f in frame_set.used]
        if self.seams is None or frame_id not in ids or len(self.seams.shares) != len(ids):
            return "", False
        share = self.seams.shares[ids.index(frame_id)]
        return ("gives nothing", True) if share is None else (f"gives {100 * share:.0f} %", False)

    def _ask(self, frame_set: FrameSet) -> None:
        if frame_set == self._asked or self.session.moving or not self._view.source.settled:
            return
        if self._asked is None or self._asked.id != frame_set.id:
            self.seams = None
        self._asked = frame_set
        self.own.refresh()
        self.walk.ask((frame_set.id, picture_parts(self.session.project, frame_set.id)))
        project, engine = self.session.project, self.session.engine
        self.session.desk.ask(
            "seams", lambda job: seam_picture(engine, project, frame_set.id, job), self._have,
            self._failed, self._forget, quiet=True,
        )

    def _calm(self) -> None:
        """The hand rests, or the picture is there: the seams' turn."""
        if self.session.station == self.name and self.session.frame_set is not None:
            self._ask(self.session.frame_set)

    def _have(self, seams: SeamPicture) -> None:
        self.seams = seams
        self._show_bars()
        self._view.update()
        self.session.selected.emit()

    def _forget(self) -> None:
        self._asked = None

    def _failed(self, _sentence: str) -> None:
        self.seams, self._asked = None, None
        self._show_bars()

    def _show_bars(self) -> None:
        shares = self.seams.shares if self.seams else []
        chosen = None
        frame_set = self.session.frame_set
        if frame_set:
            ids = [f.id for f in frame_set.used]
            chosen = ids.index(self.session.frame_id) if self.session.frame_id in ids else None
        # the bars may still be those of before a frame was kept aside
        numbers = frame_set.numbers if frame_set and len(frame_set.used) == len(shares) else None
        self.area.show_values([None if s is None else 100 * s for s in shares], chosen, numbers)
        self.gain.show_values(self.seams.gains_ev if self.seams else [], chosen, numbers)
        said = [evened_words(self.seams.evened), bent_words(self.seams.bent)] if self.seams else []
        self.even_words.setText(" ".join(w for w in said if w))
        self.even_words.setVisible(bool(self.even_words.text()))

    def _pick(self, n: int) -> None:
        used = self.session.frame_set.used if self.session.frame_set else ()
        if n < len(used):
            self.session.select_frame(used[n].id)

    def _paint_seams(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        if self.flat.on.isChecked():
            return
        self.own.paint_over(painter, rect)
        if self.seams is not None and self.show_seams.isChecked():
            painter.drawImage(rect, self.seams.image)


def seam_picture(engine, project, set_id: str, job: Job) -> SeamPicture:
    """Seams drawn as bright lines with a dark rim, and each frame's share and light."""
    stages = engine.stages(project, set_id)
    canvas = stages.canvas(job)
    owner, covers = stages.owner_map(min(1.0, SEAM_SIDE / max(canvas.width, canvas.height)), job)
    edge = np.zeros(owner.shape, np.uint8)
    edge[:, 1:] |= (owner[:, 1:] != owner[:, :-1]) & covers[:, 1:] & covers[:, :-1]
    edge[1:] |= (owner[1:] != owner[:-1]) & covers[1:] & covers[:-1]
    rim = cv2.dilate(edge, np.ones((5, 5), np.uint8))
    line = cv2.dilate(edge, np.ones((2, 2), np.uint8))
    rgba = np.zeros((*owner.shape, 4), np.uint8)
    rgba[rim > 0] = (0, 0, 0, 120)
    bright = theme.colour("gorse")
    rgba[line > 0] = (bright.red(), bright.green(), bright.blue(), 255)
    h, w = owner.shape
    image = QImage(rgba.data, w, h, 4 * w, QImage.Format.Format_RGBA8888).copy()
    placed = stages.registration(job).placed
    total = max(1, int(covers.sum()))
    lights = stages.lights(job)
    ev = [float(np.log2(f.gain[1])) for f in lights]
    least = min(ev)
    count = len(stages.set.used)
    shares: list[float | None] = [None] * count
    gains: list[float | None] = [None] * count
    for k, n in enumerate(placed):
        shares[n] = float(((owner == k) & covers).sum()) / total
        gains[n] = ev[k] - least
    evened = stages.evened(job) if stages.set.joining.even_parallax else None
    joining = stages.set.joining
    bent = stages.seam_bends(job) if joining.bend_seams or joining.bent else None
    return SeamPicture(image, shares, gains, evened, bent)


def bent_words(bent: SeamBends | None) -> str:
    """What bending along seams did, in figures."""
    if bent is None:
        return ""
    if not bent.bends:
        return "Along the seams there is nothing to bend."
    return f"Along seams {bent.before_px:.2f} px apart, now {bent.after_px:.2f} px."


def evened_words(evened: Evened | None) -> str:
    """What evening out parallax did, in figures."""
    if evened is None:
        return ""
    if not evened.bends:
        return "Nothing to even out: bending the frames would not bring them closer."
    return f"Shared points lay {evened.before_px:.2f} px apart, now {evened.after_px:.2f} px (by points kept aside)."
