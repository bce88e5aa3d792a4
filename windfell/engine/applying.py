"""A whole card made by a recipe: sets proposed, each made by the recipe of its kind and written, all told."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np

from windfell.engine.core import Engine
from windfell.engine.export import Written, export
from windfell.engine.fisheyes import through_fisheye
from windfell.engine.proposals import propose
from windfell.engine.report import panorama_report, stack_report
from windfell.errors import WindfellError
from windfell.job import Job
from windfell.output.writers import WRITERS
from windfell.pixels.colour import to_view
from windfell.recipe.calibrating import field_words
from windfell.recipe.manners import Recipe, applied
from windfell.recipe.model import Kind, Project
from windfell.recipe.nesting import outermost

SMALL_SIDE = 480


@dataclass(frozen=True)
class Made:
    """What came of a set: its file, or why there is none; figures; a small JPEG."""

    name: str
    kind: str
    frames: int
    path: Path | None = None
    width: int = 0
    height: int = 0
    seconds: float = 0.0
    figures: tuple[tuple[str, str], ...] = ()
    left_out: tuple[tuple[str, str], ...] = ()
    problem: str = ""
    small: bytes = b""


def made_card(engine: Engine, recipe: Recipe, paths: Sequence[str], folder: Path, job: Job,
              told: Callable[[Made], None] = lambda made: None) -> list[Made]:
    """Propose sets from files, make each by the recipe and write it into the folder. What cannot be made is told and
    does not keep the others.
    """
    proposal = propose(engine, list(paths), job)
    project = Project(proposal.sets)
    out = []
    for own in outermost(project):
        made = _made(engine, applied(project, own.id, recipe), own.id, folder, job)
        told(made)
        out.append(made)
    out += [Made("", "file", 0, problem=why) for why in proposal.refused]
    return out


def _made(engine: Engine, project: Project, set_id: str, folder: Path, job: Job) -> Made:
    own = project.set(set_id)
    plain = Made(own.name, str(own.kind), len(own.used))
    begun = time.monotonic()
    try:
        project, through = through_fisheye(engine, project, set_id, job)
        path = free_place(folder, own.name, WRITERS[str(own.output.format)].suffix)
        written = export(engine, project, set_id, path, job)
        figures, left_out = _figures(engine, project, set_id, written, job)
        figures += (("Lens", through),) if through else ()
        fields = field_words(len(own.combining.darks), len(own.combining.flats))
        figures += (("Calibrated by", fields),) if fields else ()
        picture = engine.picture(project, set_id, min(1.0, SMALL_SIDE / max(engine.size(project, set_id, job))), job)
    except (WindfellError, MemoryError) as error:
        why = str(error) or "There is not enough memory."
        return replace(plain, problem=why, seconds=time.monotonic() - begun)
    done, data = cv2.imencode(".jpg", to_view(picture.light)[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 85])
    return replace(
        plain, path=written.path, width=written.width, height=written.height, seconds=time.monotonic() - begun,
        figures=figures, left_out=left_out, small=data.tobytes() if done else b"")


def free_place(folder: Path, name: str, suffix: str) -> Path:
    """A file of that name in the folder that does not exist yet."""
    stem = re.sub(r"[/\\\0]", "-", name).strip() or "picture"
    path, n = folder / f"{stem}{suffix}", 2
    while path.exists():
        path, n = folder / f"{stem} {n}{suffix}", n + 1
    return path


def _figures(engine: Engine, project: Project, set_id: str, written: Written, job: Job) -> tuple:
    """(figures, frames left out with the reason) in words."""
    stages = engine.stages(project, set_id)
    if stages.kind is Kind.PANORAMA:
        words = panorama_report(stages, (written.width, written.height), {}, job)
        worst = words["seams"][0]["rating"] if words["seams"] else 0.0
        figures = (("Projection", words["projection"]), ("Error of points", f"{words['rms_px']:.2f} px"),
                   ("Picture kept", f"{100 * words['kept_area']:.0f} %"), ("Worst seam", f"{worst:.2f}"))
        rows = [(Path(r["file"]).name, r["reason"]) for r in words["frames"] if not r["placed"]]
        rows += [(Path(r["file"]).name, f"doubtful: {r['doubt']}") for r in words["frames"] if r["doubt"]]
    else:
        words = stack_report(stages, {}, job)
        rms = [r["rms_px"] for r in words["frames"] if r["used"]]
        figures = (("Rule", str(project.set(set_id).combining.rule)),
                   ("Error of points", f"{float(np.mean(rms)) if rms else 0:.2f} px"))
        rows = [(Path(r["file"]).name, r["reason"]) for r in words["frames"] if not r["used"]]
    return figures, tuple((name, why or "") for name, why in rows)
