"""A set's picture written to a file: strips from the engine straight to the writer."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.engine.carried import carried_over, raw_look
from windfell.engine.core import Engine
from windfell.engine.layers import layers_of
from windfell.engine.output_pixels import finisher, icc_for
from windfell.engine.output_size import output_scale
from windfell.engine.places import check_place, check_room, refuse_frames
from windfell.job import Job
from windfell.output.sheet import ROWS_PER_STRIP, Sheet
from windfell.output.writers import LAYERED, WRITERS
from windfell.pixels.tiles import scaled_size
from windfell.recipe.finishing import Adjustment, Detail
from windfell.recipe.model import Kind, Project
from windfell.recipe.output import Format, Output
from windfell.recipe.written import written_whole

SHARPEN_PX = 0.8


@dataclass(frozen=True)
class Written:
    """What came of an export."""

    path: Path
    width: int
    height: int


def planned_size(engine: Engine, project: Project, set_id: str, job: Job) -> tuple[int, int]:
    """(width, height) in px of the file that an export would write."""
    size = engine.size(project, set_id, job)
    return scaled_size(size, output_scale(project, set_id, size))


def export(engine: Engine, project: Project, set_id: str, path: Path, job: Job) -> Written:
    """Write the set's picture to `path` as its recipe says, whole or not at all.

    Raises OutputFailed if the place cannot be written, BadRequest if it is one of the
    frames, and whatever making the picture raises.
    """
    path = Path(path)
    refuse_frames(project, path)
    check_place(path)
    output = project.set(set_id).output
    size = engine.size(project, set_id, job)
    scale = output_scale(project, set_id, size)
    width, height = scaled_size(size, scale)
    project = sharpened(project, set_id, scale)
    sheet = sheet_of(engine, project, set_id, (width, height), scale, job)
    check_room(path, sheet)
    name = str(output.format)
    layered = name in LAYERED and (output.layered or output.format is Format.ORA)
    layers = layers_of(engine, project, set_id, scale, sheet, job) if layered else []
    with written_whole(path, flush=False) as temporary:
        strips = stoppable(engine.strips(project, set_id, scale, job, finisher(sheet)), job)
        if layers:
            WRITERS[name].write(temporary, sheet, strips, layers)
        else:
            WRITERS[name].write(temporary, sheet, strips)
        job.check()
    return Written(path, width, height)


def stoppable(strips: Iterator[NDArray], job: Job) -> Iterator[NDArray]:
    """The same rows, few at a time, so that a stop is heard between them."""
    for strip in strips:
        for top in range(0, len(strip), ROWS_PER_STRIP):
            job.check()
            yield strip[top : top + ROWS_PER_STRIP]


def sheet_depth(output: Output) -> int:
    """The bits a channel that are written: those asked for if the format has them, else its own."""
    depths = WRITERS[str(output.format)].depths
    return output.depth if output.depth in depths else depths[0]


def shows_gaps(engine: Engine, project: Project, set_id: str, job: Job) -> bool:
    """Whether what no frame covers is told from what is black: of a panorama, and of a stack whose frame of reference
    is transparent in parts or left behind, in a format that can.
    """
    own = project.set(set_id)
    if not WRITERS[str(own.output.format)].alpha:
        return False
    return own.kind is Kind.PANORAMA or engine.stages(project, set_id).may_have_gaps(job)


def sheet_of(engine: Engine, project: Project, set_id: str, size: tuple[int, int], scale: float, job: Job) -> Sheet:
    """What the writer of the set's output is told."""
    own = project.set(set_id)
    output = own.output
    depth = sheet_depth(output)
    carried = carried_over(engine, project, set_id, job, scale)
    raw = raw_look(engine, project, set_id, job) if output.format is Format.DNG else None
    channels = 4 if shows_gaps(engine, project, set_id, job) else 3
    return Sheet(*size, channels, depth, icc_for(output, depth), carried, output, raw)


def sharpened(project: Project, set_id: str, scale: float) -> Project:
    """The project whose set is sharpened for the size at which it is written, last of all."""
    own = project.set(set_id)
    if not own.output.sharpen_pct:
        return project
    detail = Detail(sharpen_pct=own.output.sharpen_pct, radius_px=float(np.clip(SHARPEN_PX / scale, 0.3, 5.0)))
    finish = replace(own.finish, on=True, adjustments=(*own.finish.active, Adjustment(detail)))
    return project.with_set(replace(own, finish=finish))
