"""What "before" means in the compare modes."""

from __future__ import annotations

from dataclasses import replace

from windfell.recipe.model import Joining, Kind, Project


def before_project(project: Project, set_id: str) -> Project:
    """The project whose picture of the set is shown as "before".

    Panorama: the frames laid where they belong, nothing matched, cut or blended.
    Stack: the reference frame alone.
    """
    frame_set = project.set(set_id)
    if frame_set.kind is Kind.PANORAMA:
        even = frame_set.joining.even_parallax  # else the frames would lie elsewhere
        plain = Joining(match_light=False, cut_seams=False, blend_pct=0.0, even_parallax=even)
        return project.with_set(replace(frame_set, joining=plain))
    used = frame_set.used
    ids = [f.id for f in used]
    reference = frame_set.registration.reference
    only = used[ids.index(reference)] if reference in ids else used[0]
    return project.with_set(replace(frame_set, frames=(only,)))
