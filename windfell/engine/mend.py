"""Mending what Readiness found: one edit, and words for what it did."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from windfell.develop.lens import suggested_profile
from windfell.engine.core import Engine
from windfell.engine.fisheyes import fisheye_correction, taken_through, through_fisheye
from windfell.engine.survey import matched_set, surveyed
from windfell.job import Job
from windfell.readiness.findings import Finding, Mend
from windfell.recipe.calibrating import used_as_fields
from windfell.recipe.developing import develop_each
from windfell.recipe.edits import Edit
from windfell.recipe.model import Align, Frame, FrameSet, Project


def mended(engine: Engine, project: Project, set_id: str, chosen: Sequence[Finding], job: Job) -> Edit:
    """One edit that mends the findings, worded by what it does. Matching comes last, on what is left."""
    done: list[str] = []
    changed = project
    for finding in sorted(chosen, key=lambda f: f.mend is Mend.MATCH):
        if finding.mend is Mend.MATCH and "match" in done:
            continue
        step = _mend(engine, changed, set_id, finding, job)
        if step is not None and step != changed:
            changed = step
            done.append(_words(finding))
    return Edit("; ".join(dict.fromkeys(done)) or "nothing to mend", changed)


def _words(finding: Finding) -> str:
    count = len(finding.frames)
    if finding.mend is Mend.KEEP_ASIDE:
        return f"keep {count} frame{'' if count == 1 else 's'} aside ({finding.fault})"
    return {Mend.MATCH: "match", Mend.LENS: "correct the lens", Mend.ALIGN: "align the frames",
            Mend.FISHEYE: "correct as a fisheye", Mend.FIELDS: f"use {count} as {finding.fault}"}[finding.mend]


def _mend(engine: Engine, project: Project, set_id: str, finding: Finding, job: Job) -> Project | None:
    frame_set = project.set(set_id)
    if finding.mend is Mend.KEEP_ASIDE:
        return project.with_set(_each(frame_set, finding.frames, lambda f: replace(f, on=False)))
    if finding.mend is Mend.FIELDS:
        return used_as_fields(project, set_id, finding.fault, finding.frames).project
    if finding.mend is Mend.ALIGN:
        registration = replace(frame_set.registration, align=Align.SIMILARITY)
        return project.with_set(replace(frame_set, registration=registration))
    if finding.mend is Mend.LENS:
        def corrected(frame: Frame) -> Frame:
            profile = suggested_profile(engine.opened(project, frame, job).taken)
            return replace(frame, lens=replace(frame.lens, profile=profile)) if profile else frame

        return project.with_set(_each(frame_set, finding.frames, corrected))
    if finding.mend is Mend.FISHEYE:
        found, told = through_fisheye(engine, project, set_id, job)
        degrees = surveyed(engine, project, set_id, job).fisheye_deg
        if told or degrees is None:
            return found
        return taken_through(project, set_id, [fisheye_correction(degrees)] * len(frame_set.used))
    if finding.mend is Mend.MATCH:
        found, ids = matched_set(engine, project, set_id, None, job)
        return develop_each(project, set_id, dict(zip(ids, found.developments, strict=True)), "match").project
    return None


def _each(frame_set: FrameSet, ids: Sequence[str], change) -> FrameSet:
    wanted = set(ids)
    return replace(frame_set, frames=tuple(change(f) if f.id in wanted else f for f in frame_set.frames))
