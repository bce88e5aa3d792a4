"""The headless commands: each makes a recipe and asks the engine."""

from __future__ import annotations

import math
import os
import sys
import time
from argparse import Namespace
from dataclasses import replace
from pathlib import Path
from typing import Any

from windfell.cli.shaping import cropped, shaped, sized, waits
from windfell.cli.writing import format_of, layers_folder, new_output, with_options, write_report
from windfell.engine.apart import lying_apart
from windfell.engine.bracketed import nested_frames
from windfell.engine.core import Engine
from windfell.engine.dust import dust_of, with_dust
from windfell.engine.export import export
from windfell.engine.fisheyes import through_fisheye
from windfell.engine.instants import chosen_times, write_instants
from windfell.engine.layers import write_layers
from windfell.engine.output_pixels import is_linear
from windfell.engine.places import check_place, make_folder, refuse_frames
from windfell.engine.proposals import bracketed_files, way_asked
from windfell.engine.report import doubts, panorama_report, point_rows, stack_report, unplaced
from windfell.engine.survey import matched_set
from windfell.errors import BadRequest, CannotJoin, OutputFailed
from windfell.frames.masks import read_mask
from windfell.frames.still import StillFrame
from windfell.frames.video import is_video
from windfell.job import Job
from windfell.recipe import developing
from windfell.recipe.combining import Combining, Display, Rule
from windfell.recipe.developments import read_development
from windfell.recipe.finishes import read_finish
from windfell.recipe.model import (
    Align,
    Blend,
    Camera,
    FrameSet,
    Joining,
    Kind,
    Mask,
    Project,
    Registration,
    View,
    frame_from_path,
    new_id,
)
from windfell.recipe.outline import Outline
from windfell.recipe.output import Output, Words
from windfell.recipe.points_file import points_words, read_points
from windfell.recipe.project_file import Masks, load_project, mask_name
from windfell.recipe.sources import FileSource
from windfell.recipe.weights_file import read_weights
from windfell.recipe.written import written_whole


def run_panorama(options: Namespace, job: Job) -> None:
    layers_folder(options)
    new = _new_set(options, Kind.PANORAMA)
    if len(options.frames) < 2:
        raise CannotJoin("A panorama needs at least two frames; only one was given.")
    flat = options.projection == "flat"
    frame_set, inner = _positions(new, options, job)
    rows, columns = options.layout or (0, 0)
    if options.points_out:
        check_place(Path(options.points_out))
    frame_set = replace(
        frame_set,
        registration=Registration(
            camera=Camera.SLID if flat else Camera.TURNED, focal_px=_focal_px(options),
            level=options.level == "auto", rows=rows, columns=columns,
            points=read_points(Path(options.points), frame_set.frames) if options.points else ()),
        joining=Joining(even_parallax=options.parallax == "even", blend=Blend(options.blend),
                        bend_seams=options.bend_seams),
    )
    frame_set, masks = _owned(shaped(frame_set, options), options)
    _make(_prepared(frame_set, options, inner), frame_set.id, options, job, masks, lens_open=True)


def _positions(frame_set: FrameSet, options: Namespace, job: Job) -> tuple[FrameSet, tuple[FrameSet, ...]]:
    """The set whose frames are stacks, where several frames were taken at each position, and these."""
    if options.brackets == "off":
        return frame_set, ()
    inner = bracketed_files(
        Engine.by_settings(), [f.source.path for f in frame_set.frames], options.brackets,
        options.inner_rule and Rule(options.inner_rule), frame_set.name, job)
    if inner and (options.points or options.keep or options.never):
        raise BadRequest("--points, --keep and --never mean single frames; they do not go with --brackets.")
    return (replace(frame_set, frames=nested_frames(inner)), tuple(inner)) if inner else (frame_set, ())


def _owned(frame_set: FrameSet, options: Namespace) -> tuple[FrameSet, Masks]:
    """The set with the masks given of where frames must, or must not, own the picture."""
    frames, masks = list(frame_set.frames), {}
    for purpose, words in (("keep", options.keep), ("never", options.never)):
        for word in words:
            name, _, path = word.partition(":")
            if not path:
                raise BadRequest(f"--{purpose} {word} is not a frame and its mask, such as 2:mask.png.")
            n = numbered(name, options.frames, f"--{purpose}")
            mask = read_mask(Path(path))
            masks[mask_name(mask)] = mask
            frames[n] = replace(frames[n], masks=(*frames[n].masks, Mask(mask_name(mask), purpose)))
    return replace(frame_set, frames=tuple(frames)), masks


def _focal_px(options: Namespace) -> float | None:
    """Given by --lens, or by --fov and the first frame's width."""
    if options.fov is None:
        return options.lens
    width = StillFrame(os.path.abspath(options.frames[0])).size[0]
    return 0.5 * width / math.tan(math.radians(options.fov) / 2)


def _prepared(frame_set: FrameSet, options: Namespace, inner: tuple[FrameSet, ...] = ()) -> Project:
    """The set in a project, with those that it is made of; all files developed as the file says."""
    project = Project((frame_set, *inner))
    if options.develop:
        development = read_development(Path(options.develop))
        for own in inner or (frame_set,):
            ids = [f.id for f in own.frames]
            project = developing.use_development(project, own.id, ids, development).project
    return _finished(project, frame_set.id, options)


def _finished(project: Project, set_id: str, options: Namespace) -> Project:
    """The project whose set has the finish of a file, if one is given."""
    if not options.finish:
        return project
    return project.with_set(replace(project.set(set_id), finish=read_finish(Path(options.finish))))


def run_stack(options: Namespace, job: Job) -> None:
    layers_folder(options)
    frame_set = _new_set(options, Kind.STACK)
    reference = frame_set.frames[numbered(options.reference, options.frames)].id
    frame_set, masks = _weighed(frame_set, options), {}
    base = None if options.base is None else frame_set.frames[numbered(options.base, options.frames, "--base")].id
    if options.region:
        if base is None:
            raise BadRequest("--region needs --base: the frame that is seen outside of it.")
        mask = read_mask(Path(options.region))
        masks[mask_name(mask)] = mask
        region = Mask(mask_name(mask), "region")
        frame_set = replace(frame_set, frames=tuple(
            replace(f, masks=(region,)) if f.id == base else f for f in frame_set.frames))
    frame_set = replace(
        frame_set,
        registration=Registration(_align(options, job), reference, ground_apart=options.ground == "apart"),
        combining=_combining(options, base, frame_set.output),
        view=View(roll_deg=options.roll), outline=Outline(ratio=options.ratio),
    )
    frame_set = sized(frame_set, options)
    _make(_prepared(frame_set, options), frame_set.id, options, job, masks)


def _align(options: Namespace, job: Job) -> Align:
    if options.align != "auto":
        return Align(options.align or "none")
    paths = [os.path.abspath(p) for p in options.frames]
    return way_asked(Engine.by_settings(), paths, job) if len(paths) > 1 else Align.NONE


def _combining(options: Namespace, base: str | None, output: Output) -> Combining:
    """The rule and what goes with it; a file of linear light gets radiance as it is, unless it is said otherwise."""
    darks, flats = (tuple(FileSource(os.path.abspath(p)) for p in paths) for paths in (options.dark, options.flat))
    linear = is_linear(output, output.depth)
    floor, level = options.black_floor
    return Combining(
        Rule(options.rule), *options.kappa, base, floor, level, darks, flats,
        options.bridge, Display(options.map or ("none" if linear else "tone")), every=max(1, options.every),
        fade_in_pct=options.fade[0], fade_out_pct=options.fade[1], beyond_noise=options.beyond_noise)


def _weighed(frame_set: FrameSet, options: Namespace) -> FrameSet:
    if not options.weights:
        return frame_set
    weights = read_weights(Path(options.weights), options.frames)
    return replace(frame_set, frames=tuple(
        replace(f, weight=w) for f, w in zip(frame_set.frames, weights, strict=True)))


def numbered(wanted: str, files: list[str], option: str = "--reference") -> int:
    """The index of the frame that a number from 1, or a file's name, means."""
    if wanted.isdigit() and 1 <= int(wanted) <= len(files):
        return int(wanted) - 1
    named = [n for n, f in enumerate(files) if wanted in (f, os.path.basename(f))]
    if len(named) == 1:
        return named[0]
    raise BadRequest(
        f"{option} {wanted} names no frame; say its number, 1 to {len(files)}, or its file's name.")


def _new_set(options: Namespace, kind: Kind) -> FrameSet:
    for given in options.frames:
        if is_video(given):
            raise BadRequest(f"{given} is a video: write frames of it first, with windfell frames, and give those.")
    frames = tuple(frame_from_path(os.path.abspath(p)) for p in options.frames)
    output = new_output(options)
    return FrameSet(new_id(), Path(options.out).stem, kind, frames, output=output)


def run_render(options: Namespace, job: Job) -> None:
    project, masks = load_project(Path(options.project))
    frame_set = _named_set(project, options.set)
    output = replace(frame_set.output, format=format_of(options.out))
    words = output.words
    output = with_options(output, options)
    if options.depth:
        output = replace(output, depth=new_output(options).depth)
    if output.words == Words():
        output = replace(output, words=words)
    if options.size:
        output = replace(output, **options.size)
    frame_set = replace(frame_set, output=output)
    project = project.with_set(frame_set)
    _make(_finished(project, frame_set.id, options), frame_set.id, options, job, masks)


def _named_set(project: Project, name: str | None) -> FrameSet:
    if not project.sets:
        raise BadRequest("The project holds no set yet.")
    if name is None and len(project.sets) == 1:
        return project.sets[0]
    found = [s for s in project.sets if s.name == name]
    if found:
        return found[0]
    names = ", ".join(s.name for s in project.sets)
    wrong = "Say which set with --set" if name is None else f"There is no set named {name}"
    raise BadRequest(f"{wrong}; the project holds: {names}.")


def _make(
    project: Project, set_id: str, options: Namespace, job: Job, masks=None, lens_open: bool = False
) -> None:
    """Check everything that can be checked before the wait, then export and report. `lens_open`: what the lens is was
    not decided; fisheyes are found.
    """
    out, folder = Path(options.out), layers_folder(options)
    refuse_frames(project, out)
    check_place(out)
    if options.report:
        check_place(Path(options.report))
    engine = Engine.by_settings()
    engine.masks = masks or {}
    seconds: dict[str, float] = {}
    start = time.monotonic()
    if getattr(options, "dust", "leave") == "even":
        dust = dust_of(engine, project, set_id, job)
        engine.masks[mask_name(dust.left)] = dust.left
        project = with_dust(project, set_id, mask_name(dust.left)).project
    if getattr(options, "match", False):
        found, ids = matched_set(engine, project, set_id, None, job)
        project = developing.develop_each(
            project, set_id, dict(zip(ids, found.developments, strict=True)), "match").project
    if lens_open:
        project, through = through_fisheye(engine, project, set_id, job)
        if through:
            print(f"windfell: {through}", file=sys.stderr)
    stages = engine.stages(project, set_id)
    try:
        found = stages.registration(job)
    except CannotJoin:
        _refuse_unreadable(project, set_id)
        raise
    seconds["registration"] = time.monotonic() - start
    if waits(options):
        frame_set = cropped(project.set(set_id), options, engine.size(project, set_id, job))
        project = project.with_set(frame_set)
        stages = engine.stages(project, set_id)
    written = export(engine, project, set_id, out, job)
    if getattr(options, "align", "") is None:
        _say_if_apart(lying_apart(engine, project, set_id, job))
    seconds["total"] = time.monotonic() - start
    seconds["picture"] = seconds["total"] - seconds["registration"]
    _name_left_out(stages, found)
    if folder is not None:
        write_layers(engine, project, set_id, folder, job)
    if getattr(options, "points_out", None):
        place = Path(options.points_out)
        with written_whole(place) as temporary:
            temporary.write_text(points_words(point_rows(stages, job), place), encoding="utf-8")
    if options.report:
        try:
            if stages.kind is Kind.PANORAMA:
                given = [os.path.abspath(p) for p in getattr(options, "frames", ())]
                words = panorama_report(stages, (written.width, written.height), seconds, job, given)
            else:
                words = stack_report(stages, seconds, job)
            write_report(Path(options.report), words)
        except OutputFailed:
            out.unlink(missing_ok=True)
            raise


def _refuse_unreadable(project: Project, set_id: str) -> None:
    """Nothing can be made: raises FrameUnreadable if that is since a file is broken."""
    for frame in project.set(set_id).used:
        if isinstance(frame.source, FileSource):
            StillFrame(frame.source.path).encoded(8)


def _say_if_apart(px: float) -> None:
    """Frames that moved and were laid on each other as they are."""
    if px:
        print(f"windfell: the frames lie about {px:.0f} px apart and were not brought together; --align auto does "
              "that, --align none takes them as they are.", file=sys.stderr)


def _name_left_out(stages: Any, found: Any) -> None:
    if stages.kind is Kind.PANORAMA:
        rows = unplaced(stages.set, found)
        for name, why in doubts(stages.set, found):
            print(f"windfell: {name} is {why}.", file=sys.stderr)
    else:
        report = stack_report(stages, {}, Job())
        rows = [(f["file"], f["reason"]) for f in report["frames"] if not f["used"]]
    for name, reason in rows:
        why = reason.removeprefix(f"{name}: ").rstrip(".")
        print(f"windfell: {name} was left out: {why}.", file=sys.stderr)


def run_frames(options: Namespace, job: Job) -> None:
    folder = Path(options.out)
    make_folder(folder)
    if options.end is not None and options.end < options.start:
        raise BadRequest(f"--end {options.end:g} lies before --start {options.start:g}.")
    path = os.path.abspath(options.video)
    times = chosen_times(path, options.start, options.end, job, options.every, options.count)
    for place in write_instants(path, times, folder, options.format, job):
        print(place)


def run_demo(options: Namespace, job: Job) -> None:
    from windfell.demo.sets import SETS  # noqa: PLC0415 (nothing else draws)

    folder = Path(options.folder)
    chosen = [options.set] if options.set else [k for k, s in SETS.items() if not s.of]
    for name in chosen:
        place = folder / name
        try:
            place.mkdir(parents=True, exist_ok=True)
            SETS[name].write(place, options.scale, job)
        except OSError as error:
            why = error.strerror or str(error)
            raise OutputFailed(place, f"the demo cannot be written there ({why}).") from error
