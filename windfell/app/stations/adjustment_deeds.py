"""What is done with the list of a finish: adjustments added, left out, moved, switched, their values changed."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QListWidgetItem

from windfell.app.session import Session
from windfell.finish.histogram import modest_light
from windfell.finish.kinds import KINDS
from windfell.job import Job
from windfell.recipe import adjusting
from windfell.recipe import finishing as f
from windfell.recipe.areas import Area

SMALL = 256
DODGE_EV, DODGE_PCT = 1.0, 8.0


class AdjustmentDeeds:
    """Edits of a station's adjustments; it tells which is in hand."""

    def __init__(self, session: Session, station: Any) -> None:
        self._session, self._of = session, station

    def add_kind(self, kind: type) -> None:
        """One adjustment more; dodging begins with a brush of few per cent in hand."""
        s, dodge = self._session, kind is f.Dodge
        values = f.Dodge(middle_ev=DODGE_EV) if dodge else kind()
        s.edit(adjusting.add(s.project, s.set_id, values, KINDS[kind].title, Area() if dodge else None), True)
        if dodge:
            self._of.take_area()
            self._of.hand.bar.strength._line._move_to(DODGE_PCT)

    def remove(self) -> None:
        s, n = self._session, self._of.chosen
        if n is not None:
            s.edit(adjusting.remove(s.project, s.set_id, n), True)

    def duplicate(self) -> None:
        s, n = self._session, self._of.chosen
        if n is not None:
            s.edit(adjusting.duplicate(s.project, s.set_id, n), True)
            self._of.list.setCurrentRow(n + 1)

    def move(self, old: int, new: int) -> None:
        s = self._session
        s.edit(adjusting.move(s.project, s.set_id, old, new), True)
        self._of.list.setCurrentRow(new)

    def switch(self, item: QListWidgetItem) -> None:
        s, n = self._session, self._of.list.row(item)
        on = item.checkState() == Qt.CheckState.Checked
        if n < len(self._of.adjustments) and self._of.adjustments[n].on != on:
            words = f"{self._of.adjustments[n].name or 'adjustment'} {'on' if on else 'off'}"
            s.edit(adjusting.set_part(s.project, s.set_id, n, words, on=on), True)

    def toggle_all(self) -> None:
        """The whole list on or off."""
        s = self._session
        s.edit(adjusting.set_all(s.project, s.set_id, not s.frame_set.finish.on), True)

    def change(self, field: str, value: object, first: bool) -> None:
        s, n = self._session, self._of.chosen
        if n is not None:
            s.edit(adjusting.change(s.project, s.set_id, n, field, value), first)

    def change_band(self, field: str, band: int, value: float, first: bool) -> None:
        s, n = self._session, self._of.chosen
        if n is not None:
            s.edit(adjusting.change_band(s.project, s.set_id, n, field, band, value), first)

    def change_strength(self, value: float, first: bool) -> None:
        s, n = self._session, self._of.chosen
        if n is not None:
            s.edit(adjusting.set_part(s.project, s.set_id, n, "strength", f"strength {n}", strength_pct=value), first)

    def use_auto(self) -> None:
        """Values by what the picture shows without the adjustment in hand."""
        s, n = self._session, self._of.chosen
        if n is None:
            return
        own, engine, set_id = s.frame_set, s.engine, s.set_id
        before = s.project.with_set(replace(own, finish=replace(own.finish, adjustments=self._of.adjustments[:n])))

        def look(job: Job) -> f.Light:
            size = engine.size(before, set_id, job)
            picture = engine.picture(before, set_id, min(1.0, SMALL / max(size)), job)
            return modest_light(picture.light[picture.covered][None])

        def done(found: f.Light) -> None:
            if s.set_id != set_id or n >= len(self._of.adjustments):
                return
            now = self._of.adjustments[n].values
            if isinstance(now, f.Light):
                values = replace(now, exposure_ev=found.exposure_ev, white_pct=found.white_pct,
                                 black_pct=found.black_pct)
                s.edit(adjusting.use_values(s.project, set_id, n, values, "auto light"), True)

        s.desk.ask("auto light", look, done, lambda words: s.say(words, "wrong"))
