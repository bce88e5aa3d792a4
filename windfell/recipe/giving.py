"""Edits of what is given to a panorama's frames by areas: keep and never."""

from __future__ import annotations

from dataclasses import replace

from windfell.recipe.areas import Area
from windfell.recipe.edits import Edit
from windfell.recipe.model import FrameSet, Given, Project


def given_area(own: FrameSet, frame_id: str, keep: bool) -> Area:
    """The area that a frame keeps, or never owns."""
    return next((g.area for g in own.joining.given if (g.frame, g.keep) == (frame_id, keep)), Area())


def with_given(project: Project, set_id: str, frame_id: str, keep: bool, area: Area) -> Project:
    """The project with that area as what the frame keeps, or never owns; as said last, so that it wins."""
    own = project.set(set_id)
    others = tuple(g for g in own.joining.given if (g.frame, g.keep) != (frame_id, keep))
    given = (*others, Given(frame_id, area, keep)) if area.parts or area.inverted else others
    return project.with_set(replace(own, joining=replace(own.joining, given=given)))


def forget_given(project: Project, set_id: str, frame_id: str) -> Edit:
    """Nothing is given to the frame by areas or masks any more."""
    own = project.set(set_id)
    number = own.number_of(frame_id)
    given = tuple(g for g in own.joining.given if g.frame != frame_id)
    frames = tuple(
        replace(f, masks=tuple(m for m in f.masks if m.purpose not in ("keep", "never"))) if f.id == frame_id else f
        for f in own.frames)
    changed = replace(own, frames=frames, joining=replace(own.joining, given=given))
    return Edit(f"give nothing to frame {number} by hand", project.with_set(changed))
