"""The project file: a zip with project.json and masks as PNG (docs/project-file.md)."""

from __future__ import annotations

import hashlib
import io
import json
import os
import zipfile
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.errors import ProjectUnreadable, border
from windfell.recipe.areas import Area, Found
from windfell.recipe.combining import Combining
from windfell.recipe.model import Frame, FrameSet, Project, areas_of, nested_in
from windfell.recipe.repairs import Repair
from windfell.recipe.sources import FileSource, VideoInstant
from windfell.recipe.words import WrongWord, from_words, to_words
from windfell.recipe.written import without_leftovers, written_whole

SCHEMA = 1
SUFFIX = ".windfell"
MAX_JSON_BYTES, MAX_MASK_BYTES = 64 * 2**20, 256 * 2**20
MAX_MASK_PIXELS = 400_000_000

Masks = dict[str, NDArray[np.uint8]]


def mask_name(mask: NDArray[np.uint8]) -> str:
    """The lasting name of a mask (h, w): the hash of its size and content."""
    digest = hashlib.sha256(f"{mask.shape}".encode() + np.ascontiguousarray(mask).tobytes())
    return digest.hexdigest()[:24]


def save_project(path: Path, project: Project, masks: Masks) -> None:
    """Write the project, whole or not at all. Only masks that the recipe names are kept."""
    path = Path(path).absolute()
    words = {"schema": SCHEMA, "program": "windfell", **to_words(_relative(project, path.parent))}
    with written_whole(path) as temporary, zipfile.ZipFile(
        temporary, "w", zipfile.ZIP_DEFLATED
    ) as archive:
        archive.writestr("project.json", json.dumps(words, indent=1, ensure_ascii=False))
        for name in sorted(_named_masks(project) & masks.keys()):
            archive.writestr(f"masks/{name}.png", cv2.imencode(".png", masks[name])[1].tobytes())


def load_project(path: Path) -> tuple[Project, Masks]:
    """The project and its masks by name. Raises ProjectUnreadable with what is wrong where.

    Frames whose files are missing stay in the project; `missing_files` lists them.
    """
    path = Path(path).absolute()
    without_leftovers(path.parent)
    with border(path, "it is not a readable project", ProjectUnreadable):
        try:
            with zipfile.ZipFile(path) as archive:
                words = json.loads(_small_entry(archive, "project.json", MAX_JSON_BYTES))
                _check_schema(words)
                project = _from_file_words(words)
                masks = {n: _mask_from(archive, n) for n in _named_masks(project)}
            return _absolute(project, path.parent), masks
        except ValueError as error:
            raise ProjectUnreadable(path, f"the project is damaged: {error}.") from error


def _small_entry(archive: zipfile.ZipFile, name: str, most: int) -> bytes:
    """An entry's content, however large it unpacks. Raises WrongWord if that is too large."""
    with archive.open(name) as entry:
        data = entry.read(most + 1)
    if len(data) > most:
        raise WrongWord(f"{name} is larger than in any project")
    return data


def _check_schema(words: object) -> None:
    if not isinstance(words, dict) or not isinstance(words.get("schema"), int):
        raise WrongWord("it names no schema version")
    if words["schema"] > SCHEMA:
        raise WrongWord(
            f"it was written by a later version (schema {words['schema']}, this one reads {SCHEMA})"
        )


def _from_file_words(words: dict) -> Project:
    own = {k: v for k, v in words.items() if k not in ("schema", "program")}
    project = from_words(Project, own)
    project = replace(project, sets=tuple(map(_with_areas, project.sets)))
    ids = [s.id for s in project.sets]
    if len(set(ids)) != len(ids):
        raise WrongWord("two sets have the same id")
    for frame_set in project.sets:
        if any(i not in ids for i in frame_set.inner):
            raise WrongWord(f"set {frame_set.name!r} uses a set that does not exist")
        if frame_set.id in nested_in(project, frame_set.id):
            raise WrongWord(f"set {frame_set.name!r} contains itself")
    return project


def _with_areas(frame_set: FrameSet) -> FrameSet:
    """Masks of what is ignored, as earlier projects have them, become areas."""
    def newer(frame: Frame) -> Frame:
        old = tuple(m for m in frame.masks if m.purpose == "ignore")
        if not old:
            return frame
        parts = (*(frame.ignored.parts if frame.ignored else ()), *(Found(m.name) for m in old))
        area = replace(frame.ignored or Area(), parts=parts)
        return replace(frame, ignored=area, masks=tuple(m for m in frame.masks if m not in old))

    return replace(frame_set, frames=tuple(map(newer, frame_set.frames)))


def _named_masks(project: Project) -> set[str]:
    drawn = {m.name for s in project.sets for f in s.frames for m in f.masks}
    return drawn | {name for s in project.sets for area in areas_of(s) for name in area.masks}


def _mask_from(archive: zipfile.ZipFile, name: str) -> NDArray[np.uint8]:
    data = _small_entry(archive, f"masks/{name}.png", MAX_MASK_BYTES)
    if _png_pixels(data) > MAX_MASK_PIXELS:
        raise WrongWord(f"mask {name} is larger than any frame")
    mask = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_GRAYSCALE)
    if mask is None or mask_name(mask) != name:
        raise WrongWord(f"mask {name} is damaged")
    return mask


def _png_pixels(data: bytes) -> int:
    """How many pixels a PNG claims (ISO/IEC 15948, 11.2.2)."""
    return int.from_bytes(data[16:20], "big") * int.from_bytes(data[20:24], "big")


def with_paths(project: Project, change) -> Project:
    """The project whose files, of frames, fields and pieces, lie where `change` says of each path."""
    def moved(frame: Frame) -> Frame:
        if isinstance(frame.source, FileSource | VideoInstant):
            source = replace(frame.source, path=change(frame.source.path))
            return replace(frame, source=source)
        return frame

    def pieces(s: FrameSet) -> tuple[Repair, ...]:
        return tuple(replace(r, path=change(r.path)) if r.path else r for r in s.repairs)

    def fields(s: FrameSet) -> Combining:
        darks, flats = (tuple(replace(x, path=change(x.path)) for x in some)
                        for some in (s.combining.darks, s.combining.flats))
        return replace(s.combining, darks=darks, flats=flats)

    sets = tuple(replace(s, frames=tuple(moved(f) for f in s.frames), repairs=pieces(s), combining=fields(s))
                 for s in project.sets)
    return replace(project, sets=sets)


def _relative(project: Project, folder: Path) -> Project:
    def near(path: str) -> str:
        relative = os.path.relpath(path, folder)
        return path if relative.count("..") > 3 else Path(relative).as_posix()

    return with_paths(project, near)


def _absolute(project: Project, folder: Path) -> Project:
    return with_paths(project, lambda p: os.path.normpath(folder / p))


def missing_files(project: Project) -> list[str]:
    """Paths of frames whose files are not where the project says, each once."""
    paths = [
        f.source.path for s in project.sets for f in s.frames
        if isinstance(f.source, FileSource | VideoInstant)
    ] + [r.path for s in project.sets for r in s.repairs if r.path] + [
        x.path for s in project.sets for x in (*s.combining.darks, *s.combining.flats)]
    return [p for p in dict.fromkeys(paths) if not os.path.isfile(p)]


def found_in(project: Project, folder: Path) -> Project:
    """The project with missing frames pointed to files of the same name below `folder`."""
    by_name: dict[str, str] = {}
    for root, _, names in os.walk(folder):
        for name in names:
            by_name.setdefault(name, os.path.join(root, name))
    return with_paths(
        project, lambda p: p if os.path.isfile(p) else by_name.get(os.path.basename(p), p)
    )


def as_bytes(project: Project) -> bytes:
    """The project's words as bytes: equal for equal recipes."""
    text = io.StringIO()
    json.dump(to_words(project), text, sort_keys=True)
    return text.getvalue().encode()
