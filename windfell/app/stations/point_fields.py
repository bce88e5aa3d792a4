"""The fields under the list of control points: a point's weight, and how far off a point may be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from windfell.app.session import Session
from windfell.app.widgets.pair_page import PointsBoard
from windfell.app.widgets.point_list import Row
from windfell.app.widgets.typed import typed_number
from windfell.recipe import edits


class PointFields:
    """What the fields show of the recipe, and what is typed into them.

    `chosen` gives the chosen row or None; `refused` is called when something typed is no answer.
    """

    def __init__(
        self, session: Session, board: PointsBoard, chosen: Callable[[], Row | None], refused: Callable[[], None]
    ) -> None:
        self._session, self._chosen, self._refused = session, chosen, refused
        self.weight, self.limit = board.weight, board.limit
        self.weight.editingFinished.connect(self._weight_typed)
        self.limit.editingFinished.connect(self._limit_typed)

    def show_limit(self) -> None:
        limit = self._session.frame_set.registration.worst_px
        if not self.limit.hasFocus():
            self.limit.setText("" if limit is None else f"{limit:g}")

    def show_weight(self) -> None:
        """The chosen point's, if it was made by hand: a found one has none."""
        r = self._chosen()
        by_hand = r is not None and r.by_hand is not None
        self.weight.setEnabled(by_hand)
        self.weight.setPlaceholderText("" if by_hand else "–")
        if by_hand and not self.weight.hasFocus():
            self.weight.setText(f"{self._session.frame_set.registration.points[r.by_hand].weight:g}")
        elif not by_hand:
            self.weight.setText("")

    def _weight_typed(self) -> None:
        r = self._chosen()
        if r is None or r.by_hand is None:
            return
        value = self._number(self.weight.text(), 0.01, 100.0, "a weight from 0.01 to 100")
        if value is not None:
            s = self._session
            points = list(s.frame_set.registration.points)
            if points[r.by_hand].weight != value:
                points[r.by_hand] = replace(points[r.by_hand], weight=value)
                s.edit(edits.set_points(s.project, s.set_id, points, f"weight of a point to {value:g}"), True)

    def _limit_typed(self) -> None:
        text = self.limit.text().strip().lower()
        if text in ("", "none"):
            self._session.change("registration.worst_px", None, True)
            return
        value = self._number(text, 0.01, 1000.0, "a number of px from 0.01 up")
        if value is not None:
            self._session.change("registration.worst_px", value, True)

    def _number(self, text: str, low: float, high: float, what: str) -> float | None:
        value = typed_number(text, "px")
        if value is not None and low <= value <= high:
            return value
        self._session.say(f"{text}: not {what}.", "wrong")
        self._refused()
        return None
