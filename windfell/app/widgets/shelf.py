"""The shelf: what moves as small pictures, a row for each track, a column for each frame."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from windfell.app import theme
from windfell.app.screen import draw_picture
from windfell.app.widgets.kept import KeptPainting

TILE, GAP, HEAD, SIDE = 66, 6, 18, 54
NEUTRAL = "#a3a3a0"  # light and dark things are told from it in both themes


@dataclass(frozen=True)
class Tile:
    """A piece on the shelf: its index, its frame's number and its track (from 0), whether it is taken, whether a
    taken one stands in its place, and words for it.
    """

    piece: int
    frame: int
    track: int
    taken: bool
    blocked: bool
    words: str


class ShelfView(QWidget):
    """A press takes or leaves a piece; the one under the pointer, or with the keys, is shown on the picture."""

    pressed = Signal(int)
    pointed = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.tiles: tuple[Tile, ...] = ()
        self.pictures: dict[int, QImage] = {}
        self.in_hand: int | None = None
        self._columns: list[int] = []
        self._rows: list[int] = []
        self._kept = KeptPainting(self)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Shelf of movers")
        self.setToolTip("What moves, by track and frame: a press takes or leaves it, arrows and Space as well")

    def show_tiles(self, tiles: tuple[Tile, ...], pictures: dict[int, QImage]) -> None:
        self.tiles, self.pictures = tiles, pictures
        self._columns = sorted({t.frame for t in tiles})
        self._rows = sorted({t.track for t in tiles})
        if self.in_hand not in {t.piece for t in tiles}:
            self.in_hand = None
        size = self.sizeHint()
        self.setFixedHeight(size.height())
        self.setMinimumWidth(size.width())
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(SIDE + len(self._columns) * (TILE + GAP), HEAD + max(1, len(self._rows)) * (TILE + GAP))

    def rect_of(self, tile: Tile) -> QRectF:
        column, row = self._columns.index(tile.frame), self._rows.index(tile.track)
        return QRectF(SIDE + column * (TILE + GAP), HEAD + row * (TILE + GAP), TILE, TILE)

    def tile_at(self, at: QPointF) -> Tile | None:
        return next((t for t in self.tiles if self.rect_of(t).contains(at)), None)

    def hold(self, piece: int | None) -> None:
        """Show a piece on the picture."""
        if piece != self.in_hand:
            self.in_hand = piece
            self.pointed.emit(piece)
            self.update()

    def mousePressEvent(self, event) -> None:
        tile = self.tile_at(event.position())
        if tile is not None and event.button() == Qt.MouseButton.LeftButton:
            self.hold(tile.piece)
            self.pressed.emit(tile.piece)

    def mouseMoveEvent(self, event) -> None:
        tile = self.tile_at(event.position())
        if tile is not None:
            self.hold(tile.piece)
            QToolTip.showText(event.globalPosition().toPoint(), tile.words, self)

    def keyPressEvent(self, event) -> None:
        order = sorted(self.tiles, key=lambda t: (t.track, t.frame))
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if not order or event.key() not in (*steps, Qt.Key.Key_Space, Qt.Key.Key_Return):
            super().keyPressEvent(event)
            return
        at = next((n for n, t in enumerate(order) if t.piece == self.in_hand), None)
        if event.key() in steps:
            self.hold(order[0 if at is None else (at + steps[event.key()]) % len(order)].piece)
        elif at is not None:
            self.pressed.emit(order[at].piece)

    def paintEvent(self, event) -> None:
        self._kept.show((self.tiles, self.in_hand, tuple(self.pictures)), self._paint)

    def _paint(self, p: QPainter) -> None:
        p.setFont(theme.words_font(9))
        p.setPen(theme.colour("quiet"))
        for n, frame in enumerate(self._columns):
            p.drawText(QRectF(SIDE + n * (TILE + GAP), 0, TILE, HEAD), Qt.AlignmentFlag.AlignCenter, str(frame))
        for n, track in enumerate(self._rows):
            room = QRectF(0, HEAD + n * (TILE + GAP), SIDE - 6, TILE)
            p.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, f"track {track + 1}")
        for tile in self.tiles:
            self._paint_tile(p, tile)

    def _paint_tile(self, p: QPainter, tile: Tile) -> None:
        room = self.rect_of(tile)
        p.setPen(QPen(theme.colour("gorse" if tile.taken else "line"), 2.4 if tile.taken else 1.0))
        p.setBrush(QColor(NEUTRAL))
        p.drawRoundedRect(room.adjusted(1, 1, -1, -1), 5, 5)
        image = self.pictures.get(tile.piece)
        if image is not None:
            p.setOpacity(1.0 if tile.taken else 0.75)
            k = min((TILE - 12) / image.width(), (TILE - 12) / image.height())
            w, h = image.width() * k, image.height() * k
            draw_picture(p, QRectF(room.center().x() - w / 2, room.center().y() - h / 2, w, h), image)
            p.setOpacity(1.0)
        if tile.piece == self.in_hand:
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(theme.colour("ink"), 1.4, Qt.PenStyle.DotLine))
            p.drawRoundedRect(room.adjusted(4, 4, -4, -4), 3, 3)
        if tile.taken:
            self._paint_tick(p, room.topRight() + QPointF(-12, 12))
        if tile.blocked:
            self._paint_sign(p, room.topLeft() + QPointF(11, 12))

    @staticmethod
    def _paint_tick(p: QPainter, at: QPointF) -> None:
        p.setPen(QPen(theme.colour("ink"), 1))
        p.setBrush(theme.colour("gorse"))
        p.drawEllipse(at, 7, 7)
        p.setPen(QPen(theme.colour("ink"), 1.8))
        p.drawPolyline(QPolygonF([at + QPointF(-3.4, 0.2), at + QPointF(-0.8, 3), at + QPointF(3.6, -3)]))

    @staticmethod
    def _paint_sign(p: QPainter, at: QPointF) -> None:
        """Another piece stands in its place."""
        p.setPen(QPen(theme.colour("heather"), 1.6))
        p.setBrush(theme.colour("sheet"))
        p.drawPolygon(QPolygonF([at + QPointF(0, -7), at + QPointF(7, 6), at + QPointF(-7, 6)]))
        p.drawLine(at + QPointF(0, -2), at + QPointF(0, 2))
