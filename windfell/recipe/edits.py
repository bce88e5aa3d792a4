"""Edits: a new project and the words for what changed. Every change passes through here."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from windfell.errors import BadRequest
from windfell.recipe.areas import Area
from windfell.recipe.combining import Floor
from windfell.recipe.model import (
    ControlPoint,
    DroppedPoint,
    Frame,
    FrameSet,
    HandPose,
    Kind,
    PlumbLine,
    Project,
    nested_in,
    new_id,
)
from windfell.recipe.outline import Crop, Ratio, Room
from windfell.recipe.sources import SetSource, VideoInstant
from windfell.recipe.value_words import VALUE_WORDS


@dataclass(frozen=True)
class Edit:
    """A changed project, in words. Edits with the same `merge` in a row become one step."""

    words: str
    project: Project
    merge: str | None = None


def get_value(frame_set: FrameSet, path: str) -> Any:
    """The value at a dotted path of VALUE_WORDS."""
    value: Any = frame_set
    for part in path.split("."):
        value = getattr(value, part)
    return value


def field_at(path: str) -> dataclasses.Field:
    """The dataclass field at a dotted path, with its limits and unit."""
    first, *inner, name = ["", *path.split(".")] if "." not in path else path.split(".")
    owner = FrameSet.__dataclass_fields__[first].default if first else FrameSet
    for part in inner:
        owner = getattr(owner, part)
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
    if isinstance(value, tuple):
        return str(len(value))
    if isinstance(value, Ratio):
        return f"{value.width:g}:{value.height:g}"
    if isinstance(value, Crop):
        return f"{value.width_pct:.0f} x {value.height_pct:.0f} %"
    if isinstance(value, Room):
        return ", ".join(f"{v:g}" for v in (value.top_pct, value.right_pct, value.bottom_pct, value.left_pct)) + " %"
    if isinstance(value, int | float):
        unit = field_at(path).metadata.get("unit", "")
        number = f"{value:.1f}" if isinstance(value, float) else f"{value}"
        return number + (unit if unit == "°" else f" {unit}" if unit else "")
    return str(value)


def _clamped(path: str, value: Any) -> Any:
    limits = field_at(path).metadata
    if value is None or "low" not in limits or isinstance(value, bool):
        return value
    if value != value:
        raise ValueError(f"{path}: not a number")
    return type(value)(min(max(value, limits["low"]), limits["high"]))


def _with_value(frame_set: FrameSet, path: str, value: Any) -> FrameSet:
    return _changed(frame_set, path.split("."), value)


def _changed(part: Any, names: list[str], value: Any) -> Any:
    first, *rest = names
    return replace(part, **{first: _changed(getattr(part, first), rest, value) if rest else value})


def pose_frame(project: Project, set_id: str, frame_id: str, pose: HandPose | None) -> Edit:
    """A frame's direction given by hand, or found again."""
    frame_set = project.set(set_id)
    number = frame_set.number_of(frame_id)
    changed = each_frame(frame_set, lambda f: replace(f, pose=pose) if f.id == frame_id else f)
    words = f"let frame {number} be placed by itself"
    if pose is not None:
        words = f"place frame {number} at {pose.yaw_deg:.1f}°, {pose.pitch_deg:.1f}°, {pose.roll_deg:.1f}°"
    return Edit(words, project.with_set(changed))


def set_points(project: Project, set_id: str, points: Sequence[ControlPoint], words: str,
               merge: str | None = None) -> Edit:
    """The set's hand-made control points."""
    return _registration(project, set_id, words, merge, points=tuple(points))


def drop_points(project: Project, set_id: str, dropped: Sequence[DroppedPoint]) -> Edit:
    """Found points that count no more."""
    known = project.set(set_id).registration.dropped
    new = tuple(d for d in dropped if d not in known)
    return _registration(project, set_id, f"drop {len(new)} point{'' if len(new) == 1 else 's'}",
                         dropped=(*known, *new))


def set_lines(project: Project, set_id: str, lines: Sequence[PlumbLine], words: str) -> Edit:
    """The set's lines that are to be level, upright or straight."""
    return _registration(project, set_id, words, lines=tuple(lines))


def _registration(project: Project, set_id: str, words: str, merge: str | None = None, **parts: Any) -> Edit:
    frame_set = project.set(set_id)
    changed = replace(frame_set, registration=replace(frame_set.registration, **parts))
    return Edit(words, project.with_set(changed), merge)


def ignore_area(project: Project, set_id: str, frame_ids: Sequence[str], area: Area | None) -> Edit:
    """An area of some frames in which no points are taken; None: nowhere."""
    wanted = set(frame_ids)
    changed = each_frame(project.set(set_id), lambda f: replace(f, ignored=area) if f.id in wanted else f)
    verb = "take points everywhere in" if area is None else "ignore an area of"
    return Edit(f"{verb} {frames_in_words(len(wanted))}", project.with_set(changed))


def add_set(project: Project, frame_set: FrameSet) -> Edit:
    words = f"add {frame_set.kind} {frame_set.name} with {frames_in_words(len(frame_set.frames))}"
    return Edit(words, replace(project, sets=(*project.sets, frame_set)))


def add_sets(project: Project, sets: Sequence[FrameSet]) -> Edit:
    if len(sets) == 1:
        return add_set(project, sets[0])
    return Edit(f"add {len(sets)} sets", replace(project, sets=(*project.sets, *sets)))


def accept_sets(project: Project, set_ids: Sequence[str]) -> Edit:
    """Proposed sets taken as they are."""
    names = [project.set(i).name for i in set_ids]
    sets = tuple(replace(s, proposed=False) if s.id in set_ids else s for s in project.sets)
    words = f"accept {names[0]}" if len(names) == 1 else f"accept {len(names)} sets"
    return Edit(words, replace(project, sets=sets))


def remove_set(project: Project, set_id: str) -> Edit:
    """Raises BadRequest if another set uses this one as a frame."""
    for other in project.sets:
        if set_id in other.inner:
            raise BadRequest(f"{other.name} uses this set; remove it there first.")
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
    return Edit(f"add {frames_in_words(len(frames))} to {frame_set.name}", project.with_set(changed))


def switch_frame(project: Project, set_id: str, frame_id: str, on: bool) -> Edit:
    frame_set = project.set(set_id)
    number = frame_set.number_of(frame_id)
    changed = each_frame(frame_set, lambda f: replace(f, on=on) if f.id == frame_id else f)
    return Edit(f"{'take back' if on else 'keep aside'} frame {number}", project.with_set(changed))


def remove_frame(project: Project, set_id: str, frame_id: str) -> Edit:
    frame_set = project.set(set_id)
    number = frame_set.number_of(frame_id)
    kept = tuple(f for f in frame_set.frames if f.id != frame_id)
    changed = replace(frame_set, frames=kept)
    if frame_set.registration.reference == frame_id:
        changed = _with_value(changed, "registration.reference", None)
    return Edit(f"remove frame {number} from {frame_set.name}", project.with_set(changed))


def weigh_frames(project: Project, set_id: str, weights: Mapping[str, float], words: str, merge: str | None = None
                 ) -> Edit:
    """How much frames (ids) count in a mean."""
    own = project.set(set_id)
    frames = tuple(replace(f, weight=weights.get(f.id, f.weight)) for f in own.frames)
    return Edit(words, project.with_set(replace(own, frames=frames)), merge)


def pick_black(project: Project, set_id: str, level_pct: float) -> Edit:
    """What was picked counts as black, in % of white, linear."""
    own = project.set(set_id)
    combining = replace(own.combining, floor=Floor.LEVEL, floor_pct=level_pct)
    return Edit(f"black floor picked: {level_pct:.2f} %", project.with_set(replace(own, combining=combining)))


def change_kind(project: Project, set_id: str, kind: Kind) -> Edit:
    frame_set = project.set(set_id)
    return Edit(f"make {frame_set.name} a {kind}", project.with_set(replace(frame_set, kind=kind)))


def vary(project: Project, set_id: str) -> Edit:
    """A second variant of a set: the same frames and decisions under a new name."""
    first = project.set(set_id)
    second = replace(first, id=new_id(), name=_free_name(project, first.name))
    return Edit(f"vary {first.name}", replace(project, sets=(*project.sets, second)))


def switch_frames(project: Project, set_id: str, frame_ids: Sequence[str], on: bool) -> Edit:
    """Keep several frames aside, or take them back."""
    wanted = set(frame_ids)
    changed = each_frame(project.set(set_id), lambda f: replace(f, on=on) if f.id in wanted else f)
    verb = "take back" if on else "keep aside"
    return Edit(f"{verb} {frames_in_words(len(wanted))}", project.with_set(changed))


def move_frames(
    project: Project, frame_ids: Sequence[str], to_set: str, before: str | None = None
) -> Edit:
    """Frames moved, in their order, into a set before one of its frames, or to its end."""
    wanted = set(frame_ids)
    moved = [f for s in project.sets for f in s.frames if f.id in wanted]
    for frame in moved:
        if isinstance(frame.source, SetSource):
            inner = frame.source.set
            if inner == to_set or to_set in nested_in(project, inner):
                raise BadRequest("A set cannot be a frame of itself.")
    sets = []
    for s in project.sets:
        kept = [f for f in s.frames if f.id not in wanted]
        if s.id == to_set:
            at = next((n for n, f in enumerate(kept) if f.id == before), len(kept))
            kept[at:at] = moved
        reference = s.registration.reference
        s = replace(s, frames=tuple(kept))
        if reference in wanted and s.id != to_set:
            s = _with_value(s, "registration.reference", None)
        sets.append(s)
    name = project.set(to_set).name
    return Edit(f"move {frames_in_words(len(moved))} to {name}", replace(project, sets=tuple(sets)))


def set_instants(project: Project, set_id: str, path: str, times: Sequence[float], words: str) -> Edit:
    """The set's instants of a video become those at `times`; frames that stay keep their decisions."""
    frame_set = project.set(set_id)
    own = {round(f.source.time_s, 3): f for f in frame_set.frames
           if isinstance(f.source, VideoInstant) and f.source.path == path}
    places = [n for n, f in enumerate(frame_set.frames) if f in own.values()]
    others = [f for f in frame_set.frames if f not in own.values()]
    at = len([f for f in frame_set.frames[: places[0]] if f in others]) if places else len(others)
    wanted = [
        own.get(round(t, 3)) or Frame(new_id(), VideoInstant(path, round(t, 4))) for t in sorted(set(times))
    ]
    changed = replace(frame_set, frames=(*others[:at], *wanted, *others[at:]))
    gone = {f.id for f in frame_set.frames} - {f.id for f in changed.frames}
    if changed.registration.reference in gone:
        changed = _with_value(changed, "registration.reference", None)
    return Edit(words, project.with_set(changed))


def split_set(project: Project, set_id: str, frame_id: str) -> Edit:
    """The frames from one on become a set of their own, beside the first."""
    first = project.set(set_id)
    at = [f.id for f in first.frames].index(frame_id)
    if at == 0:
        raise BadRequest("Choose a frame after the first: the set is split before it.")
    second = replace(first, id=new_id(), name=_free_name(project, first.name), frames=first.frames[at:])
    sets = []
    for s in project.sets:
        sets += [replace(s, frames=s.frames[:at]), second] if s.id == set_id else [s]
    return Edit(f"split {first.name} before frame {at + 1}", replace(project, sets=tuple(sets)))


def merge_sets(project: Project, set_id: str, other_id: str) -> Edit:
    """All frames of another set appended to this one; the other set goes."""
    one, other = project.set(set_id), project.set(other_id)
    if any(other_id in s.inner for s in project.sets):
        raise BadRequest(f"{other.name} is part of another set; remove it there first.")
    known = {f.source for f in one.frames}
    added = tuple(f for f in other.frames if f.source not in known)
    sets = tuple(
        replace(s, frames=(*s.frames, *added)) if s.id == set_id else s
        for s in project.sets if s.id != other_id
    )
    return Edit(f"merge {other.name} into {one.name}", replace(project, sets=sets))


def _free_name(project: Project, name: str) -> str:
    names = {s.name for s in project.sets}
    return next(f"{name} {n}" for n in range(2, 10_000) if f"{name} {n}" not in names)


def each_frame(frame_set: FrameSet, change) -> FrameSet:
    return replace(frame_set, frames=tuple(change(f) for f in frame_set.frames))


def frames_in_words(n: int) -> str:
    return f"{n} frame" if n == 1 else f"{n} frames"
