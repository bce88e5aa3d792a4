"""What was found and done, as plain values for the report file and the command line."""

from __future__ import annotations

from typing import Any

from windfell.align.registration import PanoramaRegistration, Placed
from windfell.align.series import Onto
from windfell.engine.panorama import PanoramaStages
from windfell.engine.stack import StackStages
from windfell.job import Job
from windfell.recipe.model import Frame, FrameSet


def frame_name(frame: Frame) -> str:
    """A frame by its file, or by the set it is."""
    return getattr(frame.source, "path", None) or f"set:{frame.source.set}"


def panorama_report(
    stages: PanoramaStages, size: tuple[int, int], seconds: dict[str, float], job: Job
) -> dict[str, Any]:
    """The panorama report (docs/command-line.md): poses, links, errors, sizes."""
    found = stages.registration(job)
    frames = stages.set.used
    return {
        "kind": "panorama",
        "frames": [_pose(frames[n], f) for n, f in enumerate(found.frames)],
        "links": [
            {"a": k.a, "b": k.b, "points": len(k.points_a), "rms_px": round(k.rms_px, 4)}
            for k in found.links
        ],
        "rms_px": round(found.rms_px, 4),
        "projection": stages.choice(job).projection,
        "reason": stages.choice(job).reason,
        "width": size[0],
        "height": size[1],
        "kept_area": round(stages.kept_area(job), 4),
        "seconds": {k: round(v, 3) for k, v in seconds.items()},
    }


def _pose(frame: Frame, found) -> dict[str, Any]:
    if isinstance(found, Placed):
        return {
            "file": frame_name(frame),
            "placed": True,
            "rotation": found.rotation.tolist(),
            "focal_px": found.lens.focal_px,
            "distortion": {"k1": found.lens.k1},
            "rms_px": round(found.rms_px, 4),
            "reason": None,
        }
    return {
        "file": frame_name(frame), "placed": False, "rotation": None, "focal_px": None,
        "distortion": None, "rms_px": None, "reason": found.reason,
    }


def stack_report(stages: StackStages, seconds: dict[str, float], job: Job) -> dict[str, Any]:
    """The stack report (docs/command-line.md): each frame's place on the reference."""
    found = stages.registration(job)
    rows = []
    for frame, place in zip(stages.set.used, found.frames, strict=True):
        used = isinstance(place, Onto)
        rows.append({
            "file": frame_name(frame),
            "used": used,
            "transform": place.transform.tolist() if used else None,
            "rms_px": round(place.rms_px, 4) if used else None,
            "reason": None if used else place.reason,
        })
    return {
        "kind": "stack",
        "reference": found.reference,
        "frames": rows,
        "seconds": {k: round(v, 3) for k, v in seconds.items()},
    }


def unplaced(frame_set: FrameSet, found: PanoramaRegistration) -> list[tuple[str, str]]:
    """(frame, reason) for every frame that could not be placed."""
    return [
        (frame_name(frame_set.used[n]), f.reason)
        for n, f in enumerate(found.frames) if not isinstance(f, Placed)
    ]
