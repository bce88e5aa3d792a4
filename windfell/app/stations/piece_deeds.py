"""What is done with a stack's pieces: taken, left, their shadows, their order, what lies behind them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from windfell.app.session import Session
from windfell.app.stations.subjects_words import names_of
from windfell.engine.cut_between import sides_of
from windfell.engine.pieces_laid import ground_layer, piece_layer, shadow_mask, suggested
from windfell.recipe import edits, pieces
from windfell.recipe.project_file import mask_name


class PieceDeeds:
    """Edits of the pieces of a station's shelf; it tells what is found, offered and taken."""

    def __init__(self, session: Session, station: Any) -> None:
        self.session, self._of = session, station

    def _layers(self, some: Sequence[int]) -> list:
        s, own, out = self.session, self.session.frame_set, []
        for n in some:
            mover = self._of.shelf.found.movers[n]
            layer, masks = piece_layer(own, mover, self._of.with_shadows, reach=self._reach(mover))
            s.engine.masks.update(masks)
            out.append(layer)
        return out

    def _reach(self, mover) -> float | None:
        share = self._of.controls_of.reach_share
        return None if share is None else share * mover.body_box[3]

    def _masks(self, some: Sequence[int]) -> set[str]:
        return {self._of.shelf.shown[n].mask for n in some}

    def turn(self, n: int) -> None:
        """Take a piece, or leave it."""
        s = self.session
        if n in self._of.taken:
            s.edit(pieces.leave(s.project, s.set_id, self._masks([n])), True)
        else:
            s.edit(pieces.take(s.project, s.set_id, self._layers([n])), True)

    def _set(self, some: Sequence[int], words: str) -> None:
        """Just these of what is offered; those that were taken already stay as they are."""
        s, taken = self.session, set(self._of.taken)
        gone = [n for n in self._of.offered if n in taken and n not in some]
        more = self._layers([n for n in some if n not in taken])
        if gone or more:
            s.edit(pieces.swap(s.project, s.set_id, self._masks(gone), more, words), True)

    def take_suggested(self) -> None:
        """Pieces that stand together, by the way that is chosen."""
        c = self._of.controls_of
        chosen = suggested(self._of.shelf.found, self._of.offered, None, self._of.with_shadows, c.suggested, c.number)
        self._set(chosen, f"take the {len(chosen)} suggested")

    def take_all(self) -> None:
        self._set(self._of.offered, f"take all {len(self._of.offered)} pieces")

    def leave_all(self) -> None:
        if self._of.taken:
            self._set((), "leave all pieces")

    def shadows_changed(self, what: str, first: bool) -> None:
        """Taken pieces get their shadows, lose them, or as much of them as the ruler says."""
        s, shadows = self.session, {}
        for n in self._of.taken:
            mover = self._of.shelf.found.movers[n]
            mask = shadow_mask(mover, self._reach(mover)) if self._of.with_shadows else None
            name = None if mask is None else mask_name(mask)
            if name is not None:
                s.engine.masks[name] = mask
            shadows[self._of.shelf.shown[n].mask] = name
        if shadows:
            words = "pieces without shadows" if not self._of.with_shadows else (
                "pieces with their shadows" if what == "shadows" else "reach of shadows")
            merge = "reach of shadows" if what == "reach" else None
            s.edit(pieces.reshaped(s.project, s.set_id, shadows, words, merge), first)
        else:
            self._of.show()

    def solve(self, deed: str, one: int, other: int) -> None:
        """What two taken pieces share is given to one by order, parted by a line, or one of them is left."""
        s = self.session
        masks = [self._of.shelf.shown[n].mask for n in (one, other)]
        names = [names_of(self._of.shelf.found.movers, [n], s.frame_set.numbers) for n in (one, other)]
        if deed in ("first", "second"):
            front = int(deed == "second")
            s.edit(pieces.before_other(s.project, s.set_id, masks[front], masks[1 - front],
                                       f"{names[front]} in front of {names[1 - front]}"), True)
        elif deed.startswith("drop"):
            s.edit(pieces.leave(s.project, s.set_id, {masks[int(deed == "drop second")]}), True)
        else:
            self._cut_between(one, other, masks, " and ".join(names))

    def _cut_between(self, one: int, other: int, masks: Sequence[str], names: str) -> None:
        s, set_id = self.session, self.session.set_id
        ground, engine = pieces.without_layers(s.project, set_id), s.engine
        movers = [self._of.shelf.found.movers[n] for n in (one, other)]

        def done(sides) -> None:
            if s.set_id != set_id or not {one, other} <= set(self._of.taken):
                return
            named = {mask: mask_name(side) for mask, side in zip(masks, sides, strict=True)}
            engine.masks.update({mask_name(side): side for side in sides})
            s.edit(pieces.parted(s.project, set_id, named, f"cut between {names}"), True)

        s.desk.ask("cut between", lambda job: sides_of(engine.stages(ground, set_id), *movers, job), done,
                   lambda words: s.say(words, "wrong"))

    def ground_masks(self) -> dict[int, str]:
        """Of each place where something stands for long the name of its mask."""
        own, found = self.session.frame_set, self._of.shelf.found
        return {n: ground_layer(own, found, place)[0].area.masks[0] for n, place in enumerate(found.standing)}

    def unmended(self) -> list[int]:
        """Places, by index, where the plate surely shows what stands there, and nothing was laid over it yet."""
        if self._of.shelf is None or not self._of.shelf.found.standing:
            return []
        laid = {m for x in self.session.frame_set.combining.layers if pieces.is_ground(x) for m in x.area.masks}
        return [n for n, mask in self.ground_masks().items()
                if self._of.shelf.found.standing[n].sure and mask not in laid]

    def mend_plate(self) -> None:
        """The ground over all that surely is not."""
        s, own, layers = self.session, self.session.frame_set, []
        for n in self.unmended():
            layer, masks = ground_layer(own, self._of.shelf.found, self._of.shelf.found.standing[n])
            s.engine.masks.update(masks)
            layers.append(layer)
        if layers:
            s.edit(pieces.with_ground(s.project, s.set_id, (), layers, f"mend the plate at {len(layers)}"), True)

    def choose_ground(self, n: int) -> None:
        """The next of what is seen at a place; after the last one what the plate shows."""
        s, own, place = self.session, self.session.frame_set, self._of.shelf.found.standing[n]
        choices = [ground_layer(own, self._of.shelf.found, place, k) for k in range(len(place.seen))]
        mask = choices[0][0].area.masks[0]
        now = next((x.frames for x in own.combining.layers if pieces.is_ground(x) and mask in x.area.masks), None)
        at = next((k + 1 for k, (layer, _) in enumerate(choices) if layer.frames == now), 0)
        if at == len(choices):
            s.edit(pieces.with_ground(s.project, s.set_id, {mask}, (), "the ground as the plate has it"), True)
            return
        layer, masks = choices[at]
        s.engine.masks.update(masks)
        s.edit(pieces.with_ground(s.project, s.set_id, {mask}, (layer,), layer.name), True)

    def put_behind(self, base: str | None) -> None:
        """What is seen behind the pieces: a frame (id), or the rule's picture."""
        s = self.session
        if base != pieces.base_of(s.frame_set):
            s.edit(pieces.put_behind(s.project, s.set_id, base), True)

    def to_end(self, front: bool) -> None:
        s, n = self.session, self._of.view.in_hand
        at = self._of.layer_of(n)
        if at is not None:
            mask = pieces.mask_of(s.frame_set.combining.layers[at])
            s.edit(pieces.to_end(s.project, s.set_id, mask, front), True)

    def drop_frames(self) -> None:
        """Keep aside the frames whose light changed, or in which the boxed one is lost; all is looked for anew."""
        s, own = self.session, self.session.frame_set
        lost = self._of.boxed.lost if self._of.boxed is not None else ()
        ids = [own.used[n].id for n in {n for n, _ in self._of.shelf.found.dropped} | set(lost)]
        s.edit(edits.switch_frames(s.project, s.set_id, ids, False), True)
