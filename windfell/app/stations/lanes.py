"""The wall of frames: a lane a set, what it is made of below it; frames are dragged between lanes."""

from __future__ import annotations

from time import perf_counter

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QScrollArea, QVBoxLayout, QWidget

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.set_pictures import SetPictures
from windfell.app.stations.lane import CARD_HIGH, Lane, Picks, paint_edge
from windfell.app.thumbnails import Thumbnails
from windfell.recipe import edits
from windfell.recipe.model import FrameSet, nested_in
from windfell.recipe.nesting import as_tree

LAID_OUT_MS = 60
# lanes are made for so long in one turn of the window; the others of many follow when it has drawn itself
TURN_S = 0.012


class Room(QWidget):
    """Where the lane of a set will be."""

    def __init__(self, set_id: str, high: int) -> None:
        super().__init__()
        self.set_id = set_id
        self.setFixedHeight(high)

    def paintEvent(self, event) -> None:
        paint_edge(self, False)


class Lanes(QScrollArea):
    """All lanes, one below the other; of many, those that are looked at are made first."""

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._session, self._thumbnails = session, thumbnails
        self.pictures = SetPictures(session)
        self._slots: list[Lane | Room] = []
        self._high = CARD_HIGH + 72
        self._turn = QTimer(self, interval=0)
        self._turn.timeout.connect(self._go_on)
        self.picks = Picks()
        self.problems: dict[str, str] = {}
        self._shown = None
        self._in_view: str | None = None
        self.open: set[str] = set()
        self.setWidgetResizable(True)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        inner = QWidget()
        self._column = QVBoxLayout(inner)
        self._column.setContentsMargins(12, 12, 12, 12)
        self._column.setSpacing(10)
        self._column.addStretch(1)
        self.setWidget(inner)
        thumbnails.arrived.connect(self._arrived)
        self.pictures.arrived.connect(lambda _: self.show_pictures())

    @property
    def lanes(self) -> list[Lane]:
        """Those that show their set as it is."""
        return [slot for slot in self._slots if _stands(slot)]

    @property
    def settled(self) -> bool:
        return not self._turn.isActive() and self.pictures.settled

    def refresh(self) -> None:
        sets = self._session.project.sets
        if sets is not self._shown:
            self._shown = sets
            seen = self._seen()
            same = len(seen) == len(self._slots) and all(
                _stands(slot) and slot.take(s) for slot, (s, _) in zip(self._slots, seen, strict=True))
            if not same:
                self._rebuild()
        self.mark()
        self.show_pictures()

    def _seen(self) -> list[tuple[FrameSet, int]]:
        """The sets that have a lane now, with their depth: what is inside others only where these are unfolded."""
        out, hidden_below = [], None
        for one, depth in as_tree(self._session.project):
            if hidden_below is not None and depth > hidden_below:
                continue
            hidden_below = None if one.id in self.open else depth
            out.append((one, depth))
        return out

    def _unfold_to(self, set_id: str | None) -> None:
        """The set in hand has a lane: those that it is inside of are unfolded."""
        around: list[str] = []
        for one, depth in as_tree(self._session.project):
            around[depth:] = [one.id]
            if one.id == set_id:
                if not self.open.issuperset(around[:-1]):
                    self.open.update(around[:-1])
                    self._rebuild()
                return

    def unfold(self, set_id: str, on: bool) -> None:
        """Show what a set is made of, or not; what is folded with the set in hand in it is in hand itself then."""
        (self.open.add if on else self.open.discard)(set_id)
        if not on and self._session.set_id in nested_in(self._session.project, set_id):
            self._session.select_set(set_id)
        self._rebuild()
        self.mark()
        self.show_pictures()
        slot = next((x for x in self._slots if x.set_id == set_id), None)
        if on and slot is not None:
            # what came below it comes into view
            QTimer.singleShot(LAID_OUT_MS, slot, lambda: self.verticalScrollBar().setValue(slot.y() - 12))

    def show_pictures(self) -> None:
        """What is known of what each set will give."""
        ids = {s.id for s in self._session.project.sets}
        for lane in self.lanes:
            if lane.set_id in ids:
                lane.end.show_picture(self.pictures.of(lane.set_id), self.pictures.is_newest(lane.set_id))

    def mark(self) -> None:
        """Show which lane is in hand, and bring it into view when that has changed."""
        if self._in_view != self._session.set_id:
            self._unfold_to(self._session.set_id)
        for lane in self.lanes:
            active = lane.set_id == self._session.set_id
            lane.mark(active, self._session.frame_id, self.problems)
            if active and self._in_view != lane.set_id:
                self._in_view = lane.set_id
                QTimer.singleShot(0, self, self._bring_into_view)

    def _bring_into_view(self) -> None:
        lane = next((x for x in self.lanes if x.set_id == self._in_view), None)
        if lane is not None:
            self.ensureWidgetVisible(lane, 0, 12)

    def _rebuild(self) -> None:
        """Lanes that still show their set stay; in place of the others new ones are made, at once or some turns
        later.
        """
        old = {slot.set_id: slot for slot in self._slots}
        self._slots = []
        for n, (frame_set, depth) in enumerate(self._seen()):
            slot = old.pop(frame_set.id, None) or Room(frame_set.id, self._high)
            if isinstance(slot, Lane) and not slot.take(frame_set):
                slot.wait_for_another()
            self._stand(n, slot, depth)
        for slot in old.values():
            self._let_go(slot)
        self._make_some()

    def _stand(self, n: int, slot: Lane | Room, depth: int) -> None:
        if isinstance(slot, Lane):
            slot.fold.setChecked(slot.set_id in self.open)
            slot.set_depth(depth)
        self._column.insertWidget(n, slot)
        self._slots.insert(n, slot)

    def _let_go(self, slot: Lane | Room) -> None:
        """Later, since it may be what was just pressed."""
        focused = QApplication.focusWidget()
        if focused is not None and slot.isAncestorOf(focused):
            # else it would go on into another set's name, and the next key would write there
            self.setFocus()
        slot.hide()
        self._column.removeWidget(slot)
        slot.deleteLater()

    def _make_some(self) -> None:
        """New lanes for those that wait, for one turn: the set in hand, what is in view, the others."""
        begun = perf_counter()
        in_hand, depths = self._session.set_id, {s.id: depth for s, depth in self._seen()}
        waiting = [n for n, slot in enumerate(self._slots) if not _stands(slot)]
        waiting.sort(key=lambda n: (self._slots[n].set_id != in_hand, self._slots[n].visibleRegion().isEmpty()))
        while waiting:
            n = waiting.pop(0)
            before = self._slots.pop(n)
            lane = self._made(self._session.project.set(before.set_id))
            self._let_go(before)
            self._stand(n, lane, depths[lane.set_id])
            self._high = lane.sizeHint().height()
            if perf_counter() - begun > TURN_S:
                break
        (self._turn.start if waiting else self._turn.stop)()

    def _go_on(self) -> None:
        if self._session.project.sets is not self._shown:
            # what waits is of sets as they were; whoever comes to Gather next makes it anew
            self._turn.stop()
            return
        self._make_some()
        self.mark()
        self.show_pictures()

    def _made(self, frame_set: FrameSet) -> Lane:
        lane = Lane(self._session, frame_set, self._thumbnails, self.picks)
        theme.dress(lane)
        lane.picked.connect(self._pick)
        lane.moved_here.connect(self.move)
        lane.unfolded.connect(self.unfold)
        lane.take(frame_set)
        return lane

    def _pick(self, set_id: str, frame_id: str, modifiers) -> None:
        s = self._session
        self.picks.touch(frame_id, [f.id for f in s.project.set(set_id).frames], modifiers)
        s.select_set(set_id)
        s.select_frame(frame_id)
        self.mark()

    def move(self, ids: list[str], set_id: str, before: str | None) -> None:
        """Frames dropped on a lane."""
        s = self._session
        known = {f.id for x in s.project.sets for f in x.frames}
        wanted = [i for i in ids if i in known and i != before]
        if wanted:
            s.try_edit(lambda: edits.move_frames(s.project, wanted, set_id, before))

    def _arrived(self) -> None:
        for lane in self.lanes:
            for card in lane.cards:
                card.arrived()


def _stands(slot: Lane | Room) -> bool:
    return isinstance(slot, Lane) and not slot.outdated
