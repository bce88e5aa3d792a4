"""The seam walk: stretches of seams, the worst first; three loupes; given to the other frame, or marked as fine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPen
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.picture.images import draw_fitted, to_image
from windfell.app.session import Session
from windfell.engine.owning import given_spot, laid_elsewhere
from windfell.engine.seam_walk import Stretch, loupes, seam_walk
from windfell.geometry.directions import degrees_of
from windfell.job import Job
from windfell.recipe.edits import Edit, set_values
from windfell.recipe.model import BentSeam, Blend, FineSpot, FrameSet, Project, SeamBlend

MARK = 1.0
LISTED = 120
LOUPE = 200
SPOT = 0.012  # of the picture's width
FINE_WITHIN_DEG = 0.4


@dataclass(frozen=True)
class Walk:
    """The stretches of a project's set, the directions of their middles, and the frames' numbers from 1."""

    project: Project
    set_id: str
    stretches: list[Stretch]
    directions: np.ndarray
    numbers: list[int]
    scale: float


class Loupes(QWidget):
    """One frame, the join, the other frame, at the same spot."""

    def __init__(self) -> None:
        super().__init__()
        self.images: list[QImage] = []
        self.names = ("", "joined", "")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Three loupes: one frame, the join, the other frame")

    def sizeHint(self) -> QSize:
        return QSize(420, 150)

    def show_images(self, images: list[QImage], names: tuple[str, str, str]) -> None:
        self.images, self.names = images, names
        self.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        wide = (self.width() - 12) / 3
        for n in range(3):
            box = QRectF(n * (wide + 6), 0, wide, self.height() - 18)
            p.fillRect(box, theme.colour("surround"))
            if n < len(self.images):
                p.save()
                p.setClipRect(box)
                draw_fitted(p, self.images[n], box)
                p.restore()
            p.setPen(QPen(theme.colour("gorse" if n == 1 else "line"), 2 if n == 1 else 1))
            p.drawRect(box.adjusted(0, 0, -1, -1))
            p.setPen(theme.colour("ink"))
            p.setFont(theme.words_font(9))
            p.drawText(QRectF(box.left(), box.bottom() + 1, wide, 17), Qt.AlignmentFlag.AlignCenter, self.names[n])


class SeamWalk(QWidget):
    """`flown(x, y)`: the share of the picture to look at."""

    flown = Signal(float, float)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.walk: Walk | None = None
        self._asked = None
        self._rows: list[int] = []
        self._fine: tuple[FineSpot, ...] | None = None
        self.list = QListWidget()
        self.list.setAccessibleName("Stretches of seams, the worst first")
        self.list.setToolTip("Stretches of seams, the worst first; a press flies there")
        self.list.setFixedWidth(244)
        self.list.currentRowChanged.connect(self._chosen)
        self.words = QLabel("")
        self.words.setProperty("role", "quiet")
        self.loupes = Loupes()
        self.before, self.after = QPushButton("Previous"), QPushButton("Next")
        self.give, self.take = QPushButton("Give left"), QPushButton("Give right")
        self.elsewhere = QPushButton("Elsewhere")
        self.bend = QPushButton("Bend", checkable=True)
        self.fine = QPushButton("Fine")
        tips = ("To the one before in the list (,)", "To the next in the list (.)",
                "The spot is given to the frame at the left (G)",
                "The spot is given to the frame at the right (Shift+G)",
                "The seam is laid around the spot, on whichever side an eye notices it less (E)",
                "Both frames are bent a little along their seam, so that they meet (V)",
                "It is fine: leave it out of the list (J)")
        for button, step, tip in zip(
                (self.before, self.after, self.give, self.take, self.elsewhere, self.bend, self.fine),
                (lambda: self.step(-1), lambda: self.step(1), lambda: self.give_spot(0), lambda: self.give_spot(1),
                 self.lay_elsewhere, self.bend_together, self.mark_fine), tips, strict=True):
            button.clicked.connect(lambda _=False, f=step: f())
            button.setToolTip(tip)
        self.way = QComboBox()
        self.way.setAccessibleName("How this seam is blended")
        self.way.setMinimumContentsLength(6)
        self.way.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.way.setToolTip("How the seam between these two frames is blended")
        for words, way in (("blend as all", ""), ("blend wide", Blend.WIDE), ("feather", Blend.FEATHER),
                           ("no blend", Blend.NONE)):
            self.way.addItem(words, str(way))
        self.way.activated.connect(lambda n: self.blend_seam(Blend(self.way.itemData(n)) if n else None))
        row = QHBoxLayout()
        for part in (self.give, self.take, self.elsewhere, self.bend, self.way):
            row.addWidget(part)
        steps = QHBoxLayout()
        for part in (self.before, self.after, self.fine):
            steps.addWidget(part, 1)
        row.addStretch(1)
        left = QVBoxLayout()
        left.addWidget(self.words)
        left.addWidget(self.list, 1)
        left.addLayout(steps)
        right = QVBoxLayout()
        right.addWidget(self.loupes, 1)
        right.addLayout(row)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(left)
        layout.addLayout(right, 1)

    @property
    def stretch(self) -> Stretch | None:
        at = self.list.currentRow()
        return self.walk.stretches[self._rows[at]] if self.walk and 0 <= at < len(self._rows) else None

    def ask(self, parts: tuple) -> None:
        """Walk the seams of the set in hand, unless that is done for what it is now."""
        if parts == self._asked:
            return
        self._asked = parts
        s = self.session
        engine, project, set_id = s.engine, s.project, s.set_id
        self.words.setText("Walking the seams…")

        def walk(job: Job) -> Walk:
            stages = engine.stages(project, set_id)
            found = seam_walk(stages, job)[:LISTED]
            canvas = stages.canvas(job)
            rays = canvas.rays(np.array([[f.x, f.y] for f in found]).reshape(-1, 2))
            numbers = [stages.set.numbers[n] for n in stages.registration(job).placed]
            return Walk(project, set_id, found, degrees_of(rays), numbers, canvas.width)

        def forget(*_) -> None:
            self._asked = None
            self.words.setText("")

        s.desk.ask("seam walk", walk, self._have, forget, forget, quiet=True)

    def _have(self, walk: Walk) -> None:
        kept = self.stretch
        self.walk, self._fine = walk, None
        self.refresh(kept)

    def refresh(self, kept: Stretch | None = None) -> None:
        """List the stretches that are not fine, if that is not what is listed; `kept`: the one to stay at."""
        own, walk = self.session.frame_set, self.walk
        if own is None or walk is None or walk.set_id != own.id or own.joining.fine == self._fine:
            return
        kept = kept or self.stretch
        self._fine = own.joining.fine
        fine = [(f.longitude, f.latitude) for f in own.joining.fine]
        self._rows = [n for n, at in enumerate(walk.directions) if not _near(at, fine)]
        self.list.blockSignals(True)
        self.list.clear()
        for n in self._rows:
            s = walk.stretches[n]
            mark = "▲" if s.rating > MARK else "△" if s.rating > MARK / 2 else "·"
            pair = f"{walk.numbers[s.a]} | {walk.numbers[s.b]}"
            why = s.rated.why if s.rating > MARK / 2 else "nothing to see"
            self.list.addItem(QListWidgetItem(f"{mark}  {s.rating:.2f}   {pair}   {why}"))
        self.list.blockSignals(False)
        worse = sum(walk.stretches[n].rating > MARK for n in self._rows)
        said = "none that an eye would notice" if not worse else f"{worse} that an eye may notice"
        self.words.setText(f"{len(self._rows)} stretches, {said}")
        if kept is not None and self._rows:
            off = [np.hypot(walk.stretches[n].x - kept.x, walk.stretches[n].y - kept.y) for n in self._rows]
            # the same stretch, made anew: nobody asked to be flown there
            self.list.blockSignals(True)
            self.list.setCurrentRow(int(np.argmin(off)))
            self.list.blockSignals(False)
            self._look(fly=False)
        self._enable()

    def _enable(self) -> None:
        there = self.stretch is not None
        for part in (self.give, self.take, self.elsewhere, self.fine, self.way):
            part.setEnabled(there)
        own = self.session.frame_set
        self.bend.setEnabled(there and own is not None and not own.joining.bend_seams)
        self.bend.setChecked(there and own is not None and (own.joining.bend_seams or self._bent(own) is not None))
        known = self._own_way(own) if there and own is not None else None
        self.way.setCurrentIndex(self.way.findData(str(known.blend) if known else ""))
        for button in (self.before, self.after):
            button.setEnabled(bool(self._rows))
        if there:
            a, b = (self.walk.numbers[n] for n in (self.stretch.a, self.stretch.b))
            self.give.setText(f"Give to {a}")
            self.take.setText(f"Give to {b}")

    def step(self, by: int) -> None:
        """To the next stretch of the list, or the one before."""
        if self._rows:
            self.list.setCurrentRow((max(self.list.currentRow(), -1 if by > 0 else 0) + by) % len(self._rows))

    def _chosen(self, _row: int) -> None:
        self._enable()
        self._look(fly=True)

    def _look(self, fly: bool) -> None:
        """Show the stretch in the loupes; `fly`: and on the picture."""
        stretch = self.stretch
        if stretch is None:
            return
        s, walk = self.session, self.walk
        engine, project = s.engine, s.project

        def look(job: Job) -> tuple:
            stages = engine.stages(project, walk.set_id)
            width, height = stages.size(job)
            pictures = loupes(stages, stretch, LOUPE, job)
            return [to_image(p) for p in pictures], (stretch.x / width, stretch.y / height)

        def show(found: tuple) -> None:
            images, place = found
            a, b = (walk.numbers[n] for n in (stretch.a, stretch.b))
            self.loupes.show_images(images, (f"frame {a}", "joined", f"frame {b}"))
            if fly:
                self.flown.emit(*place)

        s.desk.ask("loupes", look, show, lambda _: None, quiet=True)

    def give_spot(self, which: int) -> None:
        """The stretch's spot is given to its one (0) or other (1) frame."""
        stretch, s = self.stretch, self.session
        if stretch is None or s.frame_set is None:
            return
        engine, project, set_id = s.engine, s.project, s.set_id
        n, radius = (stretch.a, stretch.b)[which], SPOT * self.walk.scale
        self._edited(lambda job: given_spot(
            engine.stages(project, set_id), project, n, stretch.x, stretch.y, radius, job))

    def lay_elsewhere(self) -> None:
        """The seam goes around the stretch, where it is noticed less."""
        stretch, s = self.stretch, self.session
        if stretch is None or s.frame_set is None:
            return
        engine, project, set_id, radius = s.engine, s.project, s.set_id, SPOT * self.walk.scale
        self._edited(lambda job: laid_elsewhere(engine, project, set_id, stretch, radius, job))

    def _edited(self, work: Callable[[Job], Edit]) -> None:
        """An edit that is worked out, unless another comes before it."""
        s, project = self.session, self.session.project

        def done(edit: Edit) -> None:
            if s.project is project:
                s.edit(edit, True)

        s.desk.ask("give", work, done, lambda words: s.say(words, "wrong"))

    def _bent(self, own: FrameSet) -> BentSeam | None:
        """The seam of the stretch among those bent together."""
        ids = [f.id for f in own.frames]
        numbers = {self.walk.numbers[n] for n in (self.stretch.a, self.stretch.b)}
        return next((b for b in own.joining.bent if b.a in ids and b.b in ids and {
            1 + ids.index(b.a), 1 + ids.index(b.b)} == numbers), None)

    def bend_together(self) -> None:
        """The stretch's two frames are bent along their seam; once more: no longer."""
        s, stretch = self.session, self.stretch
        if stretch is None or s.frame_set is None or s.frame_set.joining.bend_seams:
            return
        known, bent = self._bent(s.frame_set), s.frame_set.joining.bent
        a, b = (self.walk.numbers[n] for n in (stretch.a, stretch.b))
        pair = BentSeam(s.frame_set.frames[a - 1].id, s.frame_set.frames[b - 1].id)
        seams = (*bent, pair) if known is None else tuple(x for x in bent if x != known)
        words = f"bend frames {a} and {b} together" if known is None else f"frames {a} and {b} unbent"
        edit = set_values(s.project, s.set_id, {"joining.bent": seams})
        s.edit(replace(edit, words=words, merge=None), True)

    def _between(self, own: FrameSet) -> tuple[str, str]:
        """The ids of the stretch's frames."""
        return tuple(own.frames[self.walk.numbers[n] - 1].id for n in (self.stretch.a, self.stretch.b))

    def _own_way(self, own: FrameSet) -> SeamBlend | None:
        """The stretch's seam among those blended in a way of their own."""
        between = set(self._between(own))
        return next((x for x in own.joining.seam_blends if {x.a, x.b} == between), None)

    def blend_seam(self, way: Blend | None) -> None:
        """The stretch's seam is blended so; None: as all seams."""
        s, own = self.session, self.session.frame_set
        if self.stretch is None or own is None:
            return
        known = self._own_way(own)
        others = tuple(x for x in own.joining.seam_blends if x != known)
        seams = others if way is None else (*others, SeamBlend(*self._between(own), way))
        if seams == own.joining.seam_blends:
            return
        a, b = (self.walk.numbers[n] for n in (self.stretch.a, self.stretch.b))
        edit = set_values(s.project, s.set_id, {"joining.seam_blends": seams})
        said = "as all" if way is None else str(way)
        s.edit(replace(edit, words=f"blend of frames {a} and {b}: {said}", merge=None), True)

    def mark_fine(self) -> None:
        """The stretch is fine: it leaves the list."""
        stretch, s = self.stretch, self.session
        if stretch is None:
            return
        row = self.list.currentRow()
        lon, lat = self.walk.directions[self._rows[row]]
        spot = FineSpot(round(float(lon), 3), round(float(lat), 3))
        s.change("joining.fine", (*s.frame_set.joining.fine, spot), True)
        self.refresh()
        self.list.setCurrentRow(min(row, len(self._rows) - 1))


def _near(place: np.ndarray, spots: list[tuple[float, float]]) -> bool:
    return any(np.hypot((place[0] - lon + 180) % 360 - 180, place[1] - lat) < FINE_WITHIN_DEG for lon, lat in spots)
