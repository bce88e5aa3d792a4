"""A panorama's frames as layers: each in its place on the picture, with a mask of what it owns."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.engine.core import Engine
from windfell.engine.export import carried_over, check_place, check_room, make_folder, output_scale
from windfell.engine.panorama import PanoramaStages
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.output.writers import WRITERS, Sheet
from windfell.pixels.colour import SPACES, Encoder
from windfell.pixels.profiles import icc_of
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.model import Project
from windfell.recipe.project_file import written_whole

ROWS = 256
TOP = np.uint16(65535)


def write_layers(engine: Engine, project: Project, set_id: str, folder: Path, job: Job) -> list[Path]:
    """Write each placed frame as `layer-NN.tif`, NN its number from 1: 16 bit, straight alpha, the picture's size.

    Its colour is there wherever the frame is; alpha is what it owns, so that the layers above each other are the
    picture without blending. Raises BadRequest for a stack.
    """
    stages = engine.stages(project, set_id)
    if not isinstance(stages, PanoramaStages):
        raise BadRequest("Layers are written of panoramas; a stack's frames lie over each other as they are.")
    make_folder(folder)
    scale = output_scale(project, set_id, stages.size(job))
    width, height = scaled_size(stages.size(job), scale)
    stages.prepare(scale, job)
    output = project.set(set_id).output
    space = SPACES[str(output.space)]
    sheet = Sheet(width, height, 4, 16, icc_of(space), carried_over(engine, project, set_id, job))
    written = []
    for n, number in enumerate(stages.registration(job).placed):
        path = folder / f"layer-{number + 1:02d}.tif"
        check_place(path)
        check_room(path, sheet)
        with written_whole(path, flush=False) as temporary:
            WRITERS["tiff"].write(temporary, sheet, _strips(stages, n, width, height, Encoder(space, 16), job))
        written.append(path)
    return written


def _strips(stages: PanoramaStages, n: int, width: int, height: int, encode: Encoder, job: Job) -> Iterator[NDArray]:
    for top in range(0, height, ROWS):
        job.check()
        yield layer_part(stages, n, Region(0, top, width, min(ROWS, height - top)), width, height, encode, job)


def layer_part(
    stages: PanoramaStages, n: int, region: Region, width: int, height: int, encode: Encoder, job: Job
) -> NDArray[np.uint16]:
    """Placed frame `n` on a region of a picture of width x height px: encoded colour and what it owns, (h, w, 4)."""
    canvas = stages.canvas(job).resized(width, height)
    out = np.zeros((region.height, region.width, 4), np.uint16)
    seen = stages.warped_frame(n, canvas, region, job)
    if seen is None:
        return out
    mask = seen.mask()
    out[..., :3] = np.where(mask[..., None], encode(seen.light), np.uint16(0))
    out[..., 3] = np.where(mask & (stages.owners(canvas, region, job) == n), TOP, np.uint16(0))
    return out
