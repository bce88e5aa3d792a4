"""Edits: a new project and the words for what changed. Every change passes through here."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from windfell.errors import BadRequest
from windfell.recipe.model import (
    Frame,
    FrameSet,
    Kind,
    Project,
    SetSource,
    nested_in,
    new_id,
)


@dataclass(frozen=True)
class Edit:
    """A changed project, in words. Edits with the same `merge` in a row become one step."""

    words: str
    project: Project
    merge: str | None = None


VALUE_WORDS = {
    "registration.align": "align by",
    "registration.reference": "reference frame",
    "registration.focal_px": "focal length",
    "registration.level": "level",
    "view.projection": "projection",
    "view.yaw_deg": "turn",
    "view.pitch_deg": "tilt",
    "view.roll_deg": "roll",
    "view.full_sphere": "full sphere",
    "outline.edges": "edges",
    "joining.match_light": "match light",
    "joining.cut_seams": "seams around differences",
    "joining.blend_pct": "blend",
    "combining.rule": "rule",
    "output.format": "format",
    "output.depth": "depth",
    "output.compression": "compression",
    "output.quality": "quality",
    "output.space": "colour space",
    "output.width_px": "width",
    "name": "name",
}


def get_value(frame_set: FrameSet, path: str) -> Any:
    """The value at a dotted path of VALUE_WORDS."""
    value: Any = frame_set
    for part in path.split("."):
        value = getattr(value, part)
    return value


def field_at(path: str) -> dataclasses.Field:
    """The dataclass field at a dotted path, with its limits and unit."""
    part, _, name = path.rpartition(".")
    owner = FrameSet.__dataclass_fields__[part].default if part else FrameSet
    return next(f for f in dataclasses.fields(owner) if f.name == name)


def set_values(project: Project, set_id: str, changes: dict[str, Any]) -> Edit:
    """An edit of one or several values of a set, clamped to their limits."""
    frame_set = project.set(set_id)
    changed = frame_set
    words = []
    for path, value in changes.items():
        value = _clamped(path, value)
        old = get_value(frame_set, path)
        if old != value:
            words.append(f"{VALUE_WORDS[path]} {said(path, old)} to {said(path, value)}")
        changed = _with_value(changed, path, value)
    merge = f"{set_id}:{'+'.join(changes)}"
    return Edit(", ".join(words) or "no change", project.with_set(changed), merge)


def said(path: str, value: Any) -> str:
    """A value as words, with its unit."""
    if value is None:
        return "automatic"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, int | float):
        unit = field_at(path).metadata.get("unit", "")
        number = f"{value:.1f}" if isinstance(value, float) else f"{value}"
        return number + (unit if unit == "°" else f" {unit}" if unit else "")
    return str(value)


def _clamped(path: str, value: Any) -> Any:
    limits = field_at(path).metadata
    if value is None or "low" not in limits or isinstance(value, bool):
        return value
    return type(value)(min(max(value, limits["low"]), limits["high"]))


def _with_value(frame_set: FrameSet, path: str, value: Any) -> FrameSet:
    part, _, name = path.rpartition(".")
    if not part:
        return replace(frame_set, **{name: value})
    return replace(frame_set, **{part: replace(getattr(frame_set, part), **{name: value})})


def add_set(project: Project, frame_set: FrameSet) -> Edit:
    words = f"add {frame_set.kind} {frame_set.name} with {_frames(len(frame_set.frames))}"
    return Edit(words, replace(project, sets=(*project.sets, frame_set)))


def add_sets(project: Project, sets: Sequence[FrameSet]) -> Edit:
    if len(sets) == 1:
        return add_set(project, sets[0])
    return Edit(f"add {len(sets)} sets", replace(project, sets=(*project.sets, *sets)))


def remove_set(project: Project, set_id: str) -> Edit:
    """Raises BadRequest if another set uses this one as a frame."""
    for other in project.sets:
        if any(isinstance(f.source, SetSource) and f.source.set == set_id for f in other.frames):
            raise BadRequest(f"{other.name} uses this set as a frame; remove it there first.")
    gone = project.set(set_id)
    sets = tuple(s for s in project.sets if s.id != set_id)
    return Edit(f"remove {gone.name}", replace(project, sets=sets))


def add_frames(project: Project, set_id: str, frames: Sequence[Frame]) -> Edit:
    """Raises BadRequest if a set would come to contain itself."""
    frame_set = project.set(set_id)
    for frame in frames:
        if isinstance(frame.source, SetSource):
            inner = frame.source.set
            if inner == set_id or set_id in nested_in(project, inner):
                raise BadRequest(f"{frame_set.name} cannot be a frame of itself.")
    changed = replace(frame_set, frames=(*frame_set.frames, *frames))
    return Edit(f"add {_frames(len(frames))} to {frame_set.name}", project.with_set(changed))


def switch_frame(project: Project, set_id: str, frame_id: str, on: bool) -> Edit:
    frame_set = project.set(set_id)
    number = 1 + [f.id for f in frame_set.frames].index(frame_id)
    changed = _each_frame(frame_set, lambda f: replace(f, on=on) if f.id == frame_id else f)
    return Edit(f"{'use' if on else 'leave out'} frame {number}", project.with_set(changed))


def remove_frame(project: Project, set_id: str, frame_id: str) -> Edit:
    frame_set = project.set(set_id)
    number = 1 + [f.id for f in frame_set.frames].index(frame_id)
    kept = tuple(f for f in frame_set.frames if f.id != frame_id)
    changed = replace(frame_set, frames=kept)
    if frame_set.registration.reference == frame_id:
        changed = _with_value(changed, "registration.reference", None)
    return Edit(f"remove frame {number} from {frame_set.name}", project.with_set(changed))


def change_kind(project: Project, set_id: str, kind: Kind) -> Edit:
    frame_set = project.set(set_id)
    return Edit(f"make {frame_set.name} a {kind}", project.with_set(replace(frame_set, kind=kind)))


def vary(project: Project, set_id: str) -> Edit:
    """A second variant of a set: the same frames and decisions under a new name."""
    first = project.set(set_id)
    names = {s.name for s in project.sets}
    number = next(n for n in range(2, 10_000) if f"{first.name} {n}" not in names)
    second = replace(first, id=new_id(), name=f"{first.name} {number}")
    return Edit(f"vary {first.name}", replace(project, sets=(*project.sets, second)))


def _each_frame(frame_set: FrameSet, change) -> FrameSet:
    return replace(frame_set, frames=tuple(change(f) for f in frame_set.frames))


def _frames(n: int) -> str:
    return f"{n} frame" if n == 1 else f"{n} frames"
