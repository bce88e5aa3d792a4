"""The picture view: wheel zooms at the pointer, drag pans, tiles sharpen what is looked at."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QInputDevice, QPainter, QPen
from PySide6.QtWidgets import QWidget

from windfell.app import theme
from windfell.app.picture.net_tool import NetTool
from windfell.app.picture.source import PictureSource
from windfell.app.picture.tool import Tool
from windfell.app.picture.view_painting import ViewPainting

MOST_ZOOM = 8.0
BLINK_MS, PAN_SHARE = 450, 0.15
LEAST_LINE = 16
COMPARES = ("off", "divide", "blink", "ghost", "difference")


class PictureView(ViewPainting, QWidget):
    """Shows a source's picture; `before` is the other picture that compare modes use. `pointer`: the share of the
    picture that is pointed at.
    """

    pointed = Signal(str)
    zoomed = Signal(float)
    turned = Signal(float, float, bool)
    looked = Signal()
    lined = Signal(QPointF, QPointF)
    handed = Signal()

    def __init__(self, source: PictureSource, before: PictureSource) -> None:
        super().__init__()
        self.source, self.before = source, before
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture")
        self.compare, self.held = "off", False
        self.divide = 0.5
        self.turning = False
        self.lining = False
        self._line: tuple[QPointF, QPointF] | None = None
        self.overlay = None
        self.in_hand: Tool | None = None
        self.surround: str | None = None
        self.teach = ""
        self.tags = ("before", "now")
        self._zoom: float | None = None
        self._middle = QPointF(0.5, 0.5)
        self._drag: tuple | None = None
        self.pointer: QPointF | None = None
        self._blink_on, self._by_keys = False, False
        self._blink = QTimer(self, interval=BLINK_MS)
        self._blink.timeout.connect(self._flip)
        for one in (source, before):
            one.arrived.connect(self.update)
            one.tile_arrived.connect(self.update)

    def minimumSizeHint(self) -> QSize:
        return QSize(200, 160)

    @property
    def fit_zoom(self) -> float:
        shown = self.source.shown
        if shown is None:
            return 1.0
        room = self.rect().adjusted(24, 24, -24, -24)
        return min(room.width() / shown.width, room.height() / shown.height)

    @property
    def zoom(self) -> float:
        """Screen pixels for one pixel of the full-size picture."""
        return self.fit_zoom if self._zoom is None else self._zoom

    def picture_rect(self) -> QRectF:
        """Where the whole picture lies in the view."""
        shown = self.source.shown
        if shown is None:
            return QRectF()
        w, h = shown.width * self.zoom, shown.height * self.zoom
        middle = QPointF(0.5, 0.5) if self._zoom is None else self._middle
        return QRectF(
            self.width() / 2 - middle.x() * w, self.height() / 2 - middle.y() * h, w, h
        )

    def fit(self) -> None:
        """The whole picture."""
        self._zoom = None
        self._seen()

    def one_to_one(self) -> None:
        """One screen pixel for one picture pixel."""
        self._zoom_to(1.0 / self.devicePixelRatioF(), QPointF(self.width() / 2, self.height() / 2))

    def step_zoom(self, factor: float) -> None:
        self._zoom_to(self.zoom * factor, QPointF(self.width() / 2, self.height() / 2))

    def toggle_fit(self) -> None:
        """From all to 1:1 and back."""
        self.one_to_one() if self._zoom is None else self.fit()

    def look_at(self, x: float, y: float, zoom: float) -> None:
        """Centre on a place, given as fractions of the picture."""
        self._middle, self._zoom = QPointF(x, y), zoom
        self._seen()

    def set_compare(self, mode: str) -> None:
        self.compare = mode
        self._blink.start() if mode == "blink" else self._blink.stop()
        self._blink_on = False
        self.looked.emit()
        self.update()

    def hold_before(self, on: bool) -> None:
        self.held = on
        self.looked.emit()
        self.update()

    @property
    def wants_before(self) -> bool:
        return self.held or self.compare != "off"

    def _flip(self) -> None:
        self._blink_on = not self._blink_on
        self.update()

    def _seen(self) -> None:
        self.zoomed.emit(self.zoom)
        self.update()

    def _zoom_to(self, zoom: float, at: QPointF) -> None:
        rect = self.picture_rect()
        if rect.isEmpty():
            return
        zoom = float(np.clip(zoom, min(self.fit_zoom, 1.0) * 0.5, MOST_ZOOM))
        fx, fy = (at.x() - rect.x()) / rect.width(), (at.y() - rect.y()) / rect.height()
        w, h = self.source.shown.width * zoom, self.source.shown.height * zoom
        self._zoom = zoom
        self._middle = QPointF(
            fx + (self.width() / 2 - at.x()) / w, fy + (self.height() / 2 - at.y()) / h
        )
        self._keep_in_view()
        self._seen()

    def _keep_in_view(self) -> None:
        self._middle = QPointF(
            float(np.clip(self._middle.x(), 0, 1)), float(np.clip(self._middle.y(), 0, 1))
        )

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._make_room()

    def _make_room(self) -> None:
        for source in (self.source, self.before):
            source.room = round(max(self.width(), self.height()) * self.devicePixelRatioF())

    def wheelEvent(self, event) -> None:
        steps = event.angleDelta().y() / 120
        if self.in_hand is not None and self.in_hand.wheel(steps):
            self.update()
            return
        fingers = event.device().type() == QInputDevice.DeviceType.TouchPad
        if fingers and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            moved = event.pixelDelta() if not event.pixelDelta().isNull() else event.angleDelta() / 2
            self.pan(moved.x(), moved.y())
        else:
            self._zoom_to(self.zoom * 1.25**steps, event.position())

    def event(self, event) -> bool:
        """Two fingers that part on a touch pad zoom where they are; a screen of another scale has room for more."""
        if event.type() == QEvent.Type.DevicePixelRatioChange:
            self._make_room()
        if event.type() == QEvent.Type.NativeGesture and (
                event.gestureType() == Qt.NativeGestureType.ZoomNativeGesture):
            self._zoom_to(self.zoom * (1 + event.value()), event.position())
            return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        ways = {Qt.Key.Key_Left: (1, 0), Qt.Key.Key_Right: (-1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        if event.key() in ways and self.source.shown is not None:
            x, y = ways[event.key()]
            self.pan(x * PAN_SHARE * self.width(), y * PAN_SHARE * self.height())
        else:
            super().keyPressEvent(event)

    def pan(self, right: float, down: float) -> None:
        """Move the picture by px of the view."""
        rect = self.picture_rect()
        if rect.isEmpty():
            return
        if self._zoom is None:
            self._zoom = self.zoom
        self._middle -= QPointF(right / rect.width(), down / rect.height())
        self._keep_in_view()
        self._seen()

    def focusInEvent(self, event) -> None:
        self._by_keys = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event) -> None:
        self._by_keys = False
        super().focusOutEvent(event)
        self.update()

    def _share(self, at: QPointF) -> QPointF:
        """A place of the view as a share of the picture."""
        rect = self.picture_rect()
        return QPointF((at.x() - rect.x()) / rect.width(), (at.y() - rect.y()) / rect.height())

    def take_tool(self, tool: Tool | None) -> None:
        """What the left button does on the picture; None: what the view does by itself."""
        self.in_hand = tool
        self.handed.emit()
        self.update()

    def tabletEvent(self, event) -> None:
        """A pen's pressure is the tool's; what it does else, the mouse events that follow say."""
        if self.in_hand is not None:
            lifted = event.type() == QEvent.Type.TabletRelease
            self.in_hand.pressure = None if lifted else float(event.pressure())
        event.ignore()

    def mousePressEvent(self, event) -> None:
        rect = self.picture_rect()
        if self.in_hand is not None and event.button() == Qt.MouseButton.LeftButton and not rect.isEmpty() and (
                self.in_hand.press(self._share(event.position()), rect)):
            self._drag = ("tool", event.position(), QPointF(self._middle))
            self.update()
            return
        if event.button() in (Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton):
            turns = self.turning and event.button() == Qt.MouseButton.LeftButton
            near_divide = self.compare == "divide" and self._over_divide(event.position())
            lines = self.lining and event.button() == Qt.MouseButton.LeftButton
            way = "divide" if near_divide else "line" if lines else "turn" if turns else "pan"
            self._drag = (way, event.position(), QPointF(self._middle))

    def mouseMoveEvent(self, event) -> None:
        self._point(event.position())
        if self._drag is None:
            if self.in_hand is not None and not self.picture_rect().isEmpty():
                self.setCursor(self.in_hand.over(self._share(event.position()), self.picture_rect()))
                if self.in_hand.hovers:
                    self.update()
                return
            over = self.compare == "divide" and self._over_divide(event.position())
            shape = Qt.CursorShape.SplitHCursor if over else Qt.CursorShape.CrossCursor if self.lining else (
                Qt.CursorShape.SizeAllCursor if self.turning else Qt.CursorShape.ArrowCursor)
            self.setCursor(shape)
            return
        way, start, middle = self._drag
        moved = event.position() - start
        rect = self.picture_rect()
        if rect.isEmpty():
            return
        if way == "tool":
            if self.in_hand is not None:
                self.in_hand.move(self._share(event.position()), rect)
            self.update()
        elif way == "divide":
            self.divide = float(np.clip((event.position().x() - rect.x()) / rect.width(), 0, 1))
            self.update()
        elif way == "turn":
            self.turned.emit(moved.x() / self.zoom, moved.y() / self.zoom, False)
        elif way == "line":
            self._line = start, event.position()
            self.update()
        else:
            if self._zoom is None:
                self._zoom = self.zoom
            self._middle = middle - QPointF(moved.x() / rect.width(), moved.y() / rect.height())
            self._keep_in_view()
            self._seen()

    def mouseReleaseEvent(self, event) -> None:
        if self._drag and self._drag[0] == "tool" and self.in_hand is not None:
            self._drag = None
            self.in_hand.release(self._share(event.position()), self.picture_rect())
            self.update()
            return
        if self._drag and self._drag[0] == "turn":
            moved = event.position() - self._drag[1]
            self.turned.emit(moved.x() / self.zoom, moved.y() / self.zoom, True)
        if self._line is not None:
            r, (start, end) = self.picture_rect(), self._line
            ends = [QPointF((p.x() - r.x()) / r.width(), (p.y() - r.y()) / r.height()) for p in (start, end)]
            self._line = None
            self.update()
            if (end - start).manhattanLength() > LEAST_LINE:
                self.lined.emit(*ends)
        self._drag = None

    def mouseDoubleClickEvent(self, event) -> None:
        tool, at = self.in_hand, self._share(event.position()) if self.source.shown else QPointF()
        if isinstance(tool, NetTool) and tool.twice(at, self.picture_rect()):
            return
        if self._zoom is None:
            self._zoom_to(1.0 / self.devicePixelRatioF(), event.position())
        else:
            self.fit()

    def _over_divide(self, at: QPointF) -> bool:
        rect = self.picture_rect()
        return abs(at.x() - (rect.x() + self.divide * rect.width())) < 8

    def _point(self, at: QPointF) -> None:
        rect, shown = self.picture_rect(), self.source.shown
        self.pointer = None
        if shown is None or not rect.contains(at):
            self.pointed.emit("")
            return
        self.pointer = self._share(at)
        fx, fy = (at.x() - rect.x()) / rect.width(), (at.y() - rect.y()) / rect.height()
        pixel = shown.image.pixelColor(
            min(int(fx * shown.image.width()), shown.image.width() - 1),
            min(int(fy * shown.image.height()), shown.image.height() - 1),
        )
        words = f"x {int(fx * shown.width)}  y {int(fy * shown.height)}"
        if pixel.alpha():
            words += f"   R {pixel.red()}  G {pixel.green()}  B {pixel.blue()}"
        self.pointed.emit(words)

    def leaveEvent(self, event) -> None:
        self.pointer = None
        self.pointed.emit("")

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        self.paint_all(painter)
        if self._by_keys:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.colour("tarn"), 2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
