"""Whether a place can be written to, asked before any wait."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from windfell.errors import BadRequest, OutputFailed, WindfellError
from windfell.output.sheet import Sheet
from windfell.recipe.model import Project
from windfell.recipe.output import Compression
from windfell.recipe.sources import FileSource, VideoInstant


def refuse_frames(project: Project, path: Path) -> None:
    """Raises BadRequest if `path` is one of the project's frames: originals are never written."""
    frames = {f.source.path for own in project.sets for f in own.frames
              if isinstance(f.source, FileSource | VideoInstant)}
    same = os.path.samefile if path.exists() else _same_name  # the disk is asked only where there is something
    if any(_tried(same, frame, path) for frame in frames):
        raise BadRequest(f"{path} is one of the frames; choose another name.")


@dataclass(frozen=True)
class Place:
    """Why nothing can be written to a place, in words; whether a file is there."""

    trouble: str = ""
    taken: bool = False


def looked_at(project: Project, path: Path) -> Place:
    """What the disk says of a place for a picture."""
    try:
        refuse_frames(project, path)
        check_place(path)
    except WindfellError as error:
        return Place(str(error))
    return Place(taken=path.exists())


def _same_name(a: str, b: Path) -> bool:
    return os.path.abspath(a) == os.path.abspath(b)


def _tried(same: Callable[[str, Path], bool], a: str, b: Path) -> bool:
    try:
        return same(a, b)
    except OSError:
        return _same_name(a, b)


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
    packed = sheet.output.compression is not Compression.NONE or path.suffix.lower() not in (".tif", ".tiff")
    if free < sheet.nbytes / (3 if packed else 1):
        raise OutputFailed(
            path, f"the disk has {free / 1e6:.0f} MB left, the picture needs about "
            f"{sheet.nbytes / 1e6:.0f} MB; free some room or choose another place.",
        )
