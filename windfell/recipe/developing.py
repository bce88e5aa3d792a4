"""Edits of how frames are developed and their lenses corrected."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from windfell.recipe.edits import Edit, each_frame, frames_in_words
from windfell.recipe.model import Development, Frame, Project

DEVELOPMENT_WORDS = {
    "temperature_k": "temperature", "tint": "tint", "exposure_ev": "exposure",
    "contrast_pct": "contrast", "highlights_pct": "highlights", "shadows_pct": "shadows",
    "white_pct": "white point", "black_pct": "black point", "saturation_pct": "saturation",
    "local_contrast_pct": "local contrast", "haze_pct": "haze", "noise_pct": "noise",
    "sharpen_pct": "sharpening",
}
LENS_WORDS = {
    "profile": "lens", "focal_mm": "focal length", "crop": "crop factor", "distortion": "distortion",
    "vignetting": "edge darkening", "fringing": "colour fringing", "k1": "k1", "k2": "k2", "k3": "k3",
    "v1": "edge light v1", "v2": "edge light v2", "v3": "edge light v3",
    "red": "red size", "blue": "blue size",
}


def develop(project: Project, set_id: str, frame_ids: Sequence[str], changes: dict[str, Any]) -> Edit:
    """Values of the development of some frames, clamped to their limits."""
    return _frame_values(project, set_id, frame_ids, "development", DEVELOPMENT_WORDS, changes)


def correct_lens(project: Project, set_id: str, frame_ids: Sequence[str], changes: dict[str, Any]) -> Edit:
    """Values of the lens correction of some frames, clamped to their limits."""
    return _frame_values(project, set_id, frame_ids, "lens", LENS_WORDS, changes)


def _frame_values(project, set_id, frame_ids, part: str, words: dict[str, str], changes) -> Edit:
    frame_set = project.set(set_id)
    wanted = set(frame_ids)
    first = next(getattr(f, part) for f in frame_set.frames if f.id in wanted)
    fields = {f.name: f for f in dataclasses.fields(first)}
    changes = {k: _within(fields[k], v) for k, v in changes.items()}
    said_parts = [
        f"{words[k]} {_value_words(fields[k], getattr(first, k))} to {_value_words(fields[k], v)}"
        for k, v in changes.items() if getattr(first, k) != v
    ]

    def change(f: Frame) -> Frame:
        return replace(f, **{part: replace(getattr(f, part), **changes)}) if f.id in wanted else f

    changed = each_frame(frame_set, change)
    whom = "" if len(wanted) == 1 else f" of {frames_in_words(len(wanted))}"
    merge = f"{set_id}:{part}:{'+'.join(changes)}:{'+'.join(sorted(wanted))}"
    return Edit((", ".join(said_parts) or "copy " + part) + whom, project.with_set(changed), merge)


def _within(field: dataclasses.Field, value: Any) -> Any:
    limits = field.metadata
    if value is None or "low" not in limits or isinstance(value, bool):
        return value
    return float(min(max(value, limits["low"]), limits["high"]))


def _value_words(field: dataclasses.Field, value: Any) -> str:
    if value is None:
        return "as shot" if field.name == "temperature_k" else "none"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float):
        unit = field.metadata.get("unit", "")
        digits = 0 if unit in ("K", "%") else 2 if unit == "EV" else 4 if abs(value) < 2 else 1
        return f"{value:.{digits}f}" + (f" {unit}" if unit else "")
    return str(value)


def copy_development(
    project: Project, set_id: str, source_id: str, frame_ids: Sequence[str], what: Sequence[str]
) -> Edit:
    """Some values (keys of DEVELOPMENT_WORDS) of one frame's development for other frames."""
    frame_set = project.set(set_id)
    development = frame_set.frame(source_id).development
    return use_development(project, set_id, frame_ids, development, what, "copy the development to")


def use_development(
    project: Project, set_id: str, frame_ids: Sequence[str], development: Development,
    what: Sequence[str] | None = None, words: str = "develop",
) -> Edit:
    """Some or all values of a development for some frames."""
    chosen = {k: getattr(development, k) for k in (what or DEVELOPMENT_WORDS)}
    wanted = set(frame_ids)
    changed = each_frame(
        project.set(set_id),
        lambda f: replace(f, development=replace(f.development, **chosen)) if f.id in wanted else f,
    )
    return Edit(f"{words} {frames_in_words(len(wanted))}", project.with_set(changed))


def develop_each(project: Project, set_id: str, developments: dict[str, Development], words: str) -> Edit:
    """A development of its own for each of some frames, by frame id."""
    changed = each_frame(
        project.set(set_id),
        lambda f: replace(f, development=developments[f.id]) if f.id in developments else f,
    )
    return Edit(words, project.with_set(changed))
