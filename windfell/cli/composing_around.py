"""`windfell compose` of two folders: one panorama behind another, around one place."""

from __future__ import annotations

import os
import time
from argparse import Namespace
from dataclasses import replace
from pathlib import Path

from windfell.cli.writing import layers_folder, new_output, write_report
from windfell.engine.core import Engine
from windfell.engine.export import export
from windfell.engine.laying_behind import behind_found, seen_around, turned_onto
from windfell.engine.places import check_place, refuse_frames
from windfell.errors import BadRequest
from windfell.frames.listing import pictures_in
from windfell.frames.masks import read_mask
from windfell.job import Job
from windfell.recipe.areas import Area, Found
from windfell.recipe.behind import Behind
from windfell.recipe.finishes import read_finish
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.outline import Outline, Room
from windfell.recipe.project_file import mask_name


def run_around(options: Namespace, job: Job) -> None:
    """Join both, lay the one behind the other, write it."""
    if options.place == "stars":
        raise BadRequest("--place stars is for two pictures; panoramas are placed by the land that both show.")
    if options.grow != 100.0:
        raise BadRequest("--grow is for two pictures; around a place a panorama has the size it has.")
    if layers_folder(options) is not None or options.layers is not None:
        raise BadRequest("--layers is for two pictures; panoramas behind each other are written joined.")
    out, begun = Path(options.out), time.monotonic()
    check_place(out)
    if options.report:
        check_place(Path(options.report))
    back, front = (_panorama(p) for p in (options.back, options.front))
    engine, project = Engine.by_settings(), Project((front, back))
    behind, by = _placed(engine, project, options, job)
    across, down = options.shift
    behind = replace(
        behind, yaw_deg=(behind.yaw_deg + across + 180) % 360 - 180, pitch_deg=behind.pitch_deg - down,
        roll_deg=behind.roll_deg + options.turn, exposure_ev=options.exposure, warmth=options.warmth,
        area=replace(behind.area, feather=options.glow))
    finish = read_finish(Path(options.finish)) if options.finish else front.finish
    own = replace(front, behind=behind, output=new_output(options), finish=finish,
                  outline=Outline(room=Room(top_pct=options.room)))
    project = Project((own, back))
    refuse_frames(project, out)
    written = export(engine, project, own.id, out, job)
    if options.report:
        mask = engine.masks[behind.area.masks[0]]
        write_report(Path(options.report), {
            "kind": "composed", "back": options.back, "front": options.front, "width": written.width,
            "height": written.height, "sky": round(float(mask.mean()) / 255, 4),
            "place": {"by": by, "yaw_deg": round(behind.yaw_deg, 4), "pitch_deg": round(behind.pitch_deg, 4),
                      "roll_deg": round(behind.roll_deg, 4)},
            "seconds": {"total": round(time.monotonic() - begun, 3)}})


def _panorama(folder: str) -> FrameSet:
    paths = pictures_in(folder)
    if not paths:
        raise BadRequest(f"{folder}: there are no pictures in this folder.")
    frames = tuple(frame_from_path(os.path.abspath(p)) for p in paths)
    return FrameSet(os.path.abspath(folder), os.path.basename(os.path.abspath(folder)), Kind.PANORAMA, frames)


def _placed(engine: Engine, project: Project, options: Namespace, job: Job) -> tuple[Behind, str]:
    """How the back lies, and by what that was found."""
    front, back = project.sets
    if options.skyline == "auto":
        behind, mask, turned = behind_found(engine, project, front.id, back.id, job)
    else:
        mask = read_mask(Path(options.skyline))
        turned = turned_onto(*(seen_around(engine.stages(project, s.id), job) for s in (front, back)), job)
        behind = Behind(back.id, Area((Found(mask_name(mask)),)), turned.yaw_deg, turned.pitch_deg, turned.roll_deg)
    engine.masks[mask_name(mask)] = mask
    if options.place == "cover":
        return replace(behind, yaw_deg=0.0, pitch_deg=0.0, roll_deg=0.0), ""
    if not turned.by:
        raise BadRequest(f"{options.back} and {options.front} share nothing that tells how they lie; give --place "
                         "cover and --shift.")
    return behind, turned.by
