"""Edits of a stack's pile: layers added, changed, moved, duplicated, removed; lights over a base."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from windfell.recipe.areas import Area
from windfell.recipe.combining import Combining, Floor, Layer, Rule
from windfell.recipe.edits import Edit
from windfell.recipe.model import FrameSet, Project


def _with_layers(project: Project, set_id: str, layers: Sequence[Layer]) -> Project:
    own = project.set(set_id)
    return project.with_set(replace(own, combining=replace(own.combining, layers=tuple(layers))))


def layer_name(own: FrameSet, layer: Layer) -> str:
    """What a layer is called: its own name, or what it is made of."""
    if layer.name:
        return layer.name
    ids = [f.id for f in own.frames]
    numbers = sorted(1 + ids.index(i) for i in layer.frames if i in ids)
    if len(layer.frames) == 1:
        return f"frame {numbers[0]}" if numbers else "a frame that is gone"
    if not layer.frames:
        return f"{layer.rule} of all"
    return f"{layer.rule} of {numbers_in_words(own, layer.frames)}"


def add_layer(project: Project, set_id: str, layer: Layer) -> Edit:
    """The layer on top of the pile."""
    own = project.set(set_id)
    layers = (*own.combining.layers, layer)
    return Edit(f"add layer: {layer_name(own, layer)}", _with_layers(project, set_id, layers))


def change_layer(project: Project, set_id: str, n: int, values: dict[str, Any]) -> Edit:
    """Values of layer `n` set anew, in one edit; edits of the same value in a row are one step."""
    own = project.set(set_id)
    layers = list(own.combining.layers)
    layers[n] = replace(layers[n], **values)
    name, value = next(iter(values.items()))
    said = f"{value:g}" if isinstance(value, float) else str(value)
    words = f"layer {n + 1}: {name.rpartition('_')[0] or name} to {said}"
    return Edit(words, _with_layers(project, set_id, layers), f"layer {n} {','.join(values)}")


def move_layer(project: Project, set_id: str, n: int, to: int) -> Edit:
    """Layer `n` moved to a place of the pile, counted from the lowest."""
    layers = list(project.set(set_id).combining.layers)
    layers.insert(to, layers.pop(n))
    return Edit(f"move layer {n + 1} to {to + 1}", _with_layers(project, set_id, layers))


def duplicate_layer(project: Project, set_id: str, n: int) -> Edit:
    layers = list(project.set(set_id).combining.layers)
    layers.insert(n + 1, layers[n])
    return Edit(f"duplicate layer {n + 1}", _with_layers(project, set_id, layers))


def remove_layer(project: Project, set_id: str, n: int) -> Edit:
    layers = list(project.set(set_id).combining.layers)
    del layers[n]
    return Edit(f"remove layer {n + 1}", _with_layers(project, set_id, layers))


def lights_over_base(project: Project, set_id: str, base: str, rule: Rule) -> Edit:
    """The rule over all frames within an area to be painted, the base (a frame's id) everywhere else."""
    own = project.set(set_id)
    number = own.number_of(base)
    combining: Combining = replace(own.combining, rule=rule, base=base, region=Area())
    return Edit(f"lights over frame {number}", project.with_set(replace(own, combining=combining)))


def without_floor(project: Project, set_id: str) -> Project:
    """The project whose set takes no black off, with its lowest layer alone."""
    own = project.set(set_id)
    combining = replace(own.combining, floor=Floor.OFF, layers=())
    return project.with_set(replace(own, combining=combining))


def frame_alone(project: Project, set_id: str, frame: str) -> Project:
    """The project whose picture of a set is one of its frames (id), in its place and cut as the set is."""
    own = project.set(set_id)
    return project.with_set(replace(own, combining=replace(own.combining, layers=(Layer(frames=(frame,)),))))


def with_region(project: Project, set_id: str, area: Area | None) -> Project:
    """The project with the area in which a set's rule holds."""
    own = project.set(set_id)
    return project.with_set(replace(own, combining=replace(own.combining, region=area)))


def with_layer_area(project: Project, set_id: str, n: int, area: Area | None) -> Project:
    """The project with the area of layer `n`."""
    layers = list(project.set(set_id).combining.layers)
    layers[n] = replace(layers[n], area=area)
    return _with_layers(project, set_id, layers)


def lowest_words(own: FrameSet, rule: str) -> str:
    """The lowest layer in words; `rule`: its rule's title."""
    c, words = own.combining, f"{rule} of all"
    ids = [f.id for f in own.frames]
    if c.base in ids and (c.region is not None or any(m.purpose == "region" for f in own.frames for m in f.masks)):
        return f"{words}, in its area over frame {1 + ids.index(c.base)}"
    return words


def numbers_in_words(own: FrameSet, frames: Sequence[str]) -> str:
    """Frames (ids) by their numbers, runs joined; empty for all."""
    ids = [f.id for f in own.frames]
    numbers, out = sorted(1 + ids.index(i) for i in frames if i in ids), []
    for n in numbers:
        if out and out[-1][1] == n - 1:
            out[-1][1] = n
        else:
            out.append([n, n])
    return ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in out)


def frames_from_words(own: FrameSet, words: str) -> tuple[str, ...]:
    """The ids of frames given as 3 or 2-5, 8. Raises ValueError with a sentence."""
    ids, found = [f.id for f in own.frames], []
    for part in words.replace(";", ",").split(","):
        if not part.strip():
            continue
        first, _, last = part.partition("-")
        try:
            a, b = int(first), int(last or first)
        except ValueError:
            raise ValueError(f"{part.strip()} is no frame; write numbers such as 3 or 2-5, 8.") from None
        if not 1 <= a <= b <= len(ids):
            raise ValueError(f"{part.strip()} names no frames; they are numbered 1 to {len(ids)}.")
        found += [i for i in ids[a - 1 : b] if i not in found]
    return tuple(found)
