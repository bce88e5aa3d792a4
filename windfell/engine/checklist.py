"""What an export would write, and what is worth a look before the wait."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

import numpy as np

from windfell.engine.core import Engine
from windfell.engine.export import planned_size, sheet_depth, shows_gaps
from windfell.engine.grown import gap_share, left_out
from windfell.engine.seam_walk import seam_walk
from windfell.engine.survey import registered_coverage
from windfell.job import Job
from windfell.output.writers import WRITERS
from windfell.pixels.colour import SPACES
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.model import FrameSet, Kind, Project
from windfell.recipe.output import Compression, Format
from windfell.recipe.repairs import Mend

SMALL_SIDE = 1000
SEEN_FROM = 1.0
CLIPPED_SHARE, MADE_UP_SHARE, GAPS_SHARE = 0.002, 0.02, 0.0005
GUESSED_MP_S = 8.0
MADE_UP = (Mend.FILL, Mend.TEXTURE)
# about how much of its plain size each format needs, where it packs
PACKED = {Format.PNG: 0.6, Format.JPEG: 0.12, Format.JXL: 0.1, Format.WEBP: 0.08, Format.AVIF: 0.06,
          Format.HEIF: 0.07, Format.HTML: 0.25, Format.EXR: 0.8}


class Weight(StrEnum):
    GOOD = "good"
    NOTE = "note"
    WRONG = "wrong"


@dataclass(frozen=True)
class Line:
    """One thing that was looked at, and how it is."""

    weight: Weight
    words: str


@dataclass(frozen=True)
class Plan:
    """What will be written: its size, about how many bytes and seconds; the full size beside it; what was checked."""

    width: int
    height: int
    nbytes: int
    seconds: float
    full: tuple[int, int]
    lines: tuple[Line, ...]


def planned(
    engine: Engine, project: Project, set_id: str, path: Path, job: Job, mp_per_s: float | None = None
) -> Plan:
    """The plan of the set's export to a place. `mp_per_s`: how quickly the last one went."""
    own = project.set(set_id)
    full = engine.size(project, set_id, job)
    width, height = planned_size(engine, project, set_id, job)
    nbytes = about_bytes(own, width, height)
    lines = [*_picture_lines(engine, project, own, full, job), *_seam_lines(engine, project, own, job),
             _room_line(path, nbytes)]
    return Plan(width, height, nbytes, width * height / 1e6 / (mp_per_s or GUESSED_MP_S), full, tuple(lines))


def about_bytes(own: FrameSet, width: int, height: int) -> int:
    """About how large the file will be."""
    o = own.output
    writer = WRITERS[str(o.format)]
    channels = 4 if own.kind is Kind.PANORAMA and writer.alpha else 3
    plain = width * height * channels * sheet_depth(o) / 8
    share = PACKED.get(o.format, 1.0 if o.compression is Compression.NONE else 0.75)
    if o.format in (Format.JPEG, Format.WEBP, Format.AVIF, Format.HEIF, Format.JXL):
        share *= 0.25 + 0.75 * (o.quality / 92) ** 4
    layers = 1 + (len(own.used) if o.layered or o.format is Format.ORA else 0)
    found = plain * share * layers * (4 / 3 if o.tiled else 1)
    return int(found if o.most_kb is None else min(found, 1000 * o.most_kb))


def _picture_lines(engine: Engine, project: Project, own: FrameSet, full: tuple[int, int], job: Job) -> list[Line]:
    scale = min(1.0, SMALL_SIDE / max(full))
    picture = engine.picture(project, own.id, scale, job)
    matrix = SPACES[str(own.output.space)].matrix_from(SPACES["rec2020"].primaries).astype(np.float32)
    light = picture.light[picture.covered] @ matrix.T
    out = []
    gaps = 1 - float(picture.covered.mean())
    if gaps > GAPS_SHARE:
        goes = "they stay transparent" if shows_gaps(engine, project, own.id, job) else "they become black"
        out.append(Line(Weight.NOTE, f"{100 * gaps:.1f} % of the picture is covered by no frame: {goes}."))
    else:
        out.append(Line(Weight.GOOD, "Every px is covered."))
    if len(light):
        white, black = float((light.max(axis=1) > 1.0).mean()), float((light.max(axis=1) <= 0.0).mean())
        if max(white, black) > CLIPPED_SHARE:
            out.append(Line(Weight.NOTE, f"Clipped: {100 * white:.1f} % burnt out, {100 * black:.1f} % black."))
        else:
            out.append(Line(Weight.GOOD, "Hardly anything is clipped."))
    stages = engine.stages(project, own.id)
    much = left_out(stages, job) if own.kind is Kind.PANORAMA else None
    if much is not None:
        out.append(Line(Weight.WRONG, f"Growing would make up {100 * much:.0f} % of the picture, more than is "
                                      "allowed: it is left out."))
    made_up = _made_up(engine, project, own, scale, job)
    if made_up > 0:
        weight = Weight.NOTE if made_up > MADE_UP_SHARE else Weight.GOOD
        out.append(Line(weight, f"{100 * made_up:.1f} % of the picture is made up by repairs."))
    return out


def _made_up(engine: Engine, project: Project, own: FrameSet, scale: float, job: Job) -> float:
    """The share of the picture that repairs filled with what no frame shows."""
    stages = engine.stages(project, own.id)
    width, height = scaled_size(stages.size(job), scale)
    total = np.zeros((height, width), np.float32)
    for repair in own.repairs:
        if repair.on and repair.way in MADE_UP and not repair.area.empty:
            np.maximum(total, stages.finish_share(repair.area, Region(0, 0, width, height), scale, job), out=total)
    grows = own.kind is Kind.PANORAMA and any(r.way is Mend.GROW and r.on for r in own.repairs)
    return float(total.mean()) + (gap_share(stages, job) if grows and left_out(stages, job) is None else 0.0)


def _seam_lines(engine: Engine, project: Project, own: FrameSet, job: Job) -> list[Line]:
    if own.kind is not Kind.PANORAMA:
        return []
    stages = engine.stages(project, own.id)
    found = seam_walk(stages, job)
    seen = [s for s in found if s.rating >= SEEN_FROM]
    out = []
    if seen:
        many = "One spot along a seam" if len(seen) == 1 else f"{len(seen)} spots along seams"
        out.append(Line(Weight.WRONG, f"{many} would be seen; Join's seam walk shows them."))
    elif found:
        out.append(Line(Weight.GOOD, "No seam would be noticed."))
    if own.view.full_sphere and not own.repairs:
        for name, wide in registered_coverage(stages.as_taken(job)).caps:
            out.append(Line(Weight.WRONG, f"The {name} is open, about {wide:.0f}° wide: close it at Join (Mend)."))
    return out


def _room_line(path: Path, nbytes: int) -> Line:
    folder = path.absolute().parent
    while not folder.is_dir() and folder != folder.parent:
        folder = folder.parent
    free = shutil.disk_usage(folder).free
    if free < 1.1 * nbytes:
        return Line(Weight.WRONG, f"The disk has {in_bytes(free)} left, the file needs about {in_bytes(nbytes)}.")
    return Line(Weight.GOOD, f"There is room: {in_bytes(free)} on the disk.")


def in_bytes(n: float) -> str:
    """A number of bytes in words."""
    for size, unit in ((1e9, "GB"), (1e6, "MB"), (1e3, "kB")):
        if n >= size:
            return f"{n / size:.3g} {unit}"
    return f"{n:.0f} B"
