"""Combine's core: the spot under the pointer through all frames, pinned spots beside it, maps of what a rule did."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from windfell.app import theme
from windfell.app.picture.images import image_of
from windfell.app.picture.tool import on_view
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.core_plot import CorePlot
from windfell.engine.stack_core import Core, core_at, rule_map
from windfell.engine.stack_pile import PileStages
from windfell.job import Job
from windfell.recipe.combining import Layer
from windfell.recipe.model import Kind, Project, picture_parts

PINS = 2
FULL_LIGHTNESS = 20.0
HUES = ("#c98a00", "#2e6e8e", "#7b4f8c", "#4f7a3a", "#b23a2e", "#5b8fd6", "#d67ab1", "#8c7a2e", "#3fa39b", "#a0522d")


class CorePage(QWidget):
    """`map_changed`: what is laid over the picture changed; `holds`: another frame, or none, is seen by its point."""

    map_changed = Signal()
    holds = Signal()

    def __init__(self, session: Session, view: PictureView) -> None:
        super().__init__()
        self.session, self._view = session, view
        self.open = False
        self.core: Core | None = None
        self.at: QPointF | None = None
        self.pins: list[tuple[QPointF, Core | None]] = []
        self.held_frame: str | None = None
        self.overlay: QImage | None = None
        self.showing = "off"
        self._stages: tuple[Project, str, PileStages] | None = None
        self._map_of: tuple | None = None
        self.plot = CorePlot()
        self.pinned = [CorePlot() for _ in range(PINS)]
        for plot in (self.plot, *self.pinned):
            plot.picked.connect(self._pick)
            plot.held.connect(self._hold)
        self.axis = Choice("Against", (
            ("frame", "Frame", "In their order"), ("time", "Time", "When they were taken"),
            ("exposure", "Exposure", "The light each gathered")))
        self.axis.set_value("frame")
        self.axis.picked.connect(self._set_axis)
        self.maps = Choice("Map", (
            ("off", "Off", "The picture alone"),
            ("against", "Added, taken", "Where the result is lighter (gorse) or darker (tarn) than the mean of all"),
            ("whose", "Whose", "Which frame each spot is nearest to"),
            ("heard", "Heard", "How much the frame chosen at the left is heard: white wholly, black not at all")))
        self.maps.set_value("off")
        self.maps.picked.connect(self._show_map)
        self.pin, self.unpin = QPushButton("Pin (Y)"), QPushButton("Let go")
        self.pin.setToolTip("Keep the spot under the pointer beside others (Y)")
        self.unpin.setToolTip("Let the pinned spots go")
        self.pin.clicked.connect(self.pin_spot)
        self.unpin.clicked.connect(self.let_go)
        self.words = Station.quiet("Point at the picture: its value in every frame stands here.")
        row = QHBoxLayout()
        row.setSpacing(14)
        for part in (self.axis, self.maps):
            row.addWidget(part)
        row.addStretch(1)
        under = QHBoxLayout()
        under.addWidget(self.words, 1)
        for part in (self.pin, self.unpin):
            under.addWidget(part)
        plots = QHBoxLayout()
        plots.addWidget(self.plot, 2)
        for plot in self.pinned:
            plots.addWidget(plot, 1)
            plot.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        column.addLayout(row)
        column.addLayout(under)
        column.addLayout(plots, 1)
        view.pointed.connect(self._pointed)

    def refresh(self) -> None:
        """The recipe changed: what is pointed at and pinned is looked at anew."""
        own = self.session.frame_set
        if own is None or not self.open:
            return
        chosen = [f.id for f in own.used].index(self.session.frame_id) if self.session.frame_id in {
            f.id for f in own.used} else None
        for plot in (self.plot, *self.pinned):
            plot.chosen = chosen
            plot.update()
        parts = own.id, picture_parts(self.session.project, own.id)
        if self.showing == "heard":
            parts = *parts, self.session.frame_id
        if parts != self._map_of and not self.session.moving:
            self._map_of = parts
            self._ask_map()
            for n, (at, _) in enumerate(self.pins):
                self._ask_pin(n, at)
            if self.at is not None:
                self._ask(self.at)

    # -- the spot

    def _pointed(self, _words: str) -> None:
        if self.open and self._view.pointer is not None and self.held_frame is None:
            self._ask(self._view.pointer)

    def look_at(self, at: QPointF, pin: bool = False) -> None:
        """Look at a share of the picture as if it was pointed at; or pin it."""
        if pin:
            self.at = at
            self.pin_spot()
        else:
            self._ask(at)

    def _stages_now(self) -> PileStages | None:
        """The stages of the recipe as it is, kept from one spot to the next."""
        s = self.session
        if s.frame_set is None or s.frame_set.kind is not Kind.STACK:
            return None
        if self._stages is None or self._stages[0] is not s.project or self._stages[1] != s.set_id:
            self._stages = s.project, s.set_id, s.engine.stages(s.project, s.set_id)
        return self._stages[2]

    def _ask(self, at: QPointF) -> None:
        stages = self._stages_now()
        if stages is None:
            return

        def done(core: Core) -> None:
            self.core, self.at = core, at
            self.plot.show_core(core, self._title(at), self._numbers())
            kept = int(core.kept.sum())
            self.words.setText(f"{kept} of {len(core.frames)} frames have a part in the result. "
                               "Full: kept; open and crossed: not. Hold a point to see its frame.")

        self.session.desk.follow(
            "core", lambda job: core_at(stages, (at.x(), at.y()), job), done, lambda _: None, None, True)

    def _title(self, at: QPointF) -> str:
        shown = self._view.source.shown
        return f"x {int(at.x() * shown.width)}  y {int(at.y() * shown.height)}" if shown else ""

    def _numbers(self) -> tuple[int, ...]:
        return self.session.frame_set.numbers

    def _set_axis(self, axis: str) -> None:
        for plot in (self.plot, *self.pinned):
            plot.show_axis(axis)

    def pin_spot(self) -> None:
        """Keep the spot under the pointer; of more than there is room for the oldest goes."""
        at = self._view.pointer or self.at
        if at is None:
            self.session.say("Point at the picture first.", "info")
            return
        self.pins = [*self.pins, (at, None)][-PINS:]
        for n, (spot, core) in enumerate(self.pins):
            self.pinned[n].show()
            if core is None or self.pinned[n].core is not core:
                self._ask_pin(n, spot)
        self._view.update()

    def let_go(self) -> None:
        self.pins = []
        for plot in self.pinned:
            plot.show_core(None)
            plot.hide()
        self._view.update()

    def _ask_pin(self, n: int, at: QPointF) -> None:
        stages = self._stages_now()
        if stages is None:
            return

        def done(core: Core) -> None:
            if n < len(self.pins) and self.pins[n][0] == at:
                self.pins[n] = at, core
                self.pinned[n].show_core(core, f"{'ab'[n]}   {self._title(at)}", self._numbers())

        self.session.desk.ask(
            f"core pin {n}", lambda job: core_at(stages, (at.x(), at.y()), job), done, lambda _: None, quiet=True)

    # -- frames by their points

    def _id(self, n: int) -> str | None:
        own = self.session.frame_set
        return own.used[n].id if own and 0 <= n < len(own.used) else None

    def _pick(self, n: int) -> None:
        self.session.select_frame(self._id(n))
        at = self.at
        if at is not None and self._view.zoom < 1 and self._view.zoom > self._view.fit_zoom:
            self._view.look_at(at.x(), at.y(), 1.0)

    def _hold(self, n: int) -> None:
        held = self._id(n) if n >= 0 else None
        if held != self.held_frame:
            self.held_frame = held
            self.holds.emit()

    def picture_of(self, project: Project) -> Project:
        """While a point is held, its frame is seen in place of all layers."""
        own = next((s for s in project.sets if s.id == self.session.set_id), None)
        if self.held_frame is None or own is None or self.held_frame not in {f.id for f in own.used}:
            return project
        alone = replace(own.combining, layers=(Layer(frames=(self.held_frame,)),))
        return project.with_set(replace(own, combining=alone))

    # -- maps

    def _show_map(self, what: str) -> None:
        self.showing = what
        self.overlay = None
        self.map_changed.emit()
        self._ask_map()

    def _ask_map(self) -> None:
        stages, what = self._stages_now(), self.showing
        if stages is None or what == "off":
            return

        def done(image: QImage) -> None:
            if self.showing == what:
                self.overlay = image
                self.map_changed.emit()

        frame = self.session.frame_id
        self.session.desk.ask(
            "rule map", lambda job: map_image(stages, what, job, frame), done, lambda _: None, quiet=True)

    def paint_over(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """The map, and the pinned spots."""
        if self.overlay is not None:
            painter.drawImage(rect, self.overlay)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for n, (at, _) in enumerate(self.pins):
            p = on_view(at, rect)
            for name, width in (("ink", 3.0), ("gorse", 1.4)):
                painter.setPen(QPen(theme.colour(name), width))
                painter.drawEllipse(p, 7, 7)
            painter.setPen(theme.colour("sheet"))
            painter.setFont(theme.words_font(10, bold=True))
            painter.drawText(p + QPointF(10, -6), "ab"[n])


def map_image(stages: PileStages, what: str, job: Job, frame: str | None = None) -> QImage:
    """A map as it lies on the picture: gorse where light was added, tarn where it was taken; a colour a frame; or
    how much `frame` is heard, in black and white.
    """
    found = rule_map(stages, what, job, frame)
    h, w = found.shape
    if what == "against":
        strength = np.clip(np.abs(found) / FULL_LIGHTNESS, 0, 1)[..., None]
        colour = np.where(found[..., None] > 0, _rgb(HUES[0]), _rgb(HUES[1]))
        alpha = 0.85 * strength
    elif what == "heard":
        colour, alpha = np.repeat(255 * found[..., None], 3, axis=2), np.ones((h, w, 1))
    else:
        table = np.array([_rgb(HUES[n % len(HUES)]) for n in range(int(found.max()) + 1)])
        colour, alpha = table[found], np.full((h, w, 1), 0.6)
    rgba = np.concatenate([colour * alpha, 255 * alpha], axis=2).astype(np.float32)
    cut = stages.cut(job)
    if not cut.plain:
        size = tuple(max(1, round(v * w / stages.whole_size(job)[0])) for v in cut.size)
        x, y = np.meshgrid(np.arange(size[0]), np.arange(size[1]))
        where = cut.onto_reference(w / stages.whole_size(job)[0])(np.stack([x, y], -1).astype(float))
        rgba = cv2.remap(rgba, where.astype(np.float32), None, cv2.INTER_LINEAR)
    return image_of(rgba.astype(np.uint8))


def _rgb(colour: str) -> np.ndarray:
    return np.array(QColor(colour).getRgb()[:3], np.float32)
