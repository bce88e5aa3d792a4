"""Combine's pile: its layers as rows, the highest on top, and the one in hand with its values."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from windfell.app.area_hand import AreaHand, AreaTarget
from windfell.app.session import Session
from windfell.app.stations.layer_place import LayerPlace
from windfell.app.stations.station import Station
from windfell.app.widgets.layer_list import LayerList
from windfell.app.widgets.ruler import Ruler
from windfell.combine.meeting import MEETINGS
from windfell.combine.rules import RULES
from windfell.recipe import developing, pile
from windfell.recipe.areas import Area
from windfell.recipe.combining import Floor, Layer, Over, Rule
from windfell.recipe.developing import DEVELOPMENT_WORDS
from windfell.recipe.limits import limits_of
from windfell.recipe.model import FrameSet, Project

LIST_WIDE = 300
RULERS = (
    ("strength_pct", "Strength", 0.0, 100.0, 1.0), ("exposure_ev", "Exposure", -5.0, 5.0, 0.05),
    ("warmth", "Warmth", -100.0, 100.0, 1.0), ("tint", "Tint", -100.0, 100.0, 1.0),
    ("floor_pct", "Black", 0.0, 20.0, 0.05),
    ("right_px", "Right", -500.0, 500.0, 1.0), ("down_px", "Down", -500.0, 500.0, 1.0),
    ("turn_deg", "Turn", -45.0, 45.0, 0.1), ("size_pct", "Size", 50.0, 200.0, 0.5),
    ("edge_pct", "Edge", 0.0, 25.0, 0.5))
FLOORS = ((Floor.OFF, "as it is"), (Floor.AUTO, "found"), (Floor.LEVEL, "level"))


class PilePage(QWidget):
    """The lowest row is the rule over all, which the other pages of Combine set."""

    def __init__(self, session: Session, hand: AreaHand) -> None:
        super().__init__()
        self.session, self.hand = session, hand
        self._shown: tuple = ()
        self.list = LayerList("Layers, the highest first", "Drag a layer to another place (Alt with up and down)",
                              LIST_WIDE)
        self.list.currentRowChanged.connect(lambda _: self._show_layer())
        self.list.itemChanged.connect(self._switched)
        self.list.moved.connect(self._moved)
        self.add_frame, self.add_rule = QPushButton("Add frame"), QPushButton("Add rule")
        self.add_frame.setToolTip("The frame chosen at the left as a layer by itself, on top")
        self.add_rule.setToolTip("A rule over frames as a layer, on top: the chosen rule over all")
        self.lights = QPushButton("Lights over base")
        self.lights.setToolTip("The frame chosen at the left stays; the lights of all show only where you paint")
        self.double, self.remove = QPushButton("Duplicate"), QPushButton("Remove")
        self.double.setToolTip("The layer in hand once more, above it")
        self.remove.setToolTip("The pile without the layer in hand")
        self.look = QPushButton("Copy look")
        self.look.setToolTip("The development of the frame chosen at the left, for all frames of this layer")
        for button, deed in ((self.add_frame, self.add_chosen), (self.add_rule, self.add_all),
                             (self.lights, self.lights_over_base), (self.double, self._duplicate),
                             (self.remove, self._remove), (self.look, self.copy_look)):
            button.clicked.connect(lambda _=False, f=deed: f())
        buttons = QGridLayout()
        buttons.setSpacing(4)
        for n, button in enumerate((self.add_frame, self.add_rule, self.lights, self.double, self.remove, self.look)):
            buttons.addWidget(button, n // 3, n % 3)
        left = QVBoxLayout()
        left.addWidget(self.list, 1)
        left.addLayout(buttons)
        self._layer_form()
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(12)
        layout.addLayout(left)
        layout.addWidget(self.frame_of, 1)

    def _layer_form(self) -> None:
        self.form = QWidget()
        grid = QGridLayout(self.form)
        grid.setContentsMargins(2, 2, 8, 2)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        grid.addLayout(self._row_of_what(), 0, 0, 1, 2)
        grid.addLayout(self._row_of_where(), 1, 0, 1, 2)
        self.rulers: dict[str, Ruler] = {}
        for n, (field, words, low, high, step) in enumerate(RULERS):
            limits = limits_of(Layer, field)
            rest = 100.0 if field in ("strength_pct", "size_pct") else 0.0
            ruler = Ruler(words, low, high, rest, limits["unit"], step)
            ruler.changed.connect(lambda v, first, f=field: self._set(f, v, first))
            self.rulers[field] = ruler
            grid.addWidget(ruler, 2 + n // 2, n % 2)
        self.empty = Station.quiet()
        self.frame_of = QScrollArea()
        self.frame_of.setWidgetResizable(True)
        self.frame_of.setFrameShape(QScrollArea.Shape.NoFrame)
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.empty)
        column.addWidget(self.form)
        column.addStretch(1)
        self.frame_of.setWidget(inside)

    def _row_of_what(self) -> QHBoxLayout:
        """Name, frames, rule, and how the layer meets what is below."""
        self.name = self._field("Name of the layer", "Name", lambda: self._set("name", self.name.text().strip()))
        self.frames = self._field("Frames of the layer", "all frames", self._frames_typed)
        self.frames.setToolTip("Frames of the layer by their numbers: 3 or 2-5, 8; empty for all")
        self.rule = self._box("Rule of the layer", [(r.name, r.title, r.suits) for r in RULES.values()],
                              lambda v: self._set("rule", Rule(v)))
        self.over = self._box("How it meets what is below", [(m.name, m.title, m.suits) for m in MEETINGS.values()],
                              lambda v: self._set("over", Over(v)))
        row = QHBoxLayout()
        for part in (self.name, self.frames, self.rule, self.over):
            row.addWidget(part)
        return row

    def _row_of_where(self) -> QHBoxLayout:
        """The layer's area and place, and what counts as black in it."""
        self.floor = self._box("What counts as black in it", [(str(f), f"black: {words}", "") for f, words in FLOORS],
                               lambda v: self._set("floor", Floor(v)))
        self.paint = QPushButton("Paint area…", checkable=True)
        self.paint.setToolTip("Draw where it holds")
        self.paint.clicked.connect(lambda on: self.take_area() if on else self.hand.put_away())
        self.place = LayerPlace(self.session, self.hand, lambda: self.chosen)
        self.everywhere = QPushButton("Everywhere")
        self.everywhere.setToolTip("It holds everywhere")
        self.everywhere.clicked.connect(self._everywhere)
        row = QHBoxLayout()
        for part in (self.paint, self.everywhere, self.place.button, self.floor):
            row.addWidget(part)
        row.addStretch(1)
        return row

    @staticmethod
    def _field(words: str, empty: str, done: Callable[[], None]) -> QLineEdit:
        field = QLineEdit()
        field.setPlaceholderText(empty)
        field.setAccessibleName(words)
        field.setToolTip(words)
        field.editingFinished.connect(done)
        return field

    @staticmethod
    def _box(words: str, items: Sequence[tuple[str, str, str]], chosen: Callable[[str], None]) -> QComboBox:
        """A choice of (value, words, what it suits)."""
        box = QComboBox()
        box.setAccessibleName(words)
        box.setToolTip(words)
        for n, (value, title, suits) in enumerate(items):
            box.addItem(title, value)
            box.setItemData(n, suits, Qt.ItemDataRole.ToolTipRole)
        box.activated.connect(lambda n: chosen(box.itemData(n)))
        return box

    # -- what is shown

    @property
    def layers(self) -> tuple[Layer, ...]:
        own = self.session.frame_set
        return own.combining.layers if own else ()

    @property
    def chosen(self) -> int | None:
        """Which layer is in hand, counted from the lowest; None for the lowest row, the rule over all."""
        row = self.list.currentRow()
        n = len(self.layers) - 1 - row
        return n if row >= 0 and 0 <= n < len(self.layers) else None

    def refresh(self) -> None:
        own = self.session.frame_set
        if own is None:
            return
        c = own.combining
        state = own.id, c.layers, c.rule, c.base, c.region, tuple(f.id for f in own.frames)
        if state != self._shown:
            kept, fresh = self.list.currentRow(), not self._shown or self._shown[0] != own.id
            grown = not fresh and len(c.layers) > len(self._shown[1])
            self._shown = state
            self._fill(own)
            self.list.setCurrentRow(0 if grown or fresh or kept < 0 else min(kept, self.list.count() - 1))
        self._show_layer()

    def _fill(self, own: FrameSet) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for layer in reversed(own.combining.layers):
            way = MEETINGS[str(layer.over)].title.lower()
            where = "" if layer.area is None else ", in its area"
            strength = "" if layer.strength_pct == 100 else f", {layer.strength_pct:g} %"
            item = QListWidgetItem(f"{pile.layer_name(own, layer)} — {way}{where}{strength}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if layer.on else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        lowest = QListWidgetItem(pile.lowest_words(own, RULES[str(own.combining.rule)].title))
        lowest.setFlags(lowest.flags() & ~Qt.ItemFlag.ItemIsDragEnabled & ~Qt.ItemFlag.ItemIsUserCheckable)
        self.list.addItem(lowest)
        self.list.blockSignals(False)

    def _show_layer(self) -> None:
        own, n = self.session.frame_set, self.chosen
        self.form.setVisible(n is not None)
        self.place.refresh()
        self.empty.setVisible(n is None)
        for button in (self.double, self.remove):
            button.setEnabled(n is not None)
        chosen = own is not None and self.session.frame_id is not None
        self.add_frame.setEnabled(chosen)
        self.lights.setEnabled(chosen)
        self.look.setEnabled(chosen)
        if own is None:
            return
        if n is None:
            self.empty.setText(
                "The lowest layer is the rule over all frames; the page Rule sets it. Add a frame or a rule above "
                "it, or choose a frame at the left and press “Lights over base”.")
            return
        layer = own.combining.layers[n]
        one = len(layer.frames) == 1
        if not self.name.hasFocus():
            self.name.setText(layer.name)
        if not self.frames.hasFocus():
            self.frames.setText(pile.numbers_in_words(own, layer.frames))
        self.rule.setCurrentIndex(self.rule.findData(str(layer.rule)))
        self.rule.setEnabled(not one)
        self.over.setCurrentIndex(self.over.findData(str(layer.over)))
        self.floor.setCurrentIndex(self.floor.findData(str(layer.floor)))
        for field, ruler in self.rulers.items():
            ruler.set_value(getattr(layer, field))
        self.rulers["floor_pct"].setEnabled(layer.floor is Floor.LEVEL)
        self.everywhere.setEnabled(layer.area is not None)
        held = self.hand.target
        self.paint.setChecked(held is not None and held.name == area_name(n))

    # -- edits

    def _set(self, field: str, value: object, starts: bool = True) -> None:
        n, s = self.chosen, self.session
        if n is not None and getattr(self.layers[n], field) != value:
            s.edit(pile.change_layer(s.project, s.set_id, n, {field: value}), starts)

    def _frames_typed(self) -> None:
        n, s = self.chosen, self.session
        if n is None:
            return
        try:
            frames = pile.frames_from_words(s.frame_set, self.frames.text())
        except ValueError as error:
            s.say(str(error), "wrong")
            self.frames.setText(pile.numbers_in_words(s.frame_set, self.layers[n].frames))
            return
        if frames != self.layers[n].frames:
            s.edit(pile.change_layer(s.project, s.set_id, n, {"frames": frames}), True)

    def _switched(self, item: QListWidgetItem) -> None:
        n, s = len(self.layers) - 1 - self.list.row(item), self.session
        on = item.checkState() == Qt.CheckState.Checked
        if 0 <= n < len(self.layers) and self.layers[n].on != on:
            s.edit(pile.change_layer(s.project, s.set_id, n, {"on": on}), True)

    def _moved(self, before: int, after: int) -> None:
        s, last = self.session, len(self.layers) - 1
        n, to = last - before, min(max(last - after, 0), last)
        self._shown = ()
        if 0 <= n <= last and n != to:
            s.edit(pile.move_layer(s.project, s.set_id, n, to), True)
        self.refresh()
        self.list.setCurrentRow(last - to)

    def add_chosen(self) -> None:
        """The chosen frame by itself, on top."""
        s = self.session
        if s.frame_id is not None:
            s.edit(pile.add_layer(s.project, s.set_id, Layer(frames=(s.frame_id,))), True)

    def add_all(self) -> None:
        """A rule over all frames, on top."""
        s = self.session
        if s.frame_set is not None:
            s.edit(pile.add_layer(s.project, s.set_id, Layer(rule=Rule.MAXIMUM, over=Over.LIGHTER)), True)

    def lights_over_base(self) -> None:
        """The chosen frame as base, the maximum of all where one paints: the brush is taken in hand."""
        s = self.session
        if s.frame_id is not None:
            rule = s.frame_set.combining.rule
            s.edit(pile.lights_over_base(
                s.project, s.set_id, s.frame_id, rule if RULES[str(rule)].adds else Rule.MAXIMUM), True)
            self.take_region()

    def copy_look(self) -> None:
        """The chosen frame's development for the frames of the layer in hand; of the lowest for all but the base."""
        s, own, n = self.session, self.session.frame_set, self.chosen
        if s.frame_id is None:
            return
        base = own.combining.base
        ids = (own.combining.layers[n].frames if n is not None else ()) or tuple(
            f.id for f in own.frames if n is not None or f.id != base)
        what = sorted(DEVELOPMENT_WORDS)
        s.edit(developing.copy_development(s.project, s.set_id, s.frame_id, list(ids), what), True)

    def _duplicate(self) -> None:
        s, n = self.session, self.chosen
        if n is not None:
            s.edit(pile.duplicate_layer(s.project, s.set_id, n), True)

    def _remove(self) -> None:
        s, n = self.session, self.chosen
        if n is not None:
            s.edit(pile.remove_layer(s.project, s.set_id, n), True)

    def _everywhere(self) -> None:
        if self.chosen is not None:
            self.hand.put_away()
            self._set("area", None)

    # -- areas

    def take_area(self) -> None:
        """Draw the area of the layer in hand."""
        n, set_id = self.chosen, self.session.set_id
        if n is None:
            return

        def read(project: Project) -> Area | None:
            own = next((x for x in project.sets if x.id == set_id), None)
            there = own is not None and n < len(own.combining.layers)
            return (own.combining.layers[n].area or Area()) if there else None

        self.hand.take(AreaTarget(
            set_id, area_name(n), read, lambda project, area: pile.with_layer_area(project, set_id, n, area)))
        self._show_layer()

    def take_region(self) -> None:
        """Draw where the rule holds over the base."""
        set_id = self.session.set_id

        def read(project: Project) -> Area | None:
            own = next((x for x in project.sets if x.id == set_id), None)
            return (own.combining.region or Area()) if own and own.combining.base else None

        self.hand.take(AreaTarget(
            set_id, "Where the rule holds", read, lambda project, area: pile.with_region(project, set_id, area)))


def area_name(n: int) -> str:
    return f"Area of layer {n + 1}"
