"""Movers laid as pieces into a stack's pile: each a layer of one frame within its matte."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from windfell.combine.meeting import as_layer_light
from windfell.engine.stack_subjects import Mover, Subjects
from windfell.pixels.tiles import scaled_size
from windfell.recipe.areas import Area, Found
from windfell.recipe.combining import Layer
from windfell.recipe.model import FrameSet
from windfell.recipe.project_file import Masks, mask_name
from windfell.subjects.conflicts import together


def piece_mask(mover: Mover, shadow: bool) -> np.ndarray:
    """Where a mover holds, uint8, over the whole ground, at the size at which it was found."""
    size = scaled_size(mover.ground, mover.scale)
    return mover.whole_over(size) if shadow else mover.body_over(size)


def piece_layer(own: FrameSet, mover: Mover, shadow: bool, beside: Sequence[float] = (1, 1, 1)
                ) -> tuple[Layer, np.ndarray]:
    """The layer of a mover, its light matched to the background's (`beside`: what brings that to the plate), and its
    mask, which the layer names.
    """
    mask = piece_mask(mover, shadow)
    ev, warmth, tint = as_layer_light(tuple(g / b for g, b in zip(mover.gain, beside, strict=True)))
    name = f"mover {1 + mover.track} of frame {1 + mover.frame}"
    layer = Layer(frames=(own.used[mover.frame].id,), name=name, area=Area((Found(mask_name(mask)),)), exposure_ev=ev,
                  warmth=warmth, tint=tint)
    return layer, mask


def with_pieces(own: FrameSet, found: Subjects, chosen: Iterable[int], shadows: bool, base: int | None = None
                ) -> tuple[FrameSet, Masks]:
    """The set with the chosen movers, by index, over the clean plate, or over used frame `base`; and their masks.

    The pieces lie above all other layers, in the order of their frames.
    """
    layers, masks = list(own.combining.layers), {}
    beside = (1.0, 1.0, 1.0)
    if base is not None:
        layers.append(Layer(frames=(own.used[base].id,), name=f"base: frame {1 + base}"))
        gains = [m.gain for m in found.movers if m.frame == base]
        beside = tuple(float(v) for v in np.median(gains, axis=0)) if gains else found.gain_of(base)
    for n in sorted(chosen):
        mover = found.movers[n]
        if mover.frame == base:
            continue  # it is seen there already
        layer, mask = piece_layer(own, mover, shadows, beside)
        layers.append(layer)
        masks[mask_name(mask)] = mask
    return replace(own, combining=replace(own.combining, layers=tuple(layers))), masks


def suggested(found: Subjects, among: Sequence[int], base: int | None = None, shadows: bool = True) -> list[int]:
    """Movers, by index, that can stand together: those of the base first, which are seen anyhow."""
    seen = [i for i in among if found.movers[i].frame == base]
    taken = {j for i in seen for j in found.conflicts_of(i, shadows)}
    left = [i for i in among if i not in seen and i not in taken]
    at = {i: k for k, i in enumerate(left)}
    conflicts = [[at[j] for j in found.conflicts_of(i, shadows) if j in at] for i in left]
    return sorted(seen + [left[k] for k in together(len(left), conflicts)])


def tracks_in(found: Subjects, box: tuple[int, int, int, int]) -> set[int]:
    """The tracks of what lies mostly within a box (x, y, width, height; px of the picture), in the earliest frame
    that shows any there.
    """
    x, y, w, h = box
    for frame in sorted({m.frame for m in found.movers}):
        here = set()
        for m in found.movers:
            bx, by, bw, bh = m.body_box
            shared = max(0, min(x + w, bx + bw) - max(x, bx)) * max(0, min(y + h, by + bh) - max(y, by))
            if m.frame == frame and shared > 0.5 * bw * bh:
                here.add(m.track)
        if here:
            return here
    return set()
