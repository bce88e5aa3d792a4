"""What was found and done, as plain values for the report file and the command line."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from windfell.align.doubt import doubts_in_words
from windfell.align.parallax import parallax_px
from windfell.align.registration import PanoramaRegistration, Placed, Unplaced
from windfell.align.series import NotOnto, Onto
from windfell.engine.panorama import PanoramaStages
from windfell.engine.seam_walk import seam_walk
from windfell.engine.stack import StackStages
from windfell.geometry import planar
from windfell.geometry.camera import Lens
from windfell.job import Job
from windfell.recipe.model import Frame, FrameSet
from windfell.recipe.points_file import frame_names


def frame_name(frame: Frame) -> str:
    """A frame by its file, or by the set it is."""
    return getattr(frame.source, "path", None) or f"set:{frame.source.set}"


def panorama_report(
    stages: PanoramaStages, size: tuple[int, int], seconds: dict[str, float], job: Job,
    given: Sequence[str] = (),
) -> dict[str, Any]:
    """The panorama report (docs/command-line.md): poses, links, errors, sizes. Of frames that are stacks, all frames
    of these, in the order in which files were `given` if that is told.
    """
    found = stages.registration(job)
    frames = stages.set.used
    doubtful = doubts_in_words(found, stages.set.numbers)
    rows: list[dict[str, Any]] = []
    own: list[int] = []
    positions = []
    for n, f in enumerate(found.frames):
        inner, place = stages.nested(n, job), _told(f, stages.set)
        of_it = [_pose(frames[n], place, doubtful.get(n))] if inner is None else inner_rows(
            inner, place, doubtful.get(n), job)
        own.append(len(rows) + (0 if inner is None else inner.reference()))
        positions.append(list(range(len(rows), len(rows) + len(of_it))))
        rows += of_it
    rows, own, positions = _as_given(rows, own, positions, given)
    placed = [own[n] for n in found.placed]
    return {
        "kind": "panorama",
        "frames": rows,
        **({"positions": positions} if len(rows) > len(frames) else {}),
        "links": [
            {"a": own[k.a], "b": own[k.b], "points": len(k.points_a), "by_hand": k.by_hand,
             "rms_px": round(k.rms_px, 4)}
            for k in found.links
        ],
        "rms_px": round(found.rms_px, 4),
        "upright": None if found.by_edges is None else {
            "by": found.by_edges.by, "edges": found.by_edges.edges, "error_deg": round(found.by_edges.error_deg, 4)},
        "parallax_px": _rounded(parallax_px(found)),
        "parallax_evened": _evened(stages, job),
        "seams_bent": _seams_bent(stages, job),
        "projection": "flat" if found.flat else stages.choice(job).projection,
        "reason": stages.choice(job).reason,
        "width": size[0],
        "height": size[1],
        "kept_area": round(stages.kept_area(job), 4),
        "outline": outline_report(stages, job),
        "seams": [{"a": placed[s.a], "b": placed[s.b], "x": round(s.x, 1), "y": round(s.y, 1),
                   "rating": round(s.rating, 3)} for s in seam_walk(stages, job)],
        "seconds": {k: round(v, 3) for k, v in seconds.items()},
    }


def _as_given(rows: list[dict], own: list[int], positions: list[list[int]], given: Sequence[str]) -> tuple:
    """Rows in the order of the files given, and the indices that say rows with them."""
    at = {f: n for n, f in enumerate(given)}
    order = sorted(range(len(rows)), key=lambda n: at.get(rows[n]["file"], len(at)))
    moved = {old: new for new, old in enumerate(order)}
    return [rows[n] for n in order], [moved[n] for n in own], [[moved[n] for n in p] for p in positions]


def inner_rows(inner: StackStages, outer: Placed | Unplaced, doubt: str | None, job: Job) -> list[dict[str, Any]]:
    """Rows of a nested stack's frames: each turned as its place on the stack's reference says, or, where it has none,
    as that one; with doubt.
    """
    rows = []
    for frame, place in zip(inner.set.used, inner.registration(job).frames, strict=True):
        found, own = outer, doubt
        if isinstance(place, NotOnto):
            # it stood with the others, as nearly as hands stand; it was left out of their light
            own = f"as its position lies, not by itself: {place.reason}"
        elif isinstance(outer, Placed):
            found = replace(outer, rotation=outer.rotation @ turned_by(place.transform, outer.lens).T)
        rows.append(_pose(frame, found, own))
    return rows


def turned_by(transform: NDArray[np.float64], lens: Lens) -> NDArray[np.float64]:
    """The rotation (3, 3), from one camera's axes to another's, that comes nearest to what a homography of their px
    does all over the frame (Kabsch 1976): a plain shift is a turn too.
    """
    x, y = np.meshgrid(np.linspace(0, lens.width - 1, 7), np.linspace(0, lens.height - 1, 7))
    here = np.stack([x, y], -1).reshape(-1, 2)
    one, other = lens.rays(here), lens.rays(planar.apply(transform, here))
    u, _, vt = np.linalg.svd(other.T @ one)
    return u @ np.diag([1.0, 1.0, np.linalg.det(u @ vt)]) @ vt


def outline_report(stages: PanoramaStages, job: Job) -> dict[str, float]:
    """What the picture's outline keeps of what is covered, and what bending it costs."""
    cost = stages.cost(job)
    return {
        "kept": round(stages.kept_area(job), 4), "stretch": round(cost.stretch, 3), "shear": round(cost.shear, 3),
        "line_bend": round(cost.line_bend, 3), "horizon_deg": round(cost.horizon_deg, 3),
        "vertical_deg": round(cost.vertical_deg, 3)}


def _evened(stages: PanoramaStages, job: Job) -> dict[str, Any] | None:
    if not stages.set.joining.even_parallax:
        return None
    found = stages.evened(job)
    return {"frames_bent": len(found.bends), "before_px": round(found.before_px, 4),
            "after_px": round(found.after_px, 4)}


def _seams_bent(stages: PanoramaStages, job: Job) -> dict[str, Any] | None:
    joining = stages.set.joining
    if not joining.bend_seams and not joining.bent:
        return None
    found = stages.seam_bends(job)
    return {"frames_bent": len(found.bends), "before_px": round(found.before_px, 4),
            "after_px": round(found.after_px, 4)}


def _told(place: Placed | Unplaced, frame_set: FrameSet) -> Placed | Unplaced:
    """The place of one of a set's frames; a reason tells frames by their numbers."""
    return Unplaced(place.words(frame_set.numbers)) if isinstance(place, Unplaced) else place


def _pose(frame: Frame, found, doubt: str | None) -> dict[str, Any]:
    if isinstance(found, Placed):
        return {
            "file": frame_name(frame),
            "placed": True,
            "rotation": found.rotation.tolist(),
            "focal_px": found.lens.focal_px,
            "distortion": {"k1": found.lens.k1, "k2": found.lens.k2, "k3": found.lens.k3},
            "principal_point": [found.lens.dx, found.lens.dy],
            "place": None if found.place is None else found.place.tolist(),
            "standard_error": _errors(found),
            "rms_px": round(found.rms_px, 4),
            "reason": None,
            "doubt": doubt,
        }
    return {
        "file": frame_name(frame), "placed": False, "rotation": None, "focal_px": None,
        "distortion": None, "principal_point": None, "place": None, "standard_error": None, "rms_px": None,
        "reason": found.reason, "doubt": None,
    }


def _errors(found: Placed) -> dict[str, float]:
    """Standard errors: of the direction in degrees, of the focal length in px, of k1 to k3."""
    focal, k1, k2, k3 = found.lens_error[:4]
    return {"direction_deg": float(np.degrees(found.turn_error)), "focal_px": focal * found.lens.focal_px,
            "k1": k1, "k2": k2, "k3": k3}


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 3)


def point_rows(stages: PanoramaStages, job: Job) -> list[dict[str, Any]]:
    """All control points that hold, by the frames' names (see recipe.points_file)."""
    found = stages.registration(job)
    by_id = {i: name for name, i in frame_names(stages.set.frames).items()}
    names = [by_id[f.id] for f in stages.set.used]
    rows = []
    for k in found.links:
        for n, (a, b, error) in enumerate(zip(k.points_a, k.points_b, k.errors, strict=True)):
            rows.append({
                "a": names[k.a], "b": names[k.b], "ax": round(float(a[0]), 3), "ay": round(float(a[1]), 3),
                "bx": round(float(b[0]), 3), "by": round(float(b[1]), 3), "weight": 1.0,
                "error_px": round(float(error), 3), "by_hand": n < k.by_hand})
    return rows


def stack_report(stages: StackStages, seconds: dict[str, float], job: Job) -> dict[str, Any]:
    """The stack report (docs/command-line.md): each frame's place on the reference."""
    found = stages.registration(job)
    rows = [{"file": frame_name(frame), **_place(place)}
            for frame, place in zip(stages.set.used, found.frames, strict=True)]
    for row, place in zip(rows, found.ground, strict=False):
        row["ground"] = _place(place)
    return {
        "kind": "stack",
        "reference": found.reference,
        "frames": rows,
        "seconds": {k: round(v, 3) for k, v in seconds.items()},
    }


def _place(place: Onto | NotOnto) -> dict[str, Any]:
    used = isinstance(place, Onto)
    return {
        "used": used,
        "transform": place.transform.tolist() if used else None,
        "rms_px": round(place.rms_px, 4) if used else None,
        "reason": None if used else place.reason,
    }


def doubts(frame_set: FrameSet, found: PanoramaRegistration) -> list[tuple[str, str]]:
    """(frame, why) for every frame whose place is doubtful."""
    return [(frame_name(frame_set.used[n]), why) for n, why in doubts_in_words(found, frame_set.numbers).items()]


def unplaced(frame_set: FrameSet, found: PanoramaRegistration) -> list[tuple[str, str]]:
    """(frame, reason) for every frame that could not be placed."""
    return [
        (frame_name(frame_set.used[n]), f.words(frame_set.numbers))
        for n, f in enumerate(found.frames) if not isinstance(f, Placed)
    ]
