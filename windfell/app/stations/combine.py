"""Combine: the stack's rule, chosen by its proofs."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from windfell.app.area_hand import AreaHand
from windfell.app.picture.clipping import ClippingTick
from windfell.app.picture.tool import Spot
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.core_page import CorePage
from windfell.app.stations.pile import PilePage
from windfell.app.stations.spoil_page import SpoilPage
from windfell.app.stations.stack_cut_page import StackCutPage
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.fields_row import FieldsRow
from windfell.app.widgets.proofs import Alternative, Proofs
from windfell.app.widgets.ruler import Ruler
from windfell.combine.rules import RULES
from windfell.engine.stack_core import black_at, figures_of
from windfell.job import Job
from windfell.recipe import edits, pile
from windfell.recipe.combining import Combining, Display, Floor, Rule
from windfell.recipe.edits import field_at
from windfell.recipe.limits import limits_of
from windfell.recipe.model import FrameSet, Project

CARD_WIDE = 190
TONE_RULERS = (
    ("compression_pct", "Compress", "How far the range of light is brought to that of a screen, in %; 0 leaves it"),
    ("detail_pct", "Detail", "Small differences of light made stronger or weaker, in %"),
    ("highlights_pct", "Highlights", "The bright half of the picture raised or lowered, in %"),
    ("shadows_pct", "Shadows", "The dark half of the picture raised or lowered, in %"))
MASK_RULERS = (
    ("grow_px", "Grow", "Where an exposure is not heard (moved, burnt out) is grown by so many px"),
    ("soften_px", "Soften", "Exposures pass over into each other so softly, in px"))
PAGES = ("rule", "light", "display", "trails", "cut")
SHEETS = ("proofs", "pile", "core", "frames")
QUIETS = ("median", "mean", "clipped-mean", "sum", "exposures")


class Combine(Station):
    """The proofs show every rule of the set in hand, live."""

    name = "combine"

    def __init__(self, session: Session, view: PictureView, hand: AreaHand) -> None:
        super().__init__(session)
        self._view, self.area_hand = view, hand
        picture = view.source
        self.column.setContentsMargins(16, 6, 12, 4)
        self.tabs = Choice("", (
            ("rule", "Rule", "What becomes of the frames' values"),
            ("light", "Light", "What counts as black, how exposures pass over into each other"),
            ("display", "Display", "How light of several exposures, beyond white, is shown"),
            ("trails", "Trails", "Lights that move: gaps, fading, every n-th frame"),
            ("cut", "Cut", "Straighten and crop")))
        self.tabs.picked.connect(self.open_tab)
        self.tabs.set_value("rule")
        self.stack = QStackedWidget()
        self.column.addWidget(self.tabs)
        self.column.addWidget(self.stack, 1)
        self._rule_page()
        self._light_page()
        self._display_page()
        self._trails_page()
        self.cut = StackCutPage(session, view)
        self.cut.curved.connect(lambda points: self.cut.add_curve(points, self.picture_of(session.project)))
        self.stack.addWidget(self.cut)
        self.proofs = Proofs(
            session, [Alternative(r.name, r.title, r.suits) for r in RULES.values()],
            _with_rule, _figures, picture, CARD_WIDE,
        )
        self.proofs.chosen.connect(self._choose)
        self.proofs.held.connect(self._hold_against)
        self.against: str | None = None
        self.instrument = QWidget()
        self.pile = PilePage(session, hand)
        self.views = Choice("", (
            ("proofs", "Proofs", "Every rule, live"), ("pile", "Pile", "Layers over each other, the highest first"),
            ("core", "Core", "The spot under the pointer through all frames; what the rule did where"),
            ("frames", "Frames", "Which of them spoil the picture; more or fewer?")))
        self.sheets = QStackedWidget()
        self.sheets.addWidget(self.proofs)
        self.sheets.addWidget(self.pile)
        self.core = CorePage(session, view)
        self.core.map_changed.connect(view.update)
        self.core.holds.connect(session.changed)
        self.sheets.addWidget(self.core)
        self.spoil = SpoilPage(session)
        self.sheets.addWidget(self.spoil)
        self.views.picked.connect(self.open_view)
        self.views.set_value("proofs")
        layout = QVBoxLayout(self.instrument)
        layout.setContentsMargins(8, 4, 16, 6)
        layout.setSpacing(4)
        self.clipping = ClippingTick(session, view, self.name)
        row = QHBoxLayout()
        row.addWidget(self.views)
        row.addStretch(1)
        row.addWidget(self.clipping)
        layout.addLayout(row)
        layout.addWidget(self.sheets, 1)

    def _rule_page(self) -> None:
        session, column = self.session, self.page_of(self.stack)
        self.rule = QComboBox()
        self.rule.setAccessibleName("Rule")
        self.rule.setMinimumContentsLength(20)
        self.rule.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.rule.setToolTip("What becomes of the frames' values at each spot")
        for r in RULES.values():
            self.rule.addItem(f"{r.title}: {r.suits}", r.name)
        self.rule.activated.connect(lambda n: self._choose(self.rule.itemData(n)))
        self._why = self.quiet()
        self.kappa: dict[str, Ruler] = {}
        column.addWidget(self.rule)
        column.addWidget(self._why)
        for words, path in (("Low", "combining.kappa_low"), ("High", "combining.kappa_high")):
            limits = field_at(path).metadata
            ruler = Ruler(words, limits["low"], 8.0, 3.0, "", 0.1)
            side = "below" if words == "Low" else "above"
            ruler.setToolTip(f"Spreads that the clipped mean keeps {side} the middle")
            ruler.changed.connect(lambda v, first, p=path: session.change(p, v, first))
            self.kappa[path] = ruler
            column.addWidget(ruler)
        self.base = QComboBox()
        self.base.setAccessibleName("Base")
        self.base.setToolTip("The frame that keeps its own black, and is seen outside of the rule's region")
        self.base.activated.connect(lambda n: session.change("combining.base", self.base.itemData(n), True))
        self.region = QPushButton("Paint where…", checkable=True)
        self.region.setToolTip("Draw where the rule holds; elsewhere the base is seen")
        self.region.clicked.connect(lambda on: self.pile.take_region() if on else self.area_hand.put_away())
        row = QHBoxLayout()
        row.addWidget(QLabel("Base"))
        row.addWidget(self.base, 1)
        row.addWidget(self.region)
        column.addLayout(row)
        column.addStretch(1)

    def _light_page(self) -> None:
        session, column = self.session, self.page_of(self.stack)
        self.floor = Choice("Black", (
            ("off", "As it is", "Nothing is taken off"),
            ("auto", "Found", "Each frame's dark surroundings count as black, also where they slope"),
            ("level", "Level", "The same level counts as black everywhere"),
            ("even", "Even", "The empty field without colour and slope, as bright as it was")))
        self.floor.picked.connect(lambda v: session.change("combining.floor", Floor(v), True))
        self.level = Ruler("Level", 0.0, 20.0, 0.0, "%", 0.05)
        self.level.changed.connect(lambda v, first: session.change("combining.floor_pct", v, first))
        self.pick = QPushButton("Pick", checkable=True)
        self.pick.setToolTip("Press on the picture what is to be black")
        self.pick.clicked.connect(lambda on: self._view.take_tool(self.picker if on else None))
        self.picker = Spot()
        self.picker.pressed.connect(self._picked_black)
        row = QHBoxLayout()
        row.addWidget(self.level, 1)
        row.addWidget(self.pick)
        column.addWidget(self.floor)
        column.addLayout(row)
        self.masks = self._rulers_of(MASK_RULERS, column)
        self.fields = FieldsRow(session)
        column.addWidget(self.fields)
        column.addStretch(1)

    def _display_page(self) -> None:
        session, column = self.session, self.page_of(self.stack, 2)
        self.display = Choice("Show", (
            ("tone", "Local", "Bright and dark parts brought together, detail kept"),
            ("fusion", "Fused", "Of each exposure what it shows best"),
            ("none", "As it is", "Linear light, beyond white too")))
        self.display.picked.connect(lambda v: session.change("combining.display", Display(v), True))
        column.addWidget(self.display)
        self.tones = self._rulers_of(TONE_RULERS, column)
        column.addStretch(1)

    def _rulers_of(self, rulers: tuple, column: QVBoxLayout) -> dict[str, Ruler]:
        """Rulers of fields of the combining, by their paths."""
        made = {}
        for field, words, tip in rulers:
            limits = limits_of(Combining, field)
            ruler = Ruler(words, limits["low"], limits["high"], getattr(Combining(), field), limits["unit"],
                          0.5 if limits["unit"] == "px" else 1)
            ruler.setToolTip(tip)
            made[f"combining.{field}"] = ruler
            ruler.changed.connect(lambda v, first, f=field: self.session.change(f"combining.{f}", v, first))
            column.addWidget(ruler)
        return made

    def _picked_black(self, at: QPointF) -> None:
        """A spot was pressed that is to be black."""
        s, own = self.session, self.session.frame_set
        self.pick.setChecked(False)
        self._view.take_tool(None)
        engine, project, set_id = s.engine, pile.without_floor(s.project, own.id), own.id

        def done(level: float) -> None:
            if s.set_id == set_id:
                s.edit(edits.pick_black(s.project, set_id, level), True)

        s.desk.ask("black", lambda job: black_at(engine.stages(project, set_id), (at.x(), at.y()), job), done,
                   lambda words: s.say(words, "wrong"), quiet=True)

    def _trails_page(self) -> None:
        session, column = self.session, self.page_of(self.stack)
        self.bridge = QCheckBox("Bridge gaps")
        self.bridge.setToolTip("Between lights that move on from frame to frame")
        self.bridge.clicked.connect(lambda on: session.change("combining.bridge", on, True))
        self.beyond = QCheckBox("Only what brightens")
        self.beyond.setToolTip("A maximum shows only what is brighter than the noise lets expect: no lifted sky")
        self.beyond.clicked.connect(lambda on: session.change("combining.beyond_noise", on, True))
        self.every = Ruler("Every n-th", 1, 20, 1, "", 1)
        self.fades: dict[str, Ruler] = {}
        trails = QHBoxLayout()
        trails.addWidget(self.bridge)
        trails.addWidget(self.beyond)
        self.every.changed.connect(lambda v, first: session.change("combining.every", int(v), first))
        column.addLayout(trails)
        column.addWidget(self.every)
        for words, path in (("Fade in", "combining.fade_in_pct"), ("Fade out", "combining.fade_out_pct")):
            ruler = Ruler(words, 0.0, 100.0, 0.0, "%", 1)
            ruler.setToolTip("Lights of the first (last) frames grow (fade) over so much of the series")
            ruler.changed.connect(lambda v, first, p=path: session.change(p, v, first))
            self.fades[path] = ruler
            column.addWidget(ruler)
        column.addStretch(1)

    def open_tab(self, name: str) -> None:
        """Show a page of the controls; the cut's tools are put away elsewhere."""
        self.tabs.set_value(name)
        if self.pick.isChecked():
            self.pick.setChecked(False)
            self._view.take_tool(None)
        self.stack.setCurrentIndex(PAGES.index(name))
        if name != "cut":
            self.cut.take("off")

    def open_view(self, name: str) -> None:
        """Show an instrument: the proofs or the pile."""
        self.views.set_value(name)
        self.sheets.setCurrentIndex(SHEETS.index(name))
        if name != "pile":
            self.pile.place.put_away()
        self.spoil.open = name == "frames"
        self.spoil.refresh()
        self.core.open = name == "core"
        self._view.overlay = self.paint_over
        self.core.refresh()
        self._view.update()

    @property
    def needed(self) -> list[QWidget]:
        return [self.rule]

    @property
    def settled(self) -> bool:
        return self.proofs.settled

    def refresh(self) -> None:
        frame_set = self.session.frame_set
        if frame_set is None or "combine" not in self.session.stations:
            return
        rule = str(frame_set.combining.rule)
        self.rule.setCurrentIndex(self.rule.findData(rule))
        c = frame_set.combining
        for path, ruler in self.kappa.items():
            ruler.set_value(getattr(c, path.partition(".")[2]))
            ruler.setEnabled(c.rule is Rule.CLIPPED_MEAN)
        self._fill_base(frame_set)
        self.region.setEnabled(c.base is not None)
        held = self.area_hand.target
        self.region.setChecked(held is not None and held.name == "Where the rule holds")
        self.pile.refresh()
        self.core.refresh()
        self.spoil.refresh()
        self.floor.set_value(str(c.floor))
        self.level.set_value(c.floor_pct)
        self.fields.refresh()
        self.level.setEnabled(c.floor is Floor.LEVEL)
        self.bridge.setChecked(c.bridge)
        self.bridge.setEnabled(RULES[rule].adds)
        self.beyond.setChecked(c.beyond_noise)
        self.beyond.setEnabled(c.rule is Rule.MAXIMUM)
        self.every.set_value(c.every)
        self.every.setEnabled(RULES[rule].adds)
        for path, ruler in self.fades.items():
            ruler.set_value(getattr(c, path.partition(".")[2]))
            ruler.setEnabled(RULES[rule].adds)
        for path, ruler in self.masks.items():
            ruler.set_value(getattr(c, path.partition(".")[2]))
            ruler.setEnabled(c.rule is Rule.EXPOSURES)
        for path, ruler in self.tones.items():
            ruler.set_value(getattr(c, path.partition(".")[2]))
            ruler.setEnabled(c.rule is Rule.EXPOSURES and c.display is Display.TONE)
        self.display.set_value(str(c.display))
        self.display.setEnabled(c.rule is Rule.EXPOSURES)
        self.cut.refresh(frame_set)
        used = len(frame_set.used)
        self._why.setText(
            f"{RULES[rule].title} of {used} frames. Hold B to see the reference frame alone."
        )
        self.proofs.show_for(self.session.project, frame_set.id, rule)

    def _fill_base(self, frame_set: FrameSet) -> None:
        self.base.clear()
        self.base.addItem("none", None)
        for n, f in enumerate(frame_set.frames):
            self.base.addItem(f"frame {n + 1}", f.id)
        self.base.setCurrentIndex(max(0, self.base.findData(frame_set.combining.base)))

    def held_against(self, project: Project) -> tuple[Project, tuple[str, str]] | None:
        own = project.set(self.session.set_id)
        base = own.combining.base
        if self.against is None:
            if PAGES[self.stack.currentIndex()] == "light" and own.combining.floor is not Floor.OFF:
                as_it_is = replace(own, combining=replace(own.combining, floor=Floor.OFF))
                return project.with_set(as_it_is), ("black as it is", "now")
            if base is None or not any(f.id == base for f in own.used):
                return None
            return pile.frame_alone(project, own.id, base), ("the base", "now")
        now = RULES[str(project.set(self.session.set_id).combining.rule)].title
        return _with_rule(project, self.session.set_id, self.against), (RULES[self.against].title, now)

    def _hold_against(self, rule: str | None) -> None:
        """Hold another rule's picture against the one chosen; once more, or None: no longer."""
        self.against = None if rule == self.against else rule
        self.proofs.mark_held(self.against)
        self._view.set_compare("divide" if self.against else "off")

    def paint_over(self, painter: QPainter, rect: QRectF, zoom: float) -> None:
        """Where it is clipped; the core's map."""
        self.clipping.paint_over(painter, rect)
        if self.core.open:
            self.core.paint_over(painter, rect, zoom)

    def entered(self) -> None:
        self.cut.take(self.cut.in_hand)
        self.open_view(SHEETS[self.sheets.currentIndex()])

    def left(self) -> None:
        self.area_hand.put_away()
        self._view.overlay = None
        self.core.open = False
        self._view.take_tool(None)
        self._view.lining = False
        if self.against is not None:
            self._hold_against(None)

    def picture_of(self, project: Project) -> Project:
        return self.cut.picture_of(self.core.picture_of(project))

    def _choose(self, rule: str) -> None:
        self.session.change("combining.rule", Rule(rule), True)


def _with_rule(project: Project, set_id: str, rule: str) -> Project:
    frame_set = project.set(set_id)
    return project.with_set(
        replace(frame_set, combining=replace(frame_set.combining, rule=Rule(rule)))
    )


def _figures(engine, project: Project, set_id: str, job: Job) -> list[str]:
    """What the rule does in words, and its one figure."""
    rule = RULES[str(project.set(set_id).combining.rule)]
    if len(project.set(set_id).used) < 2:
        return [rule.suits]
    found = figures_of(engine.stages(project, set_id), job)
    if found.rejected is not None:
        return [rule.suits, f"noise {-found.noise_db:+.1f} dB, rejects {100 * found.rejected:.1f} %"]
    if rule.name in QUIETS:
        return [rule.suits, f"noise {-found.noise_db:+.1f} dB"]
    return [rule.suits, f"brightens {100 * found.brightened:.0f} %"]
