"""A set's picture written to a file: strips from the engine straight to the writer."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.core import Engine
from windfell.engine.picture import Picture
from windfell.engine.sources import OpenedFile
from windfell.errors import BadRequest, OutputFailed
from windfell.job import Job
from windfell.output.metadata import Carried
from windfell.output.writers import ROWS_PER_STRIP, WRITERS, Sheet
from windfell.pixels.colour import SPACES, SRGB, WORKING, Encoder, Space
from windfell.pixels.profiles import icc_of, linear_icc_of
from windfell.pixels.tiles import scaled_size
from windfell.recipe.model import Compression, Format, Kind, Output, Project
from windfell.recipe.project_file import written_whole
from windfell.recipe.sources import FileSource, VideoInstant

LINEAR = 32


@dataclass(frozen=True)
class Written:
    """What came of an export."""

    path: Path
    width: int
    height: int


def output_scale(project: Project, set_id: str, size: tuple[int, int]) -> float:
    """The scale at which the set is written, by the width, height, share or megapixels asked for."""
    frame_set = project.set(set_id)
    o = frame_set.output
    if o.width_px is not None:
        sphere = frame_set.kind is Kind.PANORAMA and frame_set.view.full_sphere
        return 1.0 if sphere else o.width_px / size[0]
    if o.height_px is not None:
        return o.height_px / size[1]
    if o.scale_pct is not None:
        return o.scale_pct / 100
    if o.megapixels is not None:
        return float((o.megapixels * 1e6 / (size[0] * size[1])) ** 0.5)
    return 1.0


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
    sheet = _sheet(engine, project, set_id, output, width, height, job)
    check_room(path, sheet)
    with written_whole(path, flush=False) as temporary:
        finish = _finisher(sheet, output)
        strips = engine.strips(project, set_id, scale, job, finish)
        WRITERS[str(output.format)].write(temporary, sheet, _stoppable(strips, job))
        job.check()
    return Written(path, width, height)


def _stoppable(strips: Iterator[NDArray], job: Job) -> Iterator[NDArray]:
    """The same rows, few at a time, so that a stop is heard between them."""
    for strip in strips:
        for top in range(0, len(strip), ROWS_PER_STRIP):
            job.check()
            yield strip[top : top + ROWS_PER_STRIP]


def _sheet(engine, project, set_id, output: Output, width, height, job) -> Sheet:
    writer = WRITERS[str(output.format)]
    panorama = project.set(set_id).kind is Kind.PANORAMA
    depth = output.depth if output.depth in writer.depths else writer.depths[0]
    space = SPACES[str(output.space)]
    return Sheet(
        width, height, 4 if panorama and writer.alpha else 3, depth,
        linear_icc_of(space) if depth == LINEAR else icc_of(space), carried_over(engine, project, set_id, job),
        output.compression is Compression.DEFLATE, output.quality,
    )


def carried_over(engine: Engine, project: Project, set_id: str, job: Job) -> Carried:
    """Metadata of the first file among the set's frames."""
    for frame in project.set(set_id).used:
        opened = engine.opened(project, frame, job)
        if isinstance(opened, OpenedFile):
            m = opened.still.metadata
            return Carried(m.taken, m.focal_mm, m.focal35_mm, m.make, m.camera, m.lens)
    return Carried()


def _finisher(sheet: Sheet, output: Output) -> Callable[[Picture], NDArray]:
    """What turns a piece of the picture into the file's pixels."""
    if sheet.depth == LINEAR:
        # EXR and HDR are read as BT.709's primaries
        space = SPACES[str(output.space)] if output.format is Format.TIFF else SRGB
        return _linear_finisher(sheet, space)
    encode = Encoder(SPACES[str(output.space)], sheet.depth)
    top = 2**sheet.depth - 1

    def finish(picture: Picture) -> NDArray:
        pixels = encode(picture.light)
        if sheet.channels == 3:
            return pixels
        out = np.empty((*pixels.shape[:2], 4), pixels.dtype)
        out[..., :3] = pixels
        out[..., 3] = np.where(picture.covered, pixels.dtype.type(top), pixels.dtype.type(0))
        return out

    return finish


def _linear_finisher(sheet: Sheet, space: Space) -> Callable[[Picture], NDArray]:
    """What makes linear light of a space, float, with alpha if there is room for it."""
    matrix = space.matrix_from(WORKING).astype(np.float32)

    def finish(picture: Picture) -> NDArray:
        light = cv2.transform(picture.light, matrix)
        return light if sheet.channels == 3 else np.dstack([light, picture.covered.astype(np.float32)])

    return finish


def refuse_frames(project: Project, path: Path) -> None:
    """Raises BadRequest if `path` is one of the project's frames: originals are never written."""
    for frame_set in project.sets:
        for frame in frame_set.frames:
            if isinstance(frame.source, FileSource | VideoInstant) and _same_file(frame.source.path, path):
                raise BadRequest(f"{path} is one of the frames; choose another name.")


def _same_file(a: str, b: Path) -> bool:
    try:
        return os.path.samefile(a, b)
    except OSError:
        return os.path.abspath(a) == os.path.abspath(b)


def make_folder(folder: Path) -> None:
    """The folder is there afterwards. Raises OutputFailed if it cannot be made."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputFailed(
            folder, f"the folder cannot be made ({error.strerror or error}); choose another.") from error


def check_place(path: Path) -> None:
    """Raises OutputFailed if a file cannot be made there."""
    folder = path.absolute().parent
    if not folder.is_dir():
        raise OutputFailed(path, "its folder does not exist; make it or choose another.")
    if path.is_dir():
        raise OutputFailed(path, "it is a folder; give a file name.")
    if not os.access(folder, os.W_OK):
        raise OutputFailed(path, "its folder cannot be written to; choose another.")


def check_room(path: Path, sheet: Sheet) -> None:
    """Raises OutputFailed if the disk plainly lacks room: the size, or a third of it if packed."""
    free = shutil.disk_usage(path.absolute().parent).free
    packed = sheet.deflate or path.suffix.lower() not in (".tif", ".tiff")
    if free < sheet.nbytes / (3 if packed else 1):
        raise OutputFailed(
            path, f"the disk has {free / 1e6:.0f} MB left, the picture needs about "
            f"{sheet.nbytes / 1e6:.0f} MB; free some room or choose another place.",
        )
