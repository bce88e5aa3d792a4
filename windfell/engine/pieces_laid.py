"""Movers laid as pieces into a stack's pile: each a layer of one frame within its matte."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from windfell.combine.meeting import as_layer_light
from windfell.engine.stack_subjects import Mover, Subjects, spread_over
from windfell.pixels.tiles import scaled_size
from windfell.recipe.areas import Area, Found
from windfell.recipe.combining import Layer, Rule
from windfell.recipe.model import FrameSet
from windfell.recipe.project_file import Masks, mask_name
from windfell.subjects.standing import Standing
from windfell.subjects.suggesting import Suggest, chosen


def piece_mask(mover: Mover, shadow: bool) -> np.ndarray:
    """Where a mover holds, uint8, over the whole ground, at the size at which it was found."""
    size = scaled_size(mover.ground, mover.scale)
    return mover.whole_over(size) if shadow else mover.body_over(size)


def piece_layer(own: FrameSet, mover: Mover, shadow: bool, beside: Sequence[float] = (1, 1, 1),
                reach: float | None = None) -> tuple[Layer, Masks]:
    """The layer of a mover, its light matched to the background's (`beside`: what brings that to the plate), and the
    masks that the layer names: of the thing and, with its `shadow`, of that, as far as `reach` px of the ground.
    """
    size = scaled_size(mover.ground, mover.scale)
    cast = shadow_mask(mover, reach) if shadow else None
    masks = [mover.body_over(size)] if cast is None else [mover.body_over(size), cast]
    ev, warmth, tint = as_layer_light(tuple(g / b for g, b in zip(mover.gain, beside, strict=True)))
    name = f"mover {1 + mover.track} of frame {own.numbers[mover.frame]}"
    layer = Layer(frames=(own.used[mover.frame].id,), name=name, area=Area(tuple(Found(mask_name(m)) for m in masks)),
                  exposure_ev=ev, warmth=warmth, tint=tint)
    return layer, {mask_name(m): m for m in masks}


def shadow_mask(mover: Mover, reach: float | None = None) -> np.ndarray | None:
    """Where its shadow holds, as far as `reach` px of the ground, uint8 over all of that; None where it has none."""
    size = scaled_size(mover.ground, mover.scale)
    cast = mover.shadow_over(size) if reach is None else mover.shadow_within(size, reach)
    return cast if cast.any() else None


def ground_layer(own: FrameSet, found: Subjects, place: Standing, choice: int = 0) -> tuple[Layer, Masks]:
    """The layer of what is the ground where the middle of all frames shows something else, or one choice of several;
    and its mask.
    """
    frames = place.seen[choice].frames
    mask = spread_over(place.mask, place.box, scaled_size(found.size, found.scale), 1.0)
    ev, warmth, tint = as_layer_light(tuple(float(v) for v in np.median([found.gain_of(n) for n in frames], axis=0)))
    words = ", ".join(str(n + 1) for n in frames)
    name = f"ground by frame{'s' if len(frames) > 1 else ''} {words}"
    layer = Layer(Rule.MEDIAN, tuple(own.used[n].id for n in frames), name, area=Area((Found(mask_name(mask)),)),
                  exposure_ev=ev, warmth=warmth, tint=tint)
    return layer, {mask_name(mask): mask}


def with_pieces(own: FrameSet, found: Subjects, chosen: Iterable[int], shadows: bool, base: int | None = None
                ) -> tuple[FrameSet, Masks]:
    """The set with the chosen movers, by index, over the clean plate, or over used frame `base`; and their masks.

    The pieces lie above all other layers, in the order of their frames.
    """
    layers, masks = list(own.combining.layers), {}
    beside = (1.0, 1.0, 1.0)
    if base is not None:
        layers.append(Layer(frames=(own.used[base].id,), name=f"base: frame {own.numbers[base]}"))
        gains = [m.gain for m in found.movers if m.frame == base]
        beside = tuple(float(v) for v in np.median(gains, axis=0)) if gains else found.gain_of(base)
    else:
        for place in found.standing:
            if place.sure:
                layer, own_masks = ground_layer(own, found, place)
                layers.append(layer)
                masks.update(own_masks)
    for n in sorted(chosen):
        mover = found.movers[n]
        if mover.frame == base:
            continue  # it is seen there already
        layer, own_masks = piece_layer(own, mover, shadows, beside)
        layers.append(layer)
        masks.update(own_masks)
    return replace(own, combining=replace(own.combining, layers=tuple(layers))), masks


def suggested(found: Subjects, among: Sequence[int], base: int | None = None, shadows: bool = True,
              way: Suggest = Suggest.MOST, number: float = 1.0) -> list[int]:
    """Movers, by index, that can stand together: those of the base first, which are seen anyhow."""
    seen = [i for i in among if found.movers[i].frame == base]
    taken = {j for i in seen for j in found.conflicts_of(i, shadows)}
    left = [i for i in among if i not in seen and i not in taken]
    at = {i: k for k, i in enumerate(left)}
    conflicts = [[at[j] for j in found.conflicts_of(i, shadows) if j in at] for i in left]
    if not left:
        return sorted(seen)
    own = [found.movers[i] for i in left]
    middles = np.array([np.array(m.piece.middle) / m.scale for m in own])
    picked = chosen(way, number, [m.track for m in own], [m.frame for m in own], middles,
                    float(np.hypot(*found.size)), conflicts)
    return sorted(seen + [left[k] for k in picked])

