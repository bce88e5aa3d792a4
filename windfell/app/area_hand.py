"""The hand that draws areas, at every station: stations only say which area is in hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QColor, QImage

from windfell.app.picture.area_tool import AreaTool, Drawn
from windfell.app.picture.images import image_of
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.widgets.area_bar import AreaBar
from windfell.areas.mending import Blemishes, blemishes, mended
from windfell.engine.area_pictures import SetSheet, Sheet, points_of_px
from windfell.engine.core import Engine
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, lightness, srgb_decoded
from windfell.recipe.areas import Area, Ellipse, Gradient, Grown, Meets, Part, Patch, Range, Read, Stroke
from windfell.recipe.edits import Edit
from windfell.recipe.model import Project

VEIL_SIDE = 1100
VEIL_ALPHA = 0.55
SMALL_SHARE = 5e-4
OUTLINE_POINTS = 120
BRIGHT_HALF, HUE_HALF = 12.0, 18.0


@dataclass(frozen=True)
class AreaTarget:
    """Which area is in hand: `name` of what, where the project holds it (None: it is gone), and how one is put there.

    `frame` (id): the one whose light the area reads, if it belongs to one. `on`: the picture that is drawn on, if it
    is not that of the set.
    """

    set_id: str
    name: str
    read: Callable[[Project], Area | None]
    write: Callable[[Project, Area], Project]
    frame: str | None = None
    on: Callable[[Engine, Project, Job], Sheet] | None = None

    def sheet(self, engine: Engine, project: Project, job: Job) -> Sheet:
        if self.on is not None:
            return self.on(engine, project, job)
        return SetSheet(engine.stages(project, self.set_id), self.frame)


class AreaHand(QObject):
    """`taken` when an area was taken in hand or put away. `picture_of` gives the project whose picture is shown.
    Hands of several views may share a bar; `name` tells their requests apart.
    """

    taken = Signal()

    def __init__(self, session: Session, view: PictureView, bar: AreaBar, name: str = "") -> None:
        super().__init__()
        self._name = name
        self.session, self.view, self.bar = session, view, bar
        self.tool = AreaTool()
        self.target: AreaTarget | None = None
        self.picture_of: Callable[[Project], Project] = lambda project: project
        self.blemishes: Blemishes | None = None
        self.mask: np.ndarray | None = None
        self._strength = 100.0
        self._shown: tuple | None = None
        self._width = 0.0
        self._drawn: list[tuple[AreaTarget, Drawn]] = []
        self._placing = False
        bar.hide()
        bar.kind_picked.connect(self._set_kind)
        bar.meets_picked.connect(lambda v: setattr(self.tool, "takes", v == "take"))
        bar.brush_changed.connect(self._set_brush)
        bar.changed.connect(self._set_length)
        bar.inverted.connect(lambda on: self._change("invert", inverted=on))
        bar.alone.connect(self._set_alone)
        bar.veil_picked.connect(self._set_colour)
        bar.mend_asked.connect(self._mend)
        bar.cleared.connect(lambda: self._put(Area(), "clear"))
        bar.done.connect(self.put_away)
        self.tool.made.connect(self._made)
        self.tool.resized.connect(bar.brush.set_value)
        session.changed.connect(self.refresh)
        view.source.arrived.connect(self._ask_veil)
        view.handed.connect(lambda: self.put_away() if view.in_hand is not self.tool else None)

    @property
    def area(self) -> Area | None:
        """The area in hand as the recipe has it."""
        if self.target is None or self.session.set_id != self.target.set_id:
            return None
        return self.target.read(self.session.project)

    def take(self, target: AreaTarget) -> None:
        """Draw on this area from now on."""
        self.target = target
        self.tool.forget()
        self._shown, self.blemishes, self.mask = None, None, None
        self.view.take_tool(self.tool)
        # another hand may have sized the brush meanwhile
        self._set_brush(self.bar.brush.value, self.bar.softness.value, self.bar.strength.value)
        self.bar.name.setText(target.name)
        self.bar.show_kind(self.tool.kind)
        self.bar.show()
        self.refresh()
        self.taken.emit()

    def put_away(self) -> None:
        if self.target is None:
            return
        self.target = None
        self.tool.forget()
        self.bar.hide()
        if self.view.in_hand is self.tool:
            self.view.take_tool(None)
        self.taken.emit()

    def refresh(self) -> None:
        """Show the area as the recipe has it now; put it away where it is gone."""
        if self.target is None:
            return
        area = self.area
        if area is None or self.view.in_hand is not self.tool:
            self.put_away()
            return
        self.bar.invert.setChecked(area.inverted)
        k = 100 / self._width if self._width else 0.0
        self.bar.grow.set_value(area.grow * k)
        self.bar.feather.set_value(area.feather * k)
        self._ask_veil()

    # -- how it is drawn

    def _set_kind(self, kind: str) -> None:
        self.tool.kind = kind
        self.bar.show_kind(kind)
        self.view.update()

    def _set_brush(self, size: float, softness: float, strength: float) -> None:
        self.tool.size, self.tool.softness, self._strength = size, softness, strength
        self.view.update()

    def _set_alone(self, on: bool) -> None:
        self.tool.alone = on
        self._show_mask()

    def _set_colour(self, colour: QColor) -> None:
        self.tool.colour = colour
        self._show_mask()

    # -- edits

    def _put(self, area: Area, words: str, merge: str | None = None, starts: bool = True) -> None:
        target, s = self.target, self.session
        if target is None or area == self.area:
            return
        said = f"{words}: {target.name[0].lower()}{target.name[1:]}"
        s.edit(Edit(said, target.write(s.project, area), merge), starts)

    def _change(self, words: str, **parts) -> None:
        if self.area is not None:
            self._put(replace(self.area, **parts), words)

    def _set_length(self, name: str, percent: float, starts: bool) -> None:
        """Grow or feather, given in % of the picture's width."""
        area = self.area
        if area is not None and self._width:
            length = round(percent / 100 * self._width, 4)
            self._put(replace(area, **{name: length}), name, f"area {name}", starts)

    def _made(self, drawn: Drawn) -> None:
        """What was drawn becomes a part of the area, once it is known where it lies; one after the other."""
        if self.target is not None and self.view.source.shown is not None:
            self._drawn.append((self.target, drawn))
            self._place_next()

    def _place_next(self) -> None:
        s, shown = self.session, self.view.source.shown
        if self._placing or not self._drawn or shown is None:
            return
        target, drawn = self._drawn.pop(0)
        self._placing = True
        engine = s.engine
        project = self.picture_of(s.project)
        share = self.tool.size / max(self.view.picture_rect().width(), 1.0)
        look = self.tool.softness, self._strength
        pixel = self._colour_at(drawn.points[-1])

        def place(job: Job) -> Part | None:
            sheet = target.sheet(engine, project, job)
            points = drawn.points
            if drawn.kind == "outline" and len(points) > OUTLINE_POINTS:
                points = tuple(points[int(k)] for k in np.linspace(0, len(points) - 1, OUTLINE_POINTS))
            spots = sheet.points(points, job)
            if not np.isfinite(np.array(spots)).all():
                return None
            size = sheet.length(drawn.points[0], share, job)
            axes = 0.0, 0.0
            if drawn.kind == "ellipse":
                across, down = np.abs(np.subtract(drawn.points[-1], drawn.points[0])).tolist()
                wide = sheet.length(drawn.points[0], 0.2, job) / 0.2
                axes = 2 * across * wide, 2 * down * shown.height / shown.width * wide
            return _part_of(drawn, spots, size, axes, look, pixel)

        def done(part: Part | None) -> None:
            area = self.area
            if part is None or self.target is not target or area is None:
                self.tool.show_veil(self.tool.veil)
            else:
                self._put(_with_part(area, part), "take away" if part.meets is Meets.TAKE else "paint")
            free()

        def free(*_) -> None:
            self._placing = False
            self._place_next()

        s.desk.ask(f"area part{self._name}", place, done, lambda text: (s.say(text, "wrong"), free()), free,
                   quiet=True, soon=True)

    def _colour_at(self, share: tuple[float, float]) -> tuple[float, float]:
        """(lightness in %, hue in degrees) of the picture shown at a share of it."""
        image = self.view.source.shown.image
        x = min(max(int(share[0] * image.width()), 0), image.width() - 1)
        y = min(max(int(share[1] * image.height()), 0), image.height() - 1)
        rgb = image.pixelColor(x, y)
        light = srgb_decoded(np.array([rgb.redF(), rgb.greenF(), rgb.blueF()])) @ SRGB_TO_WORKING.T
        hsv = cv2.cvtColor(np.sqrt(np.maximum(light, 0)).astype(np.float32)[None, None], cv2.COLOR_RGB2HSV)
        return float(lightness(light.astype(np.float32)[None, None])[0, 0]), float(hsv[0, 0, 0])

    def _mend(self) -> None:
        """Fill small holes, take specks away."""
        target, area, s, found = self.target, self.area, self.session, self.blemishes
        if target is None:
            return
        if area is None or found is None or not (found.holes or found.specks):
            s.say("The area has no small holes and no specks.", "info")
            return
        engine, project, size = s.engine, self.picture_of(s.project), self.mask.shape[::-1]

        def work(job: Job) -> Area:
            sheet = target.sheet(engine, project, job)
            soft = sheet.length((0.5, 0.5), 1.5 / size[0], job)
            return mended(area, found, lambda px: points_of_px(sheet, px, size, job), soft)

        def done(better: Area) -> None:
            if self.target is target and self.area == area:
                self._put(better, f"mend {found.words}")

        s.desk.ask(f"area mending{self._name}", work, done)

    # -- how it is seen

    def _ask_veil(self) -> None:
        """The area on the picture as it is shown, unless that is what is there."""
        area, target, s = self.area, self.target, self.session
        if area is None or target is None or self.view.source.shown is None:
            return
        project = self.picture_of(s.project)
        own = project.set(target.set_id)
        key = area, own.view, own.outline, own.registration, tuple((f.id, f.lens) for f in own.used)
        if key == self._shown:
            return
        self._shown = key
        engine = s.engine

        def make(job: Job) -> tuple[np.ndarray, Blemishes, float]:
            sheet = target.sheet(engine, project, job)
            mask = sheet.picture(area, VEIL_SIDE, job)
            return mask, blemishes(mask, SMALL_SHARE * mask.size), sheet.length((0.5, 0.5), 0.2, job) / 0.2

        def done(found: tuple[np.ndarray, Blemishes, float]) -> None:
            if self.target is target:
                self.mask, self.blemishes, self._width = found
                self._show_mask()
                self.refresh()

        def forget(*_) -> None:
            self._shown = None

        s.desk.ask(f"area veil{self._name}", make, done, forget, forget, quiet=True)

    def _show_mask(self) -> None:
        if self.mask is None or self.target is None:
            return
        few = self.blemishes is not None and (self.blemishes.holes or self.blemishes.specks)
        self.bar.found.setText(self.blemishes.words if few else "")
        self.bar.mend.setEnabled(bool(few))
        self.tool.show_veil(veil_of(self.mask, self.tool.colour, self.tool.alone))
        self.view.update()


def veil_of(mask: np.ndarray, colour: QColor, alone: bool) -> QImage:
    """The mask (h, w), 0..1, as a veil of a colour, or by itself in black and white."""
    if alone:
        grey = (255 * mask + 0.5).astype(np.uint8)
        return image_of(np.dstack([grey, grey, grey, np.full_like(grey, 255)]))
    alpha = VEIL_ALPHA * mask
    rgb = [alpha * v for v in (colour.red(), colour.green(), colour.blue())]
    return image_of(np.dstack([*rgb, 255 * alpha]).astype(np.uint8))


def _part_of(
    drawn: Drawn, spots: tuple, size: float, axes: tuple[float, float], look: tuple[float, float],
    pixel: tuple[float, float],
) -> Part:
    """The part of an area that was drawn through points of the ground."""
    softness, strength = look
    meets = Meets.TAKE if drawn.takes else Meets.ADD
    shape = {"strength_pct": strength, "meets": meets}
    if drawn.kind == "brush":
        return Stroke(spots, round(size, 4), softness, pressure=tuple(round(p, 3) for p in drawn.pressure), **shape)
    if drawn.kind == "outline":
        return Patch(spots, round(size * softness / 100, 4), **shape)
    if drawn.kind == "gradient":
        return Gradient(spots[0], spots[-1], **shape)
    if drawn.kind == "ellipse":
        return Ellipse(spots[0], *(round(max(v, 1e-3), 4) for v in axes), softness_pct=softness, **shape)
    if drawn.kind == "find":
        return Grown((spots,), size=round(max(size / 4, 1e-3), 4), **shape)
    value, half = (pixel[0], BRIGHT_HALF) if drawn.kind == "bright" else (pixel[1], HUE_HALF)
    of = Read.BRIGHTNESS if drawn.kind == "bright" else Read.HUE
    low, high = value - half, value + half
    if of is Read.HUE:
        low, high = low % 360, high % 360
    else:
        low, high = max(0.0, low), min(100.0, high)
    way = Meets.TAKE if drawn.takes else Meets.BOTH
    return Range(of, round(low, 2), round(high, 2), round(2 + softness / 5, 2), strength, way)


def _with_part(area: Area, part: Part) -> Area:
    """The area with a part more: strokes that find something join what was found just before."""
    last = area.parts[-1] if area.parts else None
    if isinstance(part, Range) and last is None and part.meets is Meets.BOTH:
        part = replace(part, meets=Meets.ADD)
    if isinstance(part, Grown) and isinstance(last, Grown):
        if part.meets is Meets.TAKE:
            return replace(area, parts=(*area.parts[:-1], replace(last, outside=(*last.outside, *part.inside))))
        return replace(area, parts=(*area.parts[:-1], replace(last, inside=(*last.inside, *part.inside))))
    return replace(area, parts=(*area.parts, part))
