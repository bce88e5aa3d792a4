"""A picture as layers: a panorama's frames in their places, each with what it owns; a stack's pile, or its frames."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path, PurePath

import numpy as np
from numpy.typing import NDArray

from windfell.engine.carried import carried_over
from windfell.engine.core import Engine
from windfell.engine.output_pixels import encoder, icc_for
from windfell.engine.output_size import output_scale
from windfell.engine.panorama import PanoramaStages
from windfell.engine.places import check_place, check_room, make_folder
from windfell.engine.stack_pile import PileStages
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.output.sheet import DTYPES, LINEAR, Sheet
from windfell.output.writers import WRITERS
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.combining import Layer, Over
from windfell.recipe.model import Frame, FrameSet, Project
from windfell.recipe.output import Compression, Output
from windfell.recipe.written import written_whole

ROWS = 256
Encode = Callable[[NDArray], NDArray]
Layers = list[tuple[str, Iterator[NDArray]]]


def layers_of(engine: Engine, project: Project, set_id: str, scale: float, sheet: Sheet, job: Job) -> Layers:
    """(name, strips with straight alpha) of each layer of a set's picture at a scale, the lowest first.

    Of a panorama the placed frames, whose colour is there wherever they are; alpha is what they own. Of a stack its
    pile: what lies below all, then each layer within its mask; without a pile its frames, and the picture above them.
    """
    stages = engine.stages(project, set_id)
    stages.prepare(scale, job)
    encode = encoder(sheet.output, sheet.depth)
    if isinstance(stages, PanoramaStages):
        size = sheet.width, sheet.height
        return [(frame_title(stages.set.used[number]), _frame_strips(stages, n, size, encode, sheet.depth, job))
                for n, number in enumerate(stages.registration(job).placed)]
    return _pile(engine, project, stages, scale, sheet, encode, job)


def frame_title(frame: Frame) -> str:
    path = getattr(frame.source, "path", None)
    return PurePath(path).name if path else "nested set"


def write_layers(engine: Engine, project: Project, set_id: str, folder: Path, job: Job) -> list[Path]:
    """Write each placed frame as `layer-NN.tif`, NN its number from 1: 16 bit, straight alpha, the picture's size.

    The layers above each other are the picture without blending. Raises BadRequest for a stack.
    """
    stages = engine.stages(project, set_id)
    if not isinstance(stages, PanoramaStages):
        raise BadRequest("Layers are written of panoramas; a stack's frames lie over each other as they are.")
    make_folder(folder)
    scale = output_scale(project, set_id, stages.size(job))
    width, height = scaled_size(stages.size(job), scale)
    stages.prepare(scale, job)
    output = Output(space=project.set(set_id).output.space, compression=Compression.DEFLATE)
    sheet = Sheet(width, height, 4, 16, icc_for(output, 16), carried_over(engine, project, set_id, job), output)
    written = []
    for n, number in enumerate(stages.registration(job).placed):
        path = folder / f"layer-{number + 1:02d}.tif"
        check_place(path)
        check_room(path, sheet)
        with written_whole(path, flush=False) as temporary:
            strips = _frame_strips(stages, n, (width, height), encoder(output, 16), 16, job)
            WRITERS["tiff"].write(temporary, sheet, strips)
        written.append(path)
    return written


def _frame_strips(stages: PanoramaStages, n: int, size: tuple[int, int], encode: Encode, depth: int, job: Job
                  ) -> Iterator[NDArray]:
    for region in _rows(*size, job):
        yield layer_part(stages, n, region, *size, encode, depth, job)


def _rows(width: int, height: int, job: Job) -> Iterator[Region]:
    for top in range(0, height, ROWS):
        job.check()
        yield Region(0, top, width, min(ROWS, height - top))


def layer_part(stages: PanoramaStages, n: int, region: Region, width: int, height: int, encode: Encode, depth: int,
               job: Job) -> NDArray:
    """Placed frame `n` on a region of a picture of width x height px: encoded colour and what it owns, (h, w, 4)."""
    canvas = stages.canvas(job).resized(width, height)
    out = np.zeros((region.height, region.width, 4), DTYPES[depth])
    seen = stages.warped_frame(n, canvas, region, job)
    if seen is None:
        return out
    mask = seen.mask()
    out[..., :3] = np.where(mask[..., None], encode(seen.light), out.dtype.type(0))
    out[..., 3] = np.where(mask & (stages.owners(canvas, region, job) == n), _top(depth), out.dtype.type(0))
    return out


def _top(depth: int) -> float:
    return 1.0 if depth == LINEAR else 2**depth - 1


def _pile(engine: Engine, project: Project, stages: PileStages, scale: float, sheet: Sheet, encode: Encode, job: Job
          ) -> Layers:
    own = stages.set
    size = sheet.width, sheet.height

    def strips(changed: FrameSet, area: Layer | None, whole: bool) -> Iterator[NDArray]:
        """The set as it is changed, within a layer's area."""
        other = engine.stages(project.with_set(changed), own.id)
        other.prepare(scale, job)
        for region in _rows(*size, job):
            picture = other.render(region, scale, job)
            share = np.ones(picture.covered.shape, np.float32)
            if area is not None:
                share *= np.float32(area.strength_pct / 100)
                if area.area is not None:
                    share *= stages.finish_share(area.area, region, scale, job)
                share = share if whole else (share > 0).astype(np.float32)
            alpha = (share * picture.covered * _top(sheet.depth)).round(0 if sheet.depth != LINEAR else 6)
            yield np.dstack([encode(picture.light), alpha.astype(DTYPES[sheet.depth])])

    piled = own.combining.layers
    found: Layers = []
    if not piled:
        for frame in own.used:
            alone = Layer(frames=(frame.id,))
            found.append((frame_title(frame), strips(with_layers(own, (alone,)), None, True)))
        return [*found, ("picture", strips(own, None, True))]
    found.append(("below all", strips(with_layers(own, ()), None, True)))
    for n, layer in enumerate(piled):
        if not layer.on:
            continue
        # one that replaces stands by itself; of another, what came of it
        replaces = layer.over is Over.REPLACE
        changed = (replace(layer, area=None, strength_pct=100.0),) if replaces else piled[: n + 1]
        found.append((layer.name or f"layer {n + 1}", strips(with_layers(own, changed), layer, replaces)))
    return found


def with_layers(own: FrameSet, layers: tuple[Layer, ...]) -> FrameSet:
    """The stack with other layers over what lies below all."""
    return replace(own, combining=replace(own.combining, layers=layers))
