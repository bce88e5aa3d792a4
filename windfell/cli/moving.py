"""The commands for what moves: one picture of chosen appearances, and moving pictures."""

from __future__ import annotations

import os
import time
from argparse import Namespace
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from windfell.align.series import NotOnto, Onto
from windfell.cli.commands import numbered
from windfell.cli.moving_words import FPS, WIDEST
from windfell.cli.writing import format_of, new_output, write_report
from windfell.engine.animated import animated
from windfell.engine.core import Engine
from windfell.engine.even_light import evened
from windfell.engine.export import export
from windfell.engine.following import followed
from windfell.engine.instants import chosen_times
from windfell.engine.pieces_laid import suggested, with_pieces
from windfell.engine.places import check_place, make_folder, refuse_frames
from windfell.engine.stack_pile import PileStages
from windfell.engine.stack_subjects import LEAST_FRAMES, Subjects, found_subjects
from windfell.errors import BadRequest, CannotJoin
from windfell.frames.video import is_video, video_facts
from windfell.geometry import planar
from windfell.job import Job
from windfell.output.animations import ANIMATIONS, write_animation
from windfell.recipe.animation import Plan, Way
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.finishes import read_finish
from windfell.recipe.finishing import Finish
from windfell.recipe.model import Align, Frame, FrameSet, Kind, Project, Registration, frame_from_path, new_id
from windfell.recipe.sources import VideoInstant
from windfell.recipe.written import written_whole

INSTANTS, MOST_INSTANTS = 24, 120
STILL_PX = 0.35


def run_subjects(options: Namespace, job: Job) -> None:
    out = Path(options.out)
    frames = moving_frames(options.frames, job, INSTANTS)
    wanted = options.keep and _checked(options.keep, len(frames), "--keep")
    names = options.frames if len(options.frames) == len(frames) else [f.source.path for f in frames]
    base = None if options.base is None else numbered(options.base, names, "--base")
    own = FrameSet(new_id(), out.stem, Kind.STACK, frames, output=new_output(options),
                   registration=Registration(Align.PERSPECTIVE, frames[base or 0].id),
                   combining=Combining(Rule.MEDIAN),
                   finish=read_finish(Path(options.finish)) if options.finish else Finish())
    _check_places(options, own)
    engine = Engine.by_settings()
    start = time.monotonic()
    own = _settled(engine, own, job)
    own = evened(engine.stages(Project((own,)), own.id), base, job)
    stages = engine.stages(Project((own,)), own.id)
    found = found_subjects(stages, job)
    registered = time.monotonic() - start
    among, gone = list(range(len(found.movers))), {n for n, _ in found.dropped}
    if options.box:
        boxed = followed(found, options.box)
        among = list(boxed.movers)
        if not among:
            raise BadRequest("Nothing that moves was found in the box {},{},{},{}.".format(*options.box))
        lost = [(n, "the boxed subject was not found in it") for n in boxed.lost]
        found = replace(found, dropped=tuple(sorted([*found.dropped, *lost])))
    used = suggested(found, among, base, options.shadows == "on") if wanted is None else [
        i for i in among if found.movers[i].frame + 1 in wanted or found.movers[i].frame == base]
    made, masks = with_pieces(own, found, used, options.shadows == "on", base)
    if gone:
        made = replace(made, frames=tuple(replace(f, on=n not in gone or n == base)
                                          for n, f in enumerate(made.frames)))
    engine.masks = {**engine.masks, **masks}
    written = export(engine, Project((made,)), made.id, out, job)
    if options.masks:
        _write_masks(Path(options.masks), found, among, (written.width, written.height))
    if options.report:
        words = subjects_report(found, among, used, base or 0, options.shadows == "on")
        words["seconds"] = {"found": round(registered, 3), "total": round(time.monotonic() - start, 3)}
        write_report(Path(options.report), words)


def subjects_report(found: Subjects, among: Sequence[int], used: Sequence[int], reference: int, shadows: bool
                    ) -> dict[str, Any]:
    """The movers `among`, in their order; conflicts by their place in it; frames from 0."""
    at = {i: k for k, i in enumerate(among)}
    return {
        "kind": "subjects", "reference": reference,
        "movers": [{"frame": found.movers[i].frame, "track": found.movers[i].track,
                    "box": list(found.movers[i].body_box), "used": i in used,
                    "conflicts": [at[j] for j in found.conflicts_of(i, shadows) if j in at]} for i in among],
        "dropped": [{"frame": n, "reason": why} for n, why in found.dropped],
        "standing": [{"box": [round(v / found.scale) for v in s.box], "sure": s.sure,
                      "seen_in": [list(one.frames) for one in s.seen]} for s in found.standing]}


def run_animate(options: Namespace, job: Job) -> None:
    out = Path(options.out)
    suffix = out.suffix.lower()
    if suffix not in ANIMATIONS:
        raise BadRequest(f"{out}: its ending names no moving picture; use {', '.join(ANIMATIONS)}.")
    if not 1 <= options.trail <= 1000:
        raise BadRequest(f"--trail {options.trail} is not a number of frames between 1 and 1000.")
    frames = moving_frames(options.frames, job, MOST_INSTANTS)
    own = FrameSet(new_id(), out.stem, Kind.STACK, frames, registration=Registration(Align.PERSPECTIVE, frames[0].id),
                   combining=Combining(Rule.MEDIAN))
    refuse_frames(Project((own,)), out)
    check_place(out)
    engine = Engine.by_settings()
    own = _settled(engine, own, job, all_of_them=True)
    if Way(options.way) is not Way.SERIES:
        own = evened(engine.stages(Project((own,)), own.id), None, job)
    stages = engine.stages(Project((own,)), own.id)
    width = options.width or min(WIDEST, stages.whole_size(job)[0])
    if not 16 <= width <= 8192:
        raise BadRequest(f"--width {width} is not between 16 and 8192 px.")
    with written_whole(out) as temporary:
        pictures = animated(stages, Plan(Way(options.way), options.trail, width), job)
        write_animation(temporary, suffix, pictures, options.fps or FPS)


def moving_frames(paths: Sequence[str], job: Job, most: int) -> tuple[Frame, ...]:
    """Frames of files, of a video its instants: all of a short one, else so many spread evenly."""
    out: list[Frame] = []
    for given in paths:
        path = os.path.abspath(given)
        if not os.path.isfile(path):
            raise BadRequest(f"{given}: there is no such file.")
        if not is_video(path):
            out.append(frame_from_path(path))
            continue
        facts = video_facts(path)
        count = round(facts.duration_s * facts.rate)
        times = chosen_times(path, 0.0, None, job, every=1) if 0 < count <= most else chosen_times(
            path, 0.0, None, job, count=most)
        out += [Frame(new_id(), VideoInstant(path, t)) for t in times]
    if len(out) < LEAST_FRAMES:
        raise CannotJoin("What moves is told from what stays by at least three frames; give more.")
    return tuple(out)


def _settled(engine: Engine, own: FrameSet, job: Job, all_of_them: bool = False) -> FrameSet:
    """The set with its frames left as they lie, where the camera stood still or where most cannot be brought onto the
    first; if `all_of_them` are wanted, where any cannot.
    """
    stages: PileStages = engine.stages(Project((own,)), own.id)
    sizes = {o.size for o in stages.opened(job)}
    if len(sizes) > 1:
        return own
    places = stages.registration(job).frames
    width, height = stages.whole_size(job)
    moved = [planar.corner_shift(p.transform, width, height) for p in places if isinstance(p, Onto)]
    lost = sum(isinstance(p, NotOnto) for p in places)
    steady = bool(moved) and not lost and np.median(moved) < STILL_PX and max(moved) < 4 * STILL_PX
    still = steady or lost > (0 if all_of_them else len(places) / 2)
    return replace(own, registration=replace(own.registration, align=Align.NONE)) if still else own


def _checked(numbers: Sequence[int], count: int, option: str) -> tuple[int, ...]:
    wrong = [n for n in numbers if not 1 <= n <= count]
    if wrong:
        raise BadRequest(f"{option}: there is no frame {wrong[0]}; they are numbered 1 to {count}.")
    return tuple(numbers)


def _check_places(options: Namespace, own: FrameSet) -> None:
    out = Path(options.out)
    format_of(options.out)
    refuse_frames(Project((own,)), out)
    check_place(out)
    if options.report:
        check_place(Path(options.report))
    if options.masks:
        make_folder(Path(options.masks))


def _write_masks(folder: Path, found: Subjects, among: Sequence[int], size: tuple[int, int]) -> None:
    """An 8-bit picture a mover, white inside; its shadow in one of its own, if it has any."""
    for i in among:
        mover = found.movers[i]
        stem = f"mover-{mover.frame + 1}-{mover.track}"
        for name, mask in ((f"{stem}.png", mover.body_over(size)), (f"{stem}-shadow.png", mover.shadow_over(size))):
            if mask.any() or not name.endswith("-shadow.png"):
                with written_whole(folder / name) as temporary:
                    temporary.write_bytes(cv2.imencode(".png", mask)[1].tobytes())
