"""One frame alone as a picture: developed, its lens corrected."""

from __future__ import annotations

from dataclasses import replace

from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import Align, Frame, FrameSet, Kind, Project, Registration
from windfell.recipe.outline import Outline


def single_frame(project: Project, set_id: str, frame: Frame) -> tuple[Project, str]:
    """A project in which a set of that frame alone stands beside the others, and its id."""
    own = FrameSet(
        f"{set_id}:{frame.id}", "one frame", Kind.STACK, (replace(frame, on=True),),
        Registration(Align.NONE), outline=Outline(), combining=Combining(Rule.MEAN),
    )
    return replace(project, sets=(*project.sets, own)), own.id
