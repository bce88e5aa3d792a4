"""The place of Combine's layer in hand, by drag: moved, and by the ring's handles turned and sized."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from windfell.app.area_hand import AreaHand
from windfell.app.session import Session
from windfell.app.stations.placing import Placing, grown, turned_on
from windfell.engine.area_pictures import share_at
from windfell.job import Job
from windfell.recipe import pile
from windfell.recipe.combining import Layer


class LayerPlace(Placing):
    """`chosen` says which layer is in hand, counted from the lowest."""

    def __init__(self, session: Session, hand: AreaHand, chosen: Callable[[], int | None]) -> None:
        super().__init__(hand.view, hand, "Drag the layer on the picture to its place; the ring's handles turn and "
                                          "size it")
        self.session, self._chosen = session, chosen
        self._begun = Layer()

    @property
    def layer(self) -> Layer | None:
        own, n = self.session.frame_set, self._chosen()
        return None if own is None or n is None else own.combining.layers[n]

    def refresh(self) -> None:
        """The ring stands about the layer's middle."""
        layer, s = self.layer, self.session
        if layer is None or not self.held:
            self.put_away()
            return
        self.tool.angle = layer.turn_deg
        own = s.frame_set
        state = own.id, self._chosen(), layer.right_px, layer.down_px, own.view, own.outline
        if state == self._shown:
            self._view.update()
            return
        self._shown = state
        engine, project, set_id = s.engine, s.project, s.set_id

        def middle(job: Job) -> tuple[float, float]:
            stages = engine.stages(project, set_id)
            wide, high = stages.whole_size(job)
            return share_at(stages, ((wide - 1) / 2 + layer.right_px, (high - 1) / 2 + layer.down_px), job)

        def done(share: tuple[float, float]) -> None:
            self.tool.stand(share)
            self._view.update()

        s.desk.follow("layer middle", middle, done, lambda _: None, None, True)

    def _change(self, words: str, starts: bool, **values: float) -> None:
        n, s = self._chosen(), self.session
        edit = pile.change_layer(s.project, s.set_id, n, values)
        s.edit(replace(edit, words=f"layer {n + 1}: {words}"), starts)

    def _moved(self, right: float, down: float, starts: bool) -> None:
        layer, shown = self.layer, self._view.source.shown
        if layer is None or shown is None:
            return
        if starts:
            self._begun = layer
        self._change("moved to its place", starts, right_px=round(self._begun.right_px + right * shown.width, 1),
                     down_px=round(self._begun.down_px + down * shown.height, 1))

    def _turned(self, degrees: float, starts: bool) -> None:
        if self.layer is None:
            return
        if starts:
            self._begun = self.layer
        turn = turned_on(self._begun.turn_deg, degrees)
        self._change(f"turn to {turn:g}°", starts, turn_deg=turn)

    def _sized(self, factor: float, starts: bool) -> None:
        if self.layer is None:
            return
        if starts:
            self._begun = self.layer
        size = grown(Layer, self._begun.size_pct, factor)
        self._change(f"size to {size:g} %", starts, size_pct=size)
