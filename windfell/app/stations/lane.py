"""A lane of the wall of frames: one set, its name, what it is to become, its frames."""

from __future__ import annotations

from PySide6.QtCore import QMimeData, QPoint, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QDrag, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.thumbnails import Thumbnails
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.frame_tile import FrameTile
from windfell.app.widgets.lane_end import LaneEnd
from windfell.recipe import edits
from windfell.recipe.calibrating import field_words
from windfell.recipe.combining import Rule
from windfell.recipe.model import Frame, FrameSet, Kind, nested_in
from windfell.recipe.nesting import inner_rule, inner_stacks, set_inner_rule

CARD_HIGH, DRAGGED_HIGH = 132, 64
FRAMES_MIME = "application/x-windfell-frames"


class Picks:
    """The frames chosen together, by id; the last one touched anchors a range."""

    def __init__(self) -> None:
        self.ids: set[str] = set()
        self.anchor: str | None = None

    def touch(self, frame_id: str, order: list[str], modifiers: Qt.KeyboardModifier) -> None:
        """Choose one, add or take away with Ctrl, a range with Shift."""
        if modifiers & Qt.KeyboardModifier.ShiftModifier and self.anchor in order and frame_id in order:
            a, b = sorted((order.index(self.anchor), order.index(frame_id)))
            self.ids = set(order[a : b + 1])
            return
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            self.ids ^= {frame_id}
        else:
            self.ids = {frame_id}
        self.anchor = frame_id


class FrameCard(FrameTile):
    """A frame in its lane. Click chooses; the mark keeps it aside or takes it back; drag moves it."""

    dragged = Signal(str)

    def __init__(self, number: int, frame: Frame, thumbnails: Thumbnails) -> None:
        super().__init__(number, frame, thumbnails)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.picked_too = False
        self.problem = ""
        self._pressed_at: QPoint | None = None
        self._fit_to_thumbnail()

    def _fit_to_thumbnail(self) -> None:
        found = self.thumbnail
        ratio = 0.75 if found is None else found.width() / found.height()
        self.setFixedSize(QSize(int(max(66, min(230, (CARD_HIGH - 30) * ratio))) + 8, CARD_HIGH))

    def arrived(self) -> None:
        self._fit_to_thumbnail()
        self.update()

    def mark(self, chosen: bool, picked_too: bool, problem: str) -> None:
        if (chosen, picked_too, problem) != (self.chosen, self.picked_too, self.problem):
            self.chosen, self.picked_too, self.problem = chosen, picked_too, problem
            self.setToolTip(problem or self.usual_tip)
            self.update()

    def is_on_mark(self, at: QPointF) -> bool:
        return at.x() > self.width() - 28 and at.y() > self.height() - 26

    def mousePressEvent(self, event) -> None:
        self._pressed_at = event.position().toPoint()
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event) -> None:
        if self._pressed_at is None or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        if (event.position().toPoint() - self._pressed_at).manhattanLength() >= QApplication.startDragDistance():
            self._pressed_at = None
            self.dragged.emit(self.frame.id)

    def mouseDoubleClickEvent(self, event) -> None:
        self.switch()

    @property
    def shown(self) -> tuple:
        return self.picked_too, self.problem

    def paint(self, p: QPainter) -> None:
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        marked = self.chosen or self.picked_too
        edge = "tarn" if self.hasFocus() else "gorse" if marked else "line"
        p.setPen(QPen(theme.colour(edge), 2 if marked or self.hasFocus() else 1))
        p.setBrush(theme.colour("gorse", 40) if self.picked_too else theme.colour("sheet"))
        p.drawRoundedRect(box, 5, 5)
        self.paint_thumbnail(p, box.adjusted(3, 3, -3, -25))
        p.setFont(theme.numbers_font(8))
        p.setPen(theme.colour("rowan" if self.problem else "ink" if self.frame.on else "quiet"))
        words = f"{self.number} ▲" if self.problem else str(self.number) if self.frame.on else f"{self.number} aside"
        p.drawText(QRectF(9, self.height() - 23, 70, 18), Qt.AlignmentFlag.AlignVCenter, words)
        self.paint_mark(p, QRectF(self.width() - 24, self.height() - 22, 15, 15))


class Lane(QFrame):
    """A set: its name, what it is to become, its frames."""

    picked = Signal(str, str, object)
    moved_here = Signal(list, str, object)
    unfolded = Signal(str, bool)

    def __init__(self, session: Session, frame_set: FrameSet, thumbnails: Thumbnails, picks: Picks) -> None:
        super().__init__()
        self._session, self.set_id, self._picks = session, frame_set.id, picks
        self._active = self.outdated = False
        self._made = _made_of(frame_set)
        self.setAcceptDrops(True)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(10, 8, 10, 8)
        outer.addLayout(self._header(frame_set))
        strip = QWidget()
        self._row = QHBoxLayout(strip)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        self.cards: list[FrameCard] = []
        for n, frame in enumerate(frame_set.frames):
            card = FrameCard(n + 1, frame, thumbnails)
            card.picked.connect(self._pick)
            card.switched.connect(self._switch)
            card.dragged.connect(self._drag)
            self._row.addWidget(card, 0, Qt.AlignmentFlag.AlignTop)
            self.cards.append(card)
        self._row.addStretch(1)
        self._strip = strip
        area = QScrollArea()
        area.setWidget(strip)
        area.setWidgetResizable(True)
        area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFixedHeight(CARD_HIGH + 14)
        self.end = LaneEnd(_leads_to(frame_set), CARD_HIGH)
        self.end.pressed.connect(self._go_on)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(area, 1)
        row.addWidget(self.end, 0, Qt.AlignmentFlag.AlignTop)
        outer.addLayout(row)

    def _header(self, frame_set: FrameSet) -> QHBoxLayout:
        header = QHBoxLayout()
        self.name = QLineEdit(frame_set.name)
        self.name.setFixedWidth(180)
        self.name.setAccessibleName("Name of the set")
        self.name.setToolTip("The set's name; files are called by it")
        self.name.editingFinished.connect(self._rename)
        header.addWidget(self.name)
        self._count = QLabel(_count_words(frame_set))
        self._count.setProperty("role", "quiet")
        header.addWidget(self._count)
        self.kind = Choice("", (
            ("panorama", "Panorama", "Frames taken by turning the camera become one wide picture"),
            ("stack", "Stack", "Frames of one view become one picture"),
        ))
        self.kind.set_value(str(frame_set.kind))
        self.kind.picked.connect(self._change_kind)
        header.addWidget(self.kind)
        self._add_inside(header)
        self.accept = QPushButton("Accept")
        self.accept.setToolTip("The set is right as proposed; it stays changeable")
        self.accept.clicked.connect(self._accept)
        if frame_set.proposed:
            proposed = QLabel("◇ proposed")
            proposed.setProperty("role", "quiet")
            header.addWidget(proposed)
            header.addWidget(self.accept)
        header.addStretch(1)
        self.split = QPushButton("Split here")
        self.split.setToolTip("The chosen frame and those after it become a set of their own")
        self.split.clicked.connect(self._split)
        header.addWidget(self.split)
        self.merge = QToolButton(text="Merge with…")
        self.merge.setToolTip("All frames of another set come into this one")
        self.merge.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.merge)
        menu.aboutToShow.connect(lambda: self.fill_merge(menu))
        self.merge.setMenu(menu)
        header.addWidget(self.merge)
        self.remove = QPushButton("Refuse" if frame_set.proposed else "Remove set")
        self.remove.setToolTip("The frames' files stay as they are; this can be undone")
        self.remove.clicked.connect(self._remove)
        header.addWidget(self.remove)
        return header

    def _add_inside(self, header: QHBoxLayout) -> None:
        """Of a set made of sets: whether these are seen, and one rule for all stacks among them."""
        inside = nested_in(self._session.project, self.set_id)
        # of the lane from the start: shown before, they would flash up as windows of their own and take the keys
        self.fold = QToolButton(self, text=f"▸ {len(inside)} inside", checkable=True)
        self.fold.setToolTip("Show the sets that this one is made of")
        self.fold.setVisible(bool(inside))
        self.fold.toggled.connect(
            lambda on: self.fold.setText(f"{'▾' if on else '▸'} {self.fold.text()[2:]}"))
        self.fold.clicked.connect(lambda on: self.unfolded.emit(self.set_id, on))
        self.rule = QComboBox(self)
        self.rule.setAccessibleName("Rule of all stacks inside")
        self.rule.setToolTip("How the frames of every position are combined")
        for rule in Rule:
            self.rule.addItem(str(rule).capitalize(), rule)
        self.rule.setVisible(bool(inner_stacks(self._session.project, self.set_id)))
        self.rule.activated.connect(self._rule_picked)
        header.addWidget(self.fold)
        header.addWidget(self.rule)

    def _rule_picked(self, n: int) -> None:
        s = self._session
        s.edit(set_inner_rule(s.project, self.set_id, Rule(self.rule.itemData(n))), True)

    def set_depth(self, depth: int) -> None:
        """How deep it lies in others."""
        self.layout().setContentsMargins(10 + 28 * depth, 8, 10, 8)

    def take(self, frame_set: FrameSet) -> bool:
        """Show the set as it is now, if only the state of its frames has changed."""
        if _made_of(frame_set) != self._made:
            return False
        self._count.setText(_count_words(frame_set))
        rule = inner_rule(self._session.project, self.set_id)
        self.rule.setCurrentIndex(-1 if rule is None else self.rule.findData(rule))
        for card, frame in zip(self.cards, frame_set.frames, strict=True):
            if card.frame != frame:
                card.frame = frame
                card.update()
        return True

    def wait_for_another(self) -> None:
        """It shows what is no longer so, and takes no press, until another stands in its place."""
        self.outdated = True
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def fill_merge(self, menu: QMenu) -> None:
        """The other sets."""
        menu.clear()
        s = self._session
        for other in s.project.sets:
            if other.id != self.set_id:
                menu.addAction(other.name, lambda o=other.id: s.try_edit(
                    lambda: edits.merge_sets(s.project, self.set_id, o)))
        if menu.isEmpty():
            menu.addAction("There is no other set").setEnabled(False)

    def mark(self, active: bool, frame_id: str | None, problems: dict[str, str]) -> None:
        if active != self._active:
            self._active = active
            self.update()
        self.split.setEnabled(active and frame_id is not None)
        for card in self.cards:
            card.mark(
                active and card.frame.id == frame_id, card.frame.id in self._picks.ids and len(self._picks.ids) > 1,
                problems.get(card.frame.id, "") if active else "")

    def paintEvent(self, event) -> None:
        paint_edge(self, self._active)

    def _pick(self, frame_id: str) -> None:
        self.picked.emit(self.set_id, frame_id, QApplication.keyboardModifiers())

    def _switch(self, frame_id: str, on: bool) -> None:
        s = self._session
        ids = self._picks.ids if frame_id in self._picks.ids and len(self._picks.ids) > 1 else {frame_id}
        ids = {f.id for f in s.project.set(self.set_id).frames} & ids
        if len(ids) > 1:
            s.edit(edits.switch_frames(s.project, self.set_id, sorted(ids), on))
        else:
            s.edit(edits.switch_frame(s.project, self.set_id, frame_id, on))

    def _drag(self, frame_id: str) -> None:
        ids = self._picks.ids if frame_id in self._picks.ids else {frame_id}
        data = QMimeData()
        data.setData(FRAMES_MIME, "\n".join(sorted(ids)).encode())
        drag = QDrag(self)
        drag.setMimeData(data)
        found = next(c for c in self.cards if c.frame.id == frame_id).thumbnail
        if found is not None:
            small = found.scaledToHeight(DRAGGED_HIGH, Qt.TransformationMode.SmoothTransformation)
            drag.setPixmap(QPixmap.fromImage(small))
        drag.exec(Qt.DropAction.MoveAction)

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasFormat(FRAMES_MIME):
            event.acceptProposedAction()

    def dragMoveEvent(self, event) -> None:
        event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        ids = bytes(event.mimeData().data(FRAMES_MIME)).decode().split("\n")
        event.acceptProposedAction()
        self.moved_here.emit(ids, self.set_id, self.before(event.position().toPoint()))

    def before(self, at: QPoint) -> str | None:
        """The frame before which something dropped there belongs, or None for the end."""
        x = self._strip.mapFrom(self, at).x()
        return next((c.frame.id for c in self.cards if x < c.geometry().center().x()), None)

    def _go_on(self) -> None:
        s = self._session
        station = _leads_to(s.project.set(self.set_id))
        s.select_set(self.set_id)
        s.go(station)

    def _rename(self) -> None:
        words = self.name.text().strip()
        s = self._session
        if words and words != s.project.set(self.set_id).name:
            s.edit(edits.set_values(s.project, self.set_id, {"name": words}), True)

    def _change_kind(self, kind: str) -> None:
        s = self._session
        s.select_set(self.set_id)
        s.edit(edits.change_kind(s.project, self.set_id, Kind(kind)))

    def _split(self) -> None:
        s = self._session
        if s.frame_id is not None:
            s.try_edit(lambda: edits.split_set(s.project, self.set_id, s.frame_id))

    def _accept(self) -> None:
        s = self._session
        s.edit(edits.accept_sets(s.project, [self.set_id]))

    def _remove(self) -> None:
        s = self._session
        s.try_edit(lambda: edits.remove_set(s.project, self.set_id))


def paint_edge(lane: QWidget, active: bool) -> None:
    """The edge of a lane, within its paint event."""
    p = QPainter(lane)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setPen(QPen(theme.colour("gorse" if active else "line"), 2 if active else 1))
    p.drawRoundedRect(QRectF(lane.rect()).adjusted(1, 1, -1, -1), 7, 7)
    p.end()


def _leads_to(frame_set: FrameSet) -> str:
    """The station at which the set's picture is looked at."""
    return "shape" if frame_set.kind is Kind.PANORAMA else "combine"


def _count_words(frame_set: FrameSet) -> str:
    used, total = len(frame_set.used), len(frame_set.frames)
    words = f"{used} frames" if used == total else f"{used} frames, {total - used} aside"
    fields = field_words(len(frame_set.combining.darks), len(frame_set.combining.flats))
    return f"{words}, {fields}" if fields else words


def _made_of(s: FrameSet) -> tuple:
    """What a lane is built from; all else it can take as it stands."""
    behind = s.behind and s.behind.set
    return s.id, s.name, s.kind, s.proposed, behind, tuple((f.id, f.source) for f in s.frames)
