"""`windfell compose`: one picture laid behind another along the skyline."""

from __future__ import annotations

import os
import time
from argparse import Namespace
from dataclasses import replace
from pathlib import Path

from windfell.cli.composing_around import run_around
from windfell.cli.writing import layers_folder, new_output, write_report
from windfell.engine.composed import composed, placed_by_stars, with_room_above
from windfell.engine.core import Engine
from windfell.engine.export import export
from windfell.engine.places import check_place, refuse_frames
from windfell.errors import BadRequest
from windfell.frames.masks import read_mask
from windfell.job import Job
from windfell.recipe.finishes import read_finish
from windfell.recipe.model import Project, frame_from_path
from windfell.recipe.outline import Crop, Outline


def run_compose(options: Namespace, job: Job) -> None:
    """Make the set of two, place the one behind, write it."""
    folders = [os.path.isdir(p) for p in (options.back, options.front)]
    if all(folders):
        run_around(options, job)
        return
    if any(folders):
        raise BadRequest("A folder of frames lies behind or before another folder; give two pictures or two "
                         "folders.")
    if options.place == "land":
        raise BadRequest("--place land is for panoramas, given as folders of their frames.")
    if layers_folder(options) is not None:
        raise BadRequest("--layers goes into the file here; it takes no folder.")
    out = Path(options.out)
    back, front = (frame_from_path(os.path.abspath(p)) for p in (options.back, options.front))
    engine, begun = Engine.by_settings(), time.monotonic()
    for frame in (back, front):
        engine.opened(Project(), frame, job)
    check_place(out)
    if options.report:
        check_place(Path(options.report))
    mask = None if options.skyline == "auto" else read_mask(Path(options.skyline))
    own, masks = composed(engine, Project(), back, front, out.stem, job, options.glow, mask)
    engine.masks = masks
    if options.place == "stars":
        own = placed_by_stars(engine, Project((own,)), own, job)
        if options.room:
            own = replace(own, outline=Outline(crop=Crop(0.0, -options.room, 100.0, 100.0 + options.room)))
    elif options.room:
        own = with_room_above(own, options.room, engine.opened(Project(), front, job).size[1])
    layer = own.combining.layers[0]
    across, down = options.shift
    layer = replace(
        layer, right_px=layer.right_px + across, down_px=layer.down_px + down, turn_deg=layer.turn_deg + options.turn,
        size_pct=layer.size_pct * options.grow / 100, exposure_ev=options.exposure, warmth=options.warmth)
    finish = read_finish(Path(options.finish)) if options.finish else own.finish
    own = replace(own, combining=replace(own.combining, layers=(layer,)), output=new_output(options), finish=finish)
    project = Project((own,))
    refuse_frames(project, out)
    written = export(engine, project, own.id, out, job)
    if options.report:
        mask = next(iter(masks.values()))
        write_report(Path(options.report), {
            "kind": "composed", "back": options.back, "front": options.front, "width": written.width,
            "height": written.height, "sky": round(float(mask.mean()) / 255, 4),
            "place": {"right_px": round(layer.right_px, 3), "down_px": round(layer.down_px, 3),
                      "turn_deg": round(layer.turn_deg, 4), "size_pct": round(layer.size_pct, 4)},
            "seconds": {"total": round(time.monotonic() - begun, 3)}})
