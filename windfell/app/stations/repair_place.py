"""The place of the repair in hand, by drag: moved as a piece, and by the ring's handles turned and sized."""

from __future__ import annotations

from collections.abc import Callable

from windfell.app.area_hand import AreaHand
from windfell.app.picture.view import PictureView
from windfell.app.session import Session
from windfell.app.stations.placing import Placing, grown, turned_on
from windfell.engine.area_pictures import share_at
from windfell.engine.moved_repairs import moved_repair
from windfell.job import Job
from windfell.recipe import mending
from windfell.recipe.repairs import Mend, Repair


class RepairPlace(Placing):
    """`chosen` says which repair is in hand, None for none."""

    def __init__(self, session: Session, view: PictureView, hand: AreaHand, chosen: Callable[[], int | None]) -> None:
        super().__init__(view, hand, "Drag the repair to another place, with Shift where it takes from; the ring's "
                                     "handles turn and size what is cloned or healed")
        self.session, self._chosen = session, chosen
        # what is dragged: the repair as it was when pressed, whether just its source goes, whether nothing went yet
        self._begun, self._source, self._first = Repair(Mend.FILL), False, True

    @property
    def repair(self) -> Repair | None:
        own, n = self.session.frame_set, self._chosen()
        return None if own is None or n is None else own.repairs[n]

    def refresh(self) -> None:
        """The ring stands about what a clone or heal shows first; other repairs have none."""
        repair, s = self.repair, self.session
        self.button.setEnabled(repair is not None and repair.way is not Mend.GROW)
        if not self.held or not self.button.isEnabled():
            self.put_away()
            return
        self.tool.angle = repair.turn_deg
        project = self.hand.picture_of(s.project)
        own = project.set(s.set_id)
        state = own.id, self._chosen(), repair.to, repair.source, own.view, own.outline, own.registration
        if state == self._shown:
            self._view.update()
            return
        self._shown = state
        if repair.to is None or repair.way not in mending.FROM_ELSEWHERE:
            self.tool.stand(None)
            self._view.update()
            return
        engine, set_id = s.engine, s.set_id

        def spots(job: Job) -> list[tuple[float, float]]:
            stages = engine.stages(project, set_id)
            return [share_at(stages, p, job) for p in (repair.to, repair.source)]

        def done(shares: list[tuple[float, float]]) -> None:
            self.tool.stand(*shares)
            self._view.update()

        s.desk.follow("repair middle", spots, done, lambda _: None, None, True)

    def _begin(self, starts: bool) -> None:
        if starts:
            self._begun, self._source, self._first = self.repair, self.tool.shift, True

    def _moved(self, right: float, down: float, starts: bool) -> None:
        if self.repair is None:
            return
        self._begin(starts)
        s, n, begun, source, at = self.session, self._chosen(), self._begun, self._source, self.tool.start
        engine, project, set_id = s.engine, self.hand.picture_of(s.project), s.set_id
        start, end = (at.x(), at.y()), (at.x() + right, at.y() + down)

        def work(job: Job) -> Repair:
            return moved_repair(engine.stages(project, set_id), begun, start, end, job, source)

        def done(moved: Repair) -> None:
            there = s.frame_set.repairs if s.set_id == set_id else ()
            if n < len(there) and there[n].way is begun.way and there[n] != moved:
                s.edit(mending.place_repair(s.project, set_id, n, moved), self._first)
                self._first = False

        s.desk.follow("repair moved", work, done, lambda words: s.say(words, "wrong"), None, True)

    def _turned(self, degrees: float, starts: bool) -> None:
        if self.repair is not None:
            self._begin(starts)
            self._shape("turn_deg", turned_on(self._begun.turn_deg, degrees), starts)

    def _sized(self, factor: float, starts: bool) -> None:
        if self.repair is not None:
            self._begin(starts)
            self._shape("size_pct", grown(Repair, self._begun.size_pct, factor), starts)

    def _shape(self, name: str, value: float, starts: bool) -> None:
        s, n = self.session, self._chosen()
        s.edit(mending.shape_repair(s.project, s.set_id, n, name, value), starts)
