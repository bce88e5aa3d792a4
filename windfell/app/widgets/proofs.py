"""Proofs: every alternative of a decision, live, side by side, with its figures."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QSizePolicy, QWidget

from windfell.app import theme
from windfell.app.picture.images import draw_fitted, image_of
from windfell.app.picture.source import PictureSource
from windfell.app.session import Session
from windfell.engine.core import Engine
from windfell.job import Job
from windfell.recipe.model import Project, picture_parts

PROOF_SIDE = 460


@dataclass(frozen=True)
class Alternative:
    """One proof: its value, title, a word on what it suits, and the project that shows it."""

    value: str
    title: str
    suits: str


class ProofCard(QWidget):
    """A small picture with a title and figures; a click chooses it."""

    chosen = Signal(str)
    held = Signal(str)

    def __init__(self, alternative: Alternative, may_be_held: bool = False) -> None:
        super().__init__()
        self.alternative = alternative
        self.image: QImage | None = None
        self.figures: list[str] = []
        self.problem = ""
        self.active = False
        self.against = False
        self._may_be_held = may_be_held
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setToolTip(f"{alternative.title}: {alternative.suits}")
        self.setAccessibleName(f"Proof {alternative.title}")
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        return QSize(220, 160)

    def minimumSizeHint(self) -> QSize:
        return QSize(120, 110)

    def _holder(self) -> QRectF:
        """Where "hold against" stands."""
        return QRectF(self.width() - 84, 8, 74, 20)

    def mouseReleaseEvent(self, event) -> None:
        if self._may_be_held and not self.active and self._holder().contains(event.position()):
            self.held.emit(self.alternative.value)
        else:
            self.chosen.emit(self.alternative.value)

    def enterEvent(self, event) -> None:
        self.update()

    def leaveEvent(self, event) -> None:
        self.update()

    def keyPressEvent(self, event) -> None:
        if self._may_be_held and event.key() == Qt.Key.Key_A and not self.active:
            self.held.emit(self.alternative.value)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit(self.alternative.value)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        box = QRectF(self.rect()).adjusted(2, 2, -2, -2)
        p.setPen(QPen(theme.colour("gorse" if self.active else "line"), 3 if self.active else 1))
        p.setBrush(theme.colour("sheet"))
        p.drawRoundedRect(box, 6, 6)
        if self.hasFocus():
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(theme.colour("tarn"), 2))
            p.drawRoundedRect(box.adjusted(3, 3, -3, -3), 4, 4)
        lines = max(1, len(self.figures))
        words_high = 22 + 15 * lines
        self._paint_picture(p, box.adjusted(8, 8, -8, -words_high - 6))
        p.setPen(theme.colour("ink"))
        p.setFont(theme.words_font(10.5, bold=True))
        title = self.alternative.title + ("  · chosen" if self.active else "")
        at = QRectF(box.left() + 10, box.bottom() - words_high - 2, box.width() - 20, 20)
        p.drawText(at, Qt.AlignmentFlag.AlignVCenter, title)
        p.setFont(theme.numbers_font(8.2))
        p.setPen(theme.colour("rowan" if self.problem else "quiet"))
        for n, line in enumerate(self.figures or [self.problem]):
            row = QRectF(at.left(), at.bottom() + 15 * n - 1, at.width(), 15)
            shown = p.fontMetrics().elidedText(line, Qt.TextElideMode.ElideRight, int(row.width()))
            p.drawText(row, Qt.AlignmentFlag.AlignVCenter, shown)

        if self._may_be_held and not self.active and (self.against or self.underMouse() or self.hasFocus()):
            box = self._holder()
            p.setPen(QPen(theme.colour("tarn"), 1))
            p.setBrush(theme.colour("sheet"))
            p.drawRoundedRect(box, 4, 4)
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, "compared" if self.against else "compare")

    def _paint_picture(self, p: QPainter, room: QRectF) -> None:
        p.fillRect(room, theme.colour("surround"))
        if self.image is None or self.image.isNull():
            return
        draw_fitted(p, self.image, room)


class Proofs(QWidget):
    """A row of proofs, made again whenever the recipe has changed and the hand rests."""

    chosen = Signal(str)
    held = Signal(str)

    def __init__(
        self,
        session: Session,
        alternatives: Sequence[Alternative],
        variant: Callable[[Project, str, str], Project],
        figures: Callable[[Engine, Project, str, Job], list[str]],
        after: PictureSource,
        card_wide: int = 0,
    ) -> None:
        """`after`: the picture that comes first. `card_wide`: cards of that width in a strip that scrolls sideways,
        which can be held against the chosen one; 0: all in the room there is.
        """
        super().__init__()
        self._after = after
        self._session, self._variant, self._figures = session, variant, figures
        self._asked: dict[str, tuple] = {}
        self._wanted: dict[str, tuple[Project, str]] = {}
        self._later: tuple[Project, str] | None = None
        session.rested.connect(self._ask_all)
        after.arrived.connect(self._ask_all)
        self._strip = QWidget()
        layout = QHBoxLayout(self._strip if card_wide else self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        self._row = layout
        self.frame_of: QScrollArea | None = None
        if card_wide:
            self.frame_of = QScrollArea()
            self.frame_of.setWidget(self._strip)
            self.frame_of.setWidgetResizable(True)
            self.frame_of.setFrameShape(QScrollArea.Shape.NoFrame)
            self.frame_of.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            outer = QHBoxLayout(self)
            outer.setContentsMargins(0, 0, 0, 0)
            outer.addWidget(self.frame_of)
        self.cards: dict[str, ProofCard] = {}
        for alternative in alternatives:
            card = ProofCard(alternative, card_wide > 0)
            card.chosen.connect(self.chosen)
            card.held.connect(self.held)
            if card_wide:
                card.setFixedWidth(card_wide)
            self.cards[alternative.value] = card
            layout.addWidget(card, 1)

    def show_for(self, project: Project, set_id: str, active: str) -> None:
        """Make the proofs of a set; the active one is marked."""
        for value, card in self.cards.items():
            if not card.isHidden() and card.active != (value == active):
                card.active = value == active
                card.update()
                self._keep_in_sight()
        self._later = project, set_id
        if self._session.moving and all(asked[0] == set_id for asked in self._asked.values()):
            self._give_way()
        else:
            self._line_up()
        self._ask_all()

    def _give_way(self) -> None:
        """What is on its way is asked anew once the hand rests."""
        for value in self.cards:
            if self._session.desk.runs(f"proof {value}"):
                self._session.desk.drop(f"proof {value}")
                self._asked.pop(value, None)

    def _line_up(self) -> None:
        """The proofs that are out of date are wanted."""
        if self._later is None:
            return
        (project, set_id), self._later = self._later, None
        for value, card in self.cards.items():
            if card.isHidden():
                continue
            varied = self._variant(project, set_id, value)
            parts = (set_id, picture_parts(varied, set_id))
            if self._asked.get(value) != parts:
                if self._asked.get(value, (set_id,))[0] != set_id:
                    card.image, card.figures, card.problem = None, [], ""
                    card.update()
                self._asked[value] = parts
                self._session.desk.drop(f"proof {value}")
                self._wanted[value] = varied, set_id

    def put_in_order(self, values: Sequence[str]) -> None:
        """The cards in this order, those that are not named last."""
        named = [v for v in values if v in self.cards]
        for n, value in enumerate([*named, *(v for v in self.cards if v not in named)]):
            if self._row.indexOf(self.cards[value]) != n:
                self._row.removeWidget(self.cards[value])
                self._row.insertWidget(n, self.cards[value])
        self._keep_in_sight()

    def _keep_in_sight(self) -> None:
        active = next((c for c in self.cards.values() if c.active), None)
        if self.frame_of is not None and active is not None:
            self.frame_of.ensureWidgetVisible(active, 40, 0)

    def mark_held(self, value: str | None) -> None:
        """Which card is held against the chosen one."""
        for name, card in self.cards.items():
            if card.against != (name == value):
                card.against = name == value
                card.update()

    def show_only(self, value: str | None) -> None:
        """Only one alternative applies; None: all do."""
        for name, card in self.cards.items():
            card.setVisible(value in (None, name))

    def _ask_all(self) -> None:
        """The proofs that are out of date, once the hand rests and the picture is there."""
        if self._session.moving or not self._after.settled:
            return
        self._line_up()
        wanted, self._wanted = self._wanted, {}
        for value, (varied, set_id) in wanted.items():
            self._ask(value, varied, set_id)

    @property
    def settled(self) -> bool:
        return self._later is None and not self._wanted and all(
            c.image is not None or c.problem or c.isHidden() for c in self.cards.values())

    def _ask(self, value: str, project: Project, set_id: str) -> None:
        engine, card = self._session.engine, self.cards[value]

        def make(job: Job) -> tuple[QImage, list[str]]:
            image = image_of(engine.draft(project, set_id, PROOF_SIDE, job).pixels)
            return image, self._figures(engine, project, set_id, job)

        def done(answer: tuple[QImage, list[str]]) -> None:
            card.image, card.figures = answer
            card.problem = ""
            card.update()

        def failed(sentence: str) -> None:
            card.image, card.figures, card.problem = None, [], sentence
            card.update()

        def stopped() -> None:
            self._asked.pop(value, None)
            if card.image is None:
                failed("Stopped.")

        self._session.desk.ask(f"proof {value}", make, done, failed, stopped, quiet=True)
