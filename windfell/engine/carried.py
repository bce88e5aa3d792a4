"""What a result says about itself: its frames summed up, words, where it lies on the sphere; the camera of a DNG."""

from __future__ import annotations

import numpy as np

from windfell.engine.core import Engine
from windfell.engine.sources import Opened, OpenedFile
from windfell.errors import FrameUnreadable
from windfell.frames.metadata import Metadata, heading_of
from windfell.frames.raw import raw_colours
from windfell.geometry.projections import PROJECTIONS
from windfell.job import Job
from windfell.output.dng import MOST_HEADROOM_EV, PLAIN_LOOK, RawLook
from windfell.output.metadata import Carried, Pano
from windfell.pixels.tiles import scaled_size
from windfell.recipe.model import Kind, Project, nested_in
from windfell.recipe.sources import FileSource, SetSource, Source

BRIGHTEST_SIDE = 800


def carried_over(engine: Engine, project: Project, set_id: str, job: Job, scale: float = 1.0) -> Carried:
    """Metadata of the files among the set's frames, at any depth, summed up: the first one's camera, the span of the
    times. Where they were taken is told only if the output says so.
    """
    own = project.set(set_id)
    metas = [m for m in (_metadata(o) for o in _files(engine, project, set_id, job)) if m is not None]
    frames = [f for i in _all_sets(project, set_id) for f in project.set(i).frames]
    given = sum(not isinstance(f.source, SetSource) for f in frames)
    words = own.output.words
    pano = sphere_place(engine, project, set_id, scale, job)
    if not metas:
        return Carried(given=given, used=given, words=words, pano=pano)
    m = metas[0]
    times = sorted(x.taken for x in metas if x.taken)
    gps = next((x.gps for x in metas if x.gps), None) if words.location else None
    return Carried(
        times[0] if times else None, m.focal_mm, m.focal35_mm, m.make, m.camera, m.lens,
        times[-1] if len(times) > 1 else None, given, len(metas), gps, words, pano)


def _all_sets(project: Project, set_id: str) -> list[str]:
    """The set, and those nested in it in the order of the project."""
    inner = nested_in(project, set_id)
    return [set_id, *(s.id for s in project.sets if s.id in inner)]


def _files(engine: Engine, project: Project, set_id: str, job: Job) -> list[Opened]:
    found = []
    for one in _all_sets(project, set_id):
        for frame in project.set(one).used:
            if isinstance(frame.source, FileSource):
                try:
                    found.append(engine.opened(project, frame, job))
                except FrameUnreadable:
                    continue
    return found


def _metadata(opened: Opened) -> Metadata | None:
    return opened.still.metadata if isinstance(opened, OpenedFile) else None


def sphere_place(engine: Engine, project: Project, set_id: str, scale: float, job: Job) -> Pano | None:
    """Where an equirectangular panorama lies on its whole sphere; None for any other picture."""
    own = project.set(set_id)
    if own.kind is not Kind.PANORAMA:
        return None
    stages = engine.stages(project, set_id)
    if stages.registration(job).flat or stages.choice(job).projection != "equirectangular":
        return None
    canvas = stages.canvas(job)
    if canvas.mesh is not None or canvas.kind is not PROJECTIONS["equirectangular"]:
        return None
    width, _ = scaled_size((canvas.width, canvas.height), scale)
    per_rad = width / (canvas.right - canvas.left)
    full = round(2 * np.pi * per_rad)
    left, top = round((canvas.left + np.pi) * per_rad), round((canvas.top + np.pi / 2) * per_rad)
    return Pano(full, round(full / 2), left % full, max(0, top), _heading(engine, project, set_id, canvas, job))


def _heading(engine: Engine, project: Project, set_id: str, canvas, job: Job) -> float | None:
    """Where the middle of the sphere looks, from north: by a frame whose file says where it looked."""
    stages = engine.stages(project, set_id)
    found = stages.registration(job)
    for n in found.placed:
        heading = _looked(project, project.set(set_id).used[n].source)
        if heading is not None:
            ahead = found.frames[n].rotation[:, 2] @ canvas.rotation
            return float(heading - np.degrees(np.arctan2(ahead[0], ahead[2]))) % 360
    return None


def _looked(project: Project, source: Source) -> float | None:
    """Where a frame looked, from north, as its file says; of a stack the first of its files that says it."""
    if isinstance(source, FileSource):
        return heading_of(source.path)
    if isinstance(source, SetSource) and project.set(source.set).kind is Kind.STACK:
        return next((h for f in project.set(source.set).used if (h := _looked(project, f.source)) is not None), None)
    return None


def raw_look(engine: Engine, project: Project, set_id: str, job: Job) -> RawLook:
    """The camera whose light a DNG of the set holds: that of its first raw file, else one that sees the working
    space; with room for all light there is beyond white.
    """
    files = _files(engine, project, set_id, job)
    look = PLAIN_LOOK
    for opened in files:
        if isinstance(opened, OpenedFile) and opened.still.metadata.format == "raw":
            colours = raw_colours(opened.still.path)
            if colours is not None:
                m = opened.still.metadata
                look = RawLook(colours.matrix, colours.neutral, m.make or "Windfell", m.camera or "Linear picture")
            break
    size = engine.size(project, set_id, job)
    small = engine.picture(project, set_id, min(1.0, BRIGHTEST_SIDE / max(size)), job)
    most = float(np.max(small.light @ look.from_working().T, initial=0.0))
    headroom = int(np.clip(np.ceil(np.log2(max(most * 0.98, 1e-6))), 0, MOST_HEADROOM_EV))
    return RawLook(look.matrix, look.neutral, look.make, look.camera, headroom)
