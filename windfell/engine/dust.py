"""Dust looked for in a set's frames, and kept as a mask of all of them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from windfell.develop.dust import LEAST_FRAMES, SIDE, Dust, found_dust
from windfell.engine.core import Engine
from windfell.engine.greys import resized
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.pixels.tiles import scaled_size
from windfell.recipe.edits import Edit
from windfell.recipe.model import Kind, Mask, Project

PURPOSE = "dust"


def dust_of(engine: Engine, project: Project, set_id: str, job: Job) -> Dust:
    """The dust that all frames in use of a panorama show at one place.

    Raises BadRequest where it cannot be told: of few frames, of different sizes, or of a camera that stood.
    """
    own = project.set(set_id)
    if own.kind is not Kind.PANORAMA:
        raise BadRequest("Dust is told from the scene by the camera's moving; a stack's camera stood.")
    opened = engine.opened_all(project, own, job)
    if len({o.size for o in opened}) > 1:
        raise BadRequest("The frames differ in size; dust is looked for in frames of one camera.")
    if len(opened) < LEAST_FRAMES:
        raise BadRequest(f"{LEAST_FRAMES} frames are needed to tell dust from the scene, {len(opened)} are in use.")
    size = scaled_size(opened[0].size, min(1.0, SIDE / max(opened[0].size)))

    def look(o: Any):
        grey = o.grey(max(size), job)
        return resized(grey if grey.dtype == "uint8" else grey.clip(0, 255).astype("uint8"), size)

    return found_dust(job.map(look, opened, "looking for dust"))


def with_dust(project: Project, set_id: str, name: str | None, specks: int = 0) -> Edit:
    """The set whose frames, all of them, have the mask of that name taken off their light; None: none any more."""
    own = project.set(set_id)
    frames = tuple(replace(f, masks=(*(m for m in f.masks if m.purpose != PURPOSE),
                                     *((Mask(name, PURPOSE),) if name else ()))) for f in own.frames)
    words = f"even out {specks} specks of dust" if name else "leave dust as it is"
    return Edit(words, project.with_set(replace(own, frames=frames)))


def has_dust(project: Project, set_id: str) -> bool:
    """Whether dust is evened out in the set."""
    return any(m.purpose == PURPOSE for f in project.set(set_id).frames for m in f.masks)
