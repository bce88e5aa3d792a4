"""A panorama taken through a fisheye: told by the frames' metadata, or by what the frames share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from windfell.align.fisheye import (
    fisheye_by_turns,
    fisheye_diagonal,
    focal_of_diagonal,
    matched_pairs,
    may_be_fisheye,
)
from windfell.align.registration import PanoramaRegistration
from windfell.develop.lens import FULL_FRAME_HALF_MM, Taken, optics_of, suggested_profile
from windfell.engine.core import Engine
from windfell.engine.stage import ideal_features
from windfell.errors import CannotJoin
from windfell.job import Job
from windfell.recipe.model import Camera, Frame, FrameSet, Kind, LensCorrection, Project
from windfell.recipe.sources import SetSource

ANY_FISHEYE = "Generic | Fisheye 8-20mm f/1.0"
AROUND_DEG, CLOSER, LEFT_TO_BEND, MOST_ERROR = (-13.0, 0.0, 13.0), 0.8, 0.15, 1 / 1500


def fisheye_correction(degrees: float) -> LensCorrection:
    """That of any fisheye which sees so many degrees across a frame's corners."""
    focal_mm = focal_of_diagonal(degrees) * FULL_FRAME_HALF_MM
    return LensCorrection(ANY_FISHEYE, focal_mm=round(focal_mm, 2), crop=1.0)


def taken_through(project: Project, set_id: str, corrections: list[LensCorrection]) -> Project:
    """The project whose set's frames in use have these corrections, in their order."""
    own = project.set(set_id)
    of = dict(zip((f.id for f in own.used), corrections, strict=True))
    return project.with_set(replace(own, frames=tuple(replace(f, lens=of.get(f.id, f.lens)) for f in own.frames)))


def through_fisheye(engine: Engine, project: Project, set_id: str, job: Job) -> tuple[Project, str]:
    """The project, its panorama's frames taken for a fisheye's if that is what they are; and a sentence if so.

    Nothing is done where a lens or a focal length is given, or frames are sets themselves.
    """
    own = project.set(set_id)
    if not _open_to(own):
        return project, ""
    found = _registered(engine, project, set_id, job)
    if not may_be_fisheye(found):
        return project, ""
    opened = engine.opened_all(project, own, job)
    named = [LensCorrection(suggested_profile(o.taken)) for o in opened]
    if all(_is_fisheye(c, o.taken) for c, o in zip(named, opened, strict=True)):
        trial = taken_through(project, set_id, named)
        if joins_better(_registered(engine, trial, set_id, job), found, 1.0):
            return trial, f"The frames were taken through a fisheye, {named[0].profile.partition(' | ')[2]}."
    features = ideal_features(engine, opened, own.used, job)
    alike = matched_pairs(features, job)
    degrees = fisheye_diagonal(features, alike, job)
    kept, best, degrees = _tried(engine, project, set_id, degrees, found, job)
    if kept is not project:
        return kept, (f"The frames look as if taken through a fisheye of about {degrees:.0f} degrees from "
                      "corner to corner, and are joined as such.")
    turns = fisheye_by_turns(features, alike, job)
    if turns is None or not (found is None or turns.contradict(found)):
        return project, ""
    # what a plain lens makes of a fisheye's edges lies wrong, however well it fits
    kept, best, _ = _tried(engine, project, set_id, turns.degrees, None, job)
    if kept is project:
        kept = taken_through(project, set_id, [fisheye_correction(turns.degrees)] * len(own.used))
    seen = f"The frames look as if taken through a fisheye of about {turns.degrees:.0f} degrees from corner to corner"
    if best is not None and len(best.placed) == len(own.used):
        return kept, f"{seen}, and are joined as such."
    return kept, f"{seen}, but share little more than their edges: not all can be joined. Take more frames."


def _tried(
    engine: Engine, project: Project, set_id: str, degrees: float | None, before: PanoramaRegistration | None,
    job: Job,
) -> tuple[Project, PanoramaRegistration | None, float]:
    """The project with its frames taken for a fisheye's of about so many degrees, if that joins them better than what
    was found `before`; with what it finds, and the degrees.
    """
    kept, best, angle = project, before, 0.0
    for off in AROUND_DEG if degrees is not None else ():
        trial = taken_through(project, set_id, [fisheye_correction(degrees + off)] * len(project.set(set_id).used))
        tried = _registered(engine, trial, set_id, job)
        if fits_fisheye(tried) and joins_better(tried, best, 1.0 if angle else CLOSER):
            kept, best, angle = trial, tried, degrees + off
    return kept, best, angle


def _is_fisheye(correction: LensCorrection, taken: Taken) -> bool:
    try:
        optics = optics_of(correction, taken) if correction.profile else None
    except ValueError:
        return False
    return optics is not None and bool(optics.mapping)


def _open_to(own: FrameSet) -> bool:
    turned = own.kind is Kind.PANORAMA and own.registration.camera is Camera.TURNED
    return turned and undecided(own.used) and own.registration.focal_px is None and len(own.used) > 1


def undecided(frames: Sequence[Frame]) -> bool:
    """Whether nothing was decided of any frame's lens, and all are frames and no sets."""
    return all(f.lens == LensCorrection() and not isinstance(f.source, SetSource) for f in frames)


def _registered(engine: Engine, project: Project, set_id: str, job: Job) -> PanoramaRegistration | None:
    try:
        return engine.stages(project, set_id).registration(job)
    except CannotJoin:
        return None


def fits_fisheye(found: PanoramaRegistration | None) -> bool:
    """Whether a fisheye explains it: by little error, and with little left to bend, whichever its mapping is."""
    if found is None:
        return False
    lenses = [found.frames[n].lens for n in found.placed]
    little = max(max(x.width, x.height) for x in lenses) * MOST_ERROR
    return found.rms_px < little and all(abs(x.k1) < LEFT_TO_BEND for x in lenses)


def joins_better(found: PanoramaRegistration | None, before: PanoramaRegistration | None, closer: float) -> bool:
    """Whether more frames are placed, or as many by an error so much smaller."""
    if found is None or before is None:
        return found is not None
    more = len(found.placed) - len(before.placed)
    return more > 0 or (more == 0 and found.rms_px < closer * before.rms_px)
