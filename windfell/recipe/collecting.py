"""A project and all of its files together, to be moved to another place."""

from __future__ import annotations

import filecmp
import shutil
from pathlib import Path

from windfell.errors import FrameUnreadable, OutputFailed
from windfell.job import Job
from windfell.recipe.model import Project
from windfell.recipe.project_file import Masks, save_project, with_paths
from windfell.recipe.written import written_whole


def collected(project: Project, path: Path, masks: Masks, job: Job) -> Project:
    """Write the project to a path, and copies of all its frames and pieces into a folder beside it, `NAME frames`, so
    that both can be moved together. Answers the project that was written.

    What lies there already under its name and with its content stays. Raises FrameUnreadable for a file that is gone,
    OutputFailed for what cannot be written.
    """
    path = Path(path).absolute()
    folder = path.with_name(f"{path.stem} frames")
    places: dict[str, str] = {}

    def place(source: str) -> str:
        if source not in places:
            places[source] = str(_copied(Path(source), folder, set(places.values())))
        return places[source]

    count = len(dict.fromkeys(f.source for s in project.sets for f in s.frames))
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        why = error.strerror or str(error)
        raise OutputFailed(folder, f"the folder cannot be made ({why}); choose another.") from error

    def told(source: str) -> str:
        job.step("copying frames", min(1.0, len(places) / max(1, count)))
        return place(source)

    moved = with_paths(project, told)
    save_project(path, moved, masks)
    return moved


def _copied(source: Path, folder: Path, taken: set[str]) -> Path:
    """Where a copy of the file lies in the folder now."""
    if not source.is_file():
        raise FrameUnreadable(source, "the file is gone; point to it again.")
    n = 1
    while True:
        target = folder / (source.name if n == 1 else f"{source.stem}-{n}{source.suffix}")
        if str(target) not in taken:
            if not target.exists():
                break
            if filecmp.cmp(source, target, shallow=False):
                return target
        n += 1
    with written_whole(target, flush=False) as temporary:
        shutil.copyfile(source, temporary)
    return target
