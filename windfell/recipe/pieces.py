"""Edits of a stack's pieces: what moves taken, left, its shadow brought along or not; the frame behind them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from windfell.recipe.areas import Found, Meets
from windfell.recipe.combining import Combining, Layer, Over, Rule
from windfell.recipe.edits import Edit
from windfell.recipe.model import FrameSet, Project
from windfell.recipe.pile import frame_alone


def mask_of(layer: Layer) -> str | None:
    """The name of the mask within which a piece holds; None for a layer that is no piece."""
    if len(layer.frames) != 1 or layer.area is None or layer.rule is Rule.MEDIAN:
        return None
    return next((p.name for p in layer.area.parts if isinstance(p, Found)), None)


def base_of(own: FrameSet) -> str | None:
    """The frame (id) that lies behind all pieces, instead of the rule's picture."""
    lowest = next(iter(own.combining.layers), None)
    if lowest is not None and len(lowest.frames) == 1 and lowest == Layer(frames=lowest.frames, name=lowest.name):
        return lowest.frames[0]
    return None


def whole_ground(project: Project, set_id: str) -> Project:
    """The project with the set's picture neither cropped nor turned nor bent."""
    own = project.set(set_id)
    outline = replace(own.outline, crop=None, ratio=None, lines=())
    return project.with_set(replace(own, outline=outline, view=replace(own.view, roll_deg=0.0)))


def without_layers(project: Project, set_id: str) -> Project:
    """The project with the lowest layer of the set alone, on its whole ground."""
    own = whole_ground(project, set_id).set(set_id)
    return project.with_set(replace(own, combining=replace(own.combining, layers=())))


def _edit(own: FrameSet, project: Project, words: str, layers: Sequence[Layer]) -> Edit:
    combining: Combining = replace(own.combining, layers=tuple(layers))
    return Edit(words, project.with_set(replace(own, combining=combining)))


def take(project: Project, set_id: str, pieces: Sequence[Layer]) -> Edit:
    """The pieces on top, in their order."""
    own = project.set(set_id)
    words = f"take {pieces[0].name}" if len(pieces) == 1 else f"take {len(pieces)} pieces"
    return _edit(own, project, words, (*own.combining.layers, *pieces))


def leave(project: Project, set_id: str, masks: Collection[str], words: str = "") -> Edit:
    """Without the pieces that hold within these masks (names)."""
    own = project.set(set_id)
    gone = [layer for layer in own.combining.layers if mask_of(layer) in masks]
    said = words or (f"leave {gone[0].name}" if len(gone) == 1 else f"leave {len(gone)} pieces")
    return _edit(own, project, said, [x for x in own.combining.layers if mask_of(x) not in masks])


def swap(project: Project, set_id: str, old: Collection[str], pieces: Sequence[Layer], words: str) -> Edit:
    """Other pieces in the place of those that hold within `old`."""
    own = project.set(set_id)
    return _edit(own, project, words, (*(x for x in own.combining.layers if mask_of(x) not in old), *pieces))


def reshaped(project: Project, set_id: str, shadows: Mapping[str, str | None], words: str, merge: str | None = None
             ) -> Edit:
    """The pieces that hold within masks (names) with other masks of their shadows, or none; all else stays."""
    own = project.set(set_id)

    def made(layer: Layer) -> Layer:
        name = mask_of(layer)
        if name not in shadows:
            return layer
        first = next(p for p in layer.area.parts if isinstance(p, Found))
        shadow = () if shadows[name] is None else (Found(shadows[name]),)
        rest = [p for p in layer.area.parts if p != first and not (isinstance(p, Found) and p.meets is Meets.ADD)]
        return replace(layer, area=replace(layer.area, parts=(first, *shadow, *rest)))

    return replace(_edit(own, project, words, [made(x) for x in own.combining.layers]), merge=merge)


def parted(project: Project, set_id: str, sides: Mapping[str, str], words: str) -> Edit:
    """The pieces that hold within masks (names) only where another mask says."""
    own = project.set(set_id)

    def made(layer: Layer) -> Layer:
        name = mask_of(layer)
        if name not in sides:
            return layer
        side = Found(sides[name], meets=Meets.BOTH)
        return replace(layer, area=replace(layer.area, parts=(*layer.area.parts, side)))

    return _edit(own, project, words, [made(x) for x in own.combining.layers])


def before_other(project: Project, set_id: str, front: str, back: str, words: str) -> Edit:
    """The piece that holds within mask `front` right above that within `back`."""
    own = project.set(set_id)
    moved = [x for x in own.combining.layers if mask_of(x) == front]
    layers = [x for x in own.combining.layers if mask_of(x) != front]
    at = next((n + 1 for n, x in enumerate(layers) if mask_of(x) == back), len(layers))
    return _edit(own, project, words, [*layers[:at], *moved, *layers[at:]])


def is_ground(layer: Layer) -> bool:
    """Whether it shows the ground where the plate has something standing."""
    return layer.rule is Rule.MEDIAN and layer.area is not None and any(
        isinstance(p, Found) for p in layer.area.parts)


def with_ground(project: Project, set_id: str, gone: Collection[str], ground: Sequence[Layer], words: str) -> Edit:
    """Layers of ground below all pieces, in the place of those within the masks `gone`."""
    own = project.set(set_id)
    layers = [x for x in own.combining.layers if not (is_ground(x) and set(x.area.masks) & set(gone))]
    at = next((n for n, x in enumerate(layers) if mask_of(x)), len(layers))
    return _edit(own, project, words, [*layers[:at], *ground, *layers[at:]])


def seen_as(project: Project, set_id: str, what: str) -> Project:
    """The project whose picture of the set, on its whole ground, is what is asked for: "result", "plate", the picture
    without pieces, or a frame (id) in its place.
    """
    whole = whole_ground(project, set_id)
    if what == "result":
        return whole
    if what != "plate":
        return frame_alone(whole, set_id, what)
    own = whole.set(set_id)
    layers = tuple(x for x in own.combining.layers if mask_of(x) is None)
    return whole.with_set(replace(own, combining=replace(own.combining, layers=layers)))


def put_behind(project: Project, set_id: str, base: str | None) -> Edit:
    """Frame `base` (id) behind all pieces; None: the picture of the rule, the clean plate."""
    own = project.set(set_id)
    layers = own.combining.layers[1:] if base_of(own) else own.combining.layers
    if base is None:
        return _edit(own, project, "the clean plate behind", layers)
    number = own.number_of(base)
    lowest = Layer(frames=(base,), name=f"base: frame {number}", over=Over.REPLACE)
    return _edit(own, project, f"frame {number} behind", (lowest, *layers))


def to_end(project: Project, set_id: str, mask: str, front: bool) -> Edit:
    """The piece that holds within a mask in front of, or behind, all other pieces."""
    own = project.set(set_id)
    layers = [x for x in own.combining.layers if mask_of(x) != mask]
    moved = [x for x in own.combining.layers if mask_of(x) == mask]
    at = len(layers) if front else next((n for n, x in enumerate(layers) if mask_of(x)), len(layers))
    words = f"{moved[0].name if moved else 'piece'} {'in front' if front else 'behind'}"
    return _edit(own, project, words, [*layers[:at], *moved, *layers[at:]])
