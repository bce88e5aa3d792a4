"""The overlap map: frames where they lie, links by error or parallax by strokes, what could not be placed aside."""

from __future__ import annotations

from time import perf_counter

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from windfell.align.registration import PairFit, PanoramaRegistration, Placed
from windfell.app import theme
from windfell.app.registrations import Registrations
from windfell.app.screen import SCREEN
from windfell.app.session import Session
from windfell.app.stations.map_frames import TURN, is_around, middle_of, outlines, picture_on_map
from windfell.app.stations.parallax_map import GOOD_PX, POOR_PX, Strokes, legend_words, paint_strokes, strokes_of
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.kept import KeptPainting

# of one painting, for bending frames' pictures
BENDING_S = 0.025


def link_form(rms_px: float) -> tuple[str, Qt.PenStyle, str]:
    """Colour name, line style and word of a link's error."""
    if rms_px <= GOOD_PX:
        return "moss", Qt.PenStyle.SolidLine, "good"
    if rms_px <= POOR_PX:
        return "gorse", Qt.PenStyle.DashLine, "fair"
    return "rowan", Qt.PenStyle.DotLine, "poor"


class OverlapMap(QWidget):
    """Outlines of all placed frames on the unrolled sphere. Hover shows a pair, a click a frame."""

    picked = Signal(str)

    def __init__(self, session: Session, found: Registrations, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._session, self._found, self._thumbnails = session, found, thumbnails
        self.setMouseTracking(True)
        self.setAccessibleName("Overlap map")
        self._hover: tuple[int, int] | None = None
        self._middles: dict[int, QPointF] = {}
        self._outlines: dict[int, QPolygonF] = {}
        self._scale, self._offset = 1.0, np.zeros(2)
        self._shapes: dict[int, np.ndarray] = {}
        self._pictures: dict[int, tuple[int, QImage, np.ndarray]] = {}
        self._bend_until = 0.0
        self.strokes: Strokes | None = None
        self._kept_strokes = KeptPainting(self)
        self._parallax = False
        found.arrived.connect(self._lay_out)
        thumbnails.arrived.connect(self.update)

    def resizeEvent(self, event) -> None:
        self._lay_out()

    def show_parallax(self, on: bool) -> None:
        """Strokes for parallax instead of lines for links."""
        self._parallax = on
        self._lay_out()

    def _registration(self) -> PanoramaRegistration | None:
        found = self._found.found
        return found if isinstance(found, PanoramaRegistration) else None

    def _lay_out(self) -> None:
        """Where each frame's outline and middle fall in the widget."""
        self._outlines, self._middles = {}, {}
        found = self._registration()
        shapes = {} if found is None else outlines({n: found.frames[n] for n in found.placed})
        if shapes:
            every = np.concatenate(list(shapes.values()))
            low, high = every.min(axis=0), every.max(axis=0)
            room = QRectF(self.rect()).adjusted(40, 34, -40, -60)
            k = min(room.width() / max(high[0] - low[0], 1e-6), room.height() / max(high[1] - low[1], 1e-6))
            offset = np.array([room.center().x(), room.center().y()]) - k * (low + high) / 2
            self._scale, self._offset, self._shapes, self._pictures = float(k), offset, shapes, {}
            for n, shape in shapes.items():
                self._outlines[n] = QPolygonF([QPointF(*p) for p in shape * k + offset])
                self._middles[n] = QPointF(*(middle_of(found.frames[n], shape) * k + offset))
        depth = self._found.depth
        self.strokes = strokes_of(found, depth.links) if found and depth and self._parallax else None
        self.update()

    def mouseMoveEvent(self, event) -> None:
        before, self._hover = self._hover, self._nearest_link(event.position())
        if before != self._hover:
            self.update()

    def leaveEvent(self, event) -> None:
        self._hover = None
        self.update()

    def mousePressEvent(self, event) -> None:
        for n, middle in self._middles.items():
            offset = middle - event.position()
            used = self._session.frame_set.used
            if offset.x() ** 2 + offset.y() ** 2 < 24**2 and n < len(used):
                self.picked.emit(used[n].id)
                return

    def _nearest_link(self, at: QPointF) -> tuple[int, int] | None:
        found = self._registration()
        best, distance = None, 9.0
        for link in found.links if found and not self._parallax else ():
            d = min((_to_segment(at, a, b) for a, b in self._way(link)), default=distance)
            if d < distance:
                best, distance = (link.a, link.b), d
        return best

    def _way(self, link: PairFit) -> list[tuple[QPointF, QPointF]]:
        """The lines of a link from middle to middle; around the back where that is shorter, half from either side."""
        a, b = self._middles.get(link.a), self._middles.get(link.b)
        if a is None or b is None:
            return []
        turn = TURN * self._scale
        to_a_pole = any(is_around(self._shapes[n]) for n in (link.a, link.b))
        if self._found.found.flat or to_a_pole or abs(b.x() - a.x()) < turn / 2:
            return [(a, b)]
        around = QPointF(turn if b.x() < a.x() else -turn, 0)
        return [(a, (a + b + around) / 2), (b, (a + b - around) / 2)]

    def paintEvent(self, event) -> None:
        p = self._painter()
        p.fillRect(self.rect(), theme.colour("surround"))
        found = self._registration()
        if found is None or self._found.frame_set is None:
            self._paint_words(p)
            return
        frames = self._found.frame_set.used
        self._bend_until = perf_counter() + BENDING_S
        for n, outline in self._outlines.items():
            self._paint_frame(p, n, outline, frames[n])
        if self.strokes is not None:
            p.end()
            self._kept_strokes.show(
                (self.strokes, self._scale, *self._offset.tolist()),
                lambda q: paint_strokes(q, self.strokes, self._scale, self._offset))
            p = self._painter()
        for link in () if self._parallax else found.links:
            self._paint_link(p, link)
        numbers = self._found.frame_set.numbers
        for n, middle in self._middles.items():
            self._paint_number(p, numbers[n], middle, frames[n].id == self._session.frame_id)
        self._paint_legend(p, found, len(frames))

    def _painter(self) -> QPainter:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        return p

    def _paint_words(self, p: QPainter) -> None:
        words = self._found.error or ("Looking for what the frames share…" if self._found.waiting else
                                      "Two or more overlapping frames are needed.")
        p.setFont(theme.words_font(12))
        box = QRectF(self.rect()).adjusted(100, 30, -100, -30)
        flags = int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap)
        text = p.boundingRect(box, flags, words).adjusted(-20, -12, 20, 12)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("sheet"))
        p.drawRoundedRect(text, 8, 8)
        p.setPen(theme.colour("rowan" if self._found.error else "ink"))
        p.drawText(box, flags, words)

    def _paint_frame(self, p: QPainter, n: int, outline: QPolygonF, frame) -> None:
        found = self._thumbnails.of(frame)
        chosen = frame.id == self._session.frame_id
        if found is not None and found.image is not None:
            bent = self._bent(n, found.image)
            p.setOpacity(0.92 if chosen else 0.62)
            if bent is not None:
                p.drawImage(QPointF(*bent[1]), SCREEN.shown(bent[0]))
            p.setOpacity(1.0)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(theme.colour("gorse" if chosen else "sheet", 255 if chosen else 190), 2.4 if chosen else 1.2))
        p.drawPolygon(outline)

    def _bent(self, n: int, image: QImage) -> tuple[QImage, np.ndarray] | None:
        """A frame's thumbnail as it lies on the map, and its corner; kept until the map is laid out anew. What it
        was, or None, if the time for that is used up: the next painting goes on.
        """
        known = self._pictures.get(n)
        if known is None or known[0] != image.cacheKey():
            if perf_counter() > self._bend_until:
                QTimer.singleShot(0, self.update)
                return known and known[1:]
            sharper = self.devicePixelRatioF()
            frame = self._registration().frames[n]
            picture, corner = picture_on_map(
                frame, image, self._shapes[n], self._scale * sharper, self._offset * sharper)
            picture.setDevicePixelRatio(sharper)
            known = self._pictures[n] = image.cacheKey(), picture, corner / sharper
        return known[1:]

    def _paint_link(self, p: QPainter, link: PairFit) -> None:
        name, style, word = link_form(link.rms_px)
        hover = self._hover == (link.a, link.b)
        width = 1.5 + min(3.0, len(link.points_a) / 100)
        lines = self._way(link)
        for colour, wide, form in ((theme.colour("sheet", 170), width + 3, Qt.PenStyle.SolidLine),
                                   (theme.colour(name), width + (2 if hover else 0), style)):
            p.setPen(QPen(colour, wide, form))
            for a, b in lines:
                p.drawLine(a, b)
        if hover and lines:
            a, b = (self._found.frame_set.numbers[n] for n in (link.a, link.b))
            words = f"{a} and {b}: {len(link.points_a)} points, {link.rms_px:.2f} px ({word})"
            self._paint_tag(p, (lines[0][0] + lines[0][1]) / 2 - QPointF(0, 26), words)

    def _paint_tag(self, p: QPainter, at: QPointF, words: str) -> None:
        p.setFont(theme.numbers_font(8.6))
        w = p.fontMetrics().horizontalAdvance(words) + 18
        box = QRectF(at.x() - w / 2, at.y() - 11, w, 22)
        box.moveLeft(max(4.0, min(box.left(), self.width() - w - 4)))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("sheet", 240))
        p.drawRoundedRect(box, 5, 5)
        p.setPen(theme.colour("ink"))
        p.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _paint_number(self, p: QPainter, number: int, at: QPointF, chosen: bool) -> None:
        p.setPen(QPen(theme.colour("gorse" if chosen else "ink"), 2))
        p.setBrush(theme.colour("sheet"))
        p.drawEllipse(at, 12, 12)
        p.setFont(theme.numbers_font(8.4))
        p.setPen(theme.colour("ink"))
        p.drawText(QRectF(at.x() - 12, at.y() - 12, 24, 24), Qt.AlignmentFlag.AlignCenter, str(number))

    def _paint_legend(self, p: QPainter, found: PanoramaRegistration, count: int) -> None:
        if self.strokes is not None:
            words = legend_words(self._found.depth.rating_px, self.strokes)
            self._paint_tag(p, QPointF(self.width() / 2, self.height() - 22), words)
            return
        numbers = self._found.frame_set.numbers
        aside = [str(number) for number, f in zip(numbers, found.frames, strict=True) if not isinstance(f, Placed)]
        words = f"{len(found.placed)} of {count} frames placed, {found.rms_px:.2f} px over all points"
        if aside:
            words += f"   ·   set aside: {', '.join(aside)}"
        self._paint_tag(p, QPointF(self.width() / 2, self.height() - 22), words)


def _to_segment(at: QPointF, a: QPointF, b: QPointF) -> float:
    d = np.array([b.x() - a.x(), b.y() - a.y()])
    v = np.array([at.x() - a.x(), at.y() - a.y()])
    t = float(np.clip(v @ d / max(d @ d, 1e-9), 0.12, 0.88))
    return float(np.linalg.norm(v - t * d))
