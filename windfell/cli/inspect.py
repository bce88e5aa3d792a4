"""`windfell inspect`: the sets that files form, what the files say, and Readiness."""

from __future__ import annotations

import json
import os
from argparse import Namespace
from dataclasses import asdict
from typing import Any

from windfell.engine.core import Engine
from windfell.engine.proposals import propose
from windfell.engine.survey import surveyed
from windfell.errors import BadRequest, WindfellError
from windfell.frames.listing import pictures_in
from windfell.frames.still import metadata_of
from windfell.frames.video import is_video, video_facts
from windfell.job import Job
from windfell.readiness.checks import findings
from windfell.recipe.calibrating import field_words
from windfell.recipe.model import Frame, FrameSet, Kind, Project
from windfell.recipe.sources import SetSource, VideoInstant


def run_inspect(options: Namespace, job: Job) -> None:
    paths = []
    for given in options.frames:
        paths += pictures_in(given) if os.path.isdir(given) else [os.path.abspath(given)]
    engine = Engine.by_settings()
    proposal = propose(engine, paths, job)
    if not proposal.sets:
        why = proposal.refused[0] if proposal.refused else "There are no pictures there."
        raise BadRequest(why)
    project = Project(proposal.sets)
    words = {"sets": [_set_words(engine, project, s, job) for s in project.sets],
             "refused": list(proposal.refused)}
    print(json.dumps(words, indent=1) if options.json else _told(words))


def _set_words(engine: Engine, project: Project, frame_set: FrameSet, job: Job) -> dict[str, Any]:
    numbers = {f.id: n + 1 for n, f in enumerate(frame_set.frames)}
    survey = surveyed(engine, project, frame_set.id, job)
    rows = [_frame_words(project, f) for f in frame_set.frames]
    if survey.coverage is not None:
        for look, added in zip(survey.frames, survey.coverage.added, strict=True):
            rows[numbers[look.id] - 1]["adds"] = None if added is None else round(added, 4)
    return {
        "name": frame_set.name, "kind": str(frame_set.kind),
        "align": str(frame_set.registration.align) if frame_set.kind is Kind.STACK else None, "frames": rows,
        "darks": [s.path for s in frame_set.combining.darks], "flats": [s.path for s in frame_set.combining.flats],
        "readiness": [
            {"fault": f.fault, "weight": str(f.weight), "title": f.title, "cost": f.cost,
             "frames": [numbers[i] for i in f.frames], "mend": str(f.mend), "safe": f.safe}
            for f in findings(survey)
        ],
    }


def _frame_words(project: Project, frame: Frame) -> dict[str, Any]:
    source = frame.source
    if isinstance(source, SetSource):
        return {"set": project.set(source.set).name, "on": frame.on}
    words: dict[str, Any] = {"file": source.path, "on": frame.on}
    if isinstance(source, VideoInstant):
        return {**words, "time_s": source.time_s, **_plain(asdict(video_facts(source.path)))}
    try:
        found = asdict(metadata_of(source.path))
    except WindfellError as error:
        return {**words, "problem": str(error)}
    found.pop("profile")
    return {**words, **_plain(found)}


def _plain(values: dict[str, Any]) -> dict[str, Any]:
    return {k: v.isoformat() if hasattr(v, "isoformat") else v for k, v in values.items()}


def _told(words: dict[str, Any]) -> str:
    lines = []
    for s in words["sets"]:
        used = sum(f["on"] for f in s["frames"])
        align = f", aligned by {s['align']}" if s["align"] not in (None, "none") else ""
        lines.append(f"{s['name']}: {s['kind']}, {used} of {len(s['frames'])} frames in use{align}")
        for n, f in enumerate(s["frames"], 1):
            lines.append(f"  {n:3d}  {_frame_line(f)}")
        if s["darks"] or s["flats"]:
            lines.append(f"  calibrated by {field_words(len(s['darks']), len(s['flats']))}")
        for f in s["readiness"]:
            lines.append(f"  {f['weight']}: {f['title']}. {f['cost']}")
        if not s["readiness"]:
            lines.append("  Ready: nothing was found that would spoil it.")
    return "\n".join([*lines, *words["refused"]])


def _frame_line(f: dict[str, Any]) -> str:
    name = f.get("set") or (os.path.basename(f["file"]) if os.path.dirname(f["file"]) else f["file"])
    if "file" in f and is_video(f["file"]):
        name += f" at {f['time_s']:.2f} s"
    parts = [name, f"{f['width']} x {f['height']}" if "width" in f else "",
             (f.get("taken") or "").replace("T", " "), f"{f['focal_mm']:g} mm" if f.get("focal_mm") else "",
             f"adds {100 * f['adds']:.0f} %" if f.get("adds") is not None else "",
             "" if f["on"] else "aside", f.get("problem", "")]
    return "  ".join(p for p in parts if p)
