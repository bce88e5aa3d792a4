"""What is in hand at a station, placed on the picture by a drag and by a ring's handles."""

from __future__ import annotations

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QPushButton

from windfell.app.area_hand import AreaHand
from windfell.app.picture.place_tool import PlaceTool
from windfell.app.picture.view import PictureView
from windfell.recipe.limits import limits_of


class Placing(QObject):
    """Base: `button` takes the `tool` in hand, whose drags are `_moved`, `_turned` and `_sized`. `_shown` is what the
    ring stands for; None to find its place anew.
    """

    def __init__(self, view: PictureView, hand: AreaHand, tip: str) -> None:
        super().__init__()
        self._view, self.hand = view, hand
        self.button = QPushButton("Place", checkable=True)
        self.button.setToolTip(tip)
        self.button.clicked.connect(self._take)
        self.tool = PlaceTool()
        self.tool.moved.connect(self._moved)
        self.tool.turned.connect(self._turned)
        self.tool.sized.connect(self._sized)
        self._shown: tuple | None = None
        view.handed.connect(lambda: self.button.setChecked(self.held))

    @property
    def held(self) -> bool:
        return self._view.in_hand is self.tool

    def refresh(self) -> None:
        """Stand the ring where it belongs now."""
        raise NotImplementedError

    def put_away(self) -> None:
        """No longer in hand."""
        self._shown = None
        if self.held:
            self._view.take_tool(None)

    def _take(self, on: bool) -> None:
        self.hand.put_away()
        self._shown = None
        self.tool.stand(None)
        self._view.take_tool(self.tool if on else None)
        self.refresh()

    def _moved(self, right: float, down: float, starts: bool) -> None:
        raise NotImplementedError

    def _turned(self, degrees: float, starts: bool) -> None:
        raise NotImplementedError

    def _sized(self, factor: float, starts: bool) -> None:
        raise NotImplementedError


def turned_on(turn_deg: float, degrees: float) -> float:
    """A turn turned on, -180 to 180."""
    return round((turn_deg + degrees + 180) % 360 - 180, 2)


def grown(of: type, size_pct: float, factor: float) -> float:
    """A size times a factor, within the limits that a class of the recipe has for it."""
    limits = limits_of(of, "size_pct")
    return round(min(max(size_pct * factor, limits["low"]), limits["high"]), 2)
