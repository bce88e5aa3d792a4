"""Edits of a stack's darks and flats: frames of no light and of an even field, by which the others are calibrated."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from windfell.errors import BadRequest
from windfell.recipe.edits import Edit
from windfell.recipe.model import Kind, Project
from windfell.recipe.sources import FileSource

DARKS, FLATS = "darks", "flats"
FIELDS = (DARKS, FLATS)


def counted(count: int, fields: str) -> str:
    """The number in words: "1 dark", "3 flats"."""
    return f"{count} {fields if count != 1 else fields.removesuffix('s')}"


def field_words(darks: int, flats: int) -> str:
    """Both numbers in words, what there is none of left out."""
    return ", ".join(counted(n, f) for n, f in zip((darks, flats), FIELDS, strict=True) if n)


def with_fields(project: Project, set_id: str, fields: str, paths: Sequence[str]) -> Edit:
    """More darks or flats (`fields`) for a stack. Raises BadRequest if it is none."""
    own = project.set(set_id)
    if own.kind is not Kind.STACK:
        raise BadRequest(f"{own.name} is no stack; only a stack's frames take darks and flats.")
    there = getattr(own.combining, fields)
    known = {s.path for s in there}
    new = tuple(FileSource(p) for p in dict.fromkeys(paths) if p not in known)
    combining = replace(own.combining, **{fields: (*there, *new)})
    return Edit(f"calibrate by {counted(len(new), fields)}", project.with_set(replace(own, combining=combining)))


def used_as_fields(project: Project, set_id: str, fields: str, frame_ids: Sequence[str]) -> Edit:
    """Frames of a stack become its darks or flats; those that are no files stay."""
    own, ids = project.set(set_id), set(frame_ids)
    taken = [f for f in own.frames if f.id in ids and isinstance(f.source, FileSource)]
    left = tuple(f for f in own.frames if f not in taken)
    made = with_fields(project, set_id, fields, [f.source.path for f in taken])
    own = made.project.set(set_id)
    registration = own.registration
    if registration.reference is not None and registration.reference not in {f.id for f in left}:
        registration = replace(registration, reference=None)
    base = own.combining.base if own.combining.base in {f.id for f in left} else None
    own = replace(own, frames=left, registration=registration, combining=replace(own.combining, base=base))
    return Edit(f"use {len(taken)} frame{'' if len(taken) == 1 else 's'} as {fields}", project.with_set(own))


def without_fields(project: Project, set_id: str) -> Edit:
    """Neither darks nor flats."""
    own = project.set(set_id)
    return Edit("calibrate no more", project.with_set(
        replace(own, combining=replace(own.combining, darks=(), flats=()))))
