"""A set looked at quickly: glimpses, what they share, where they lie, how their light drifts."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.barrel import agreeing
from windfell.align.features import unbent
from windfell.align.fisheye import fisheye_by_turns, fisheye_diagonal, matched_pairs
from windfell.align.matching import matches
from windfell.align.pairs import Link, find_links
from windfell.align.panorama import sketched_panorama
from windfell.align.registration import PanoramaRegistration, Placed, seen_through
from windfell.align.series import Onto, onto
from windfell.align.solve import LensHint
from windfell.cache import key_of
from windfell.develop.developer import exposure_matrix
from windfell.develop.lens import corrects_anything, suggested_profile
from windfell.develop.match import Matched, Shared, matched, shared_light
from windfell.engine.core import Engine
from windfell.engine.fisheyes import undecided
from windfell.engine.glimpse import Glimpse, glimpse_of
from windfell.engine.registered import known_focal_px
from windfell.engine.sources import Opened, OpenedFile
from windfell.engine.stage import bending
from windfell.errors import CannotJoin, WindfellError
from windfell.geometry import planar
from windfell.geometry.optics import Optics
from windfell.job import Job
from windfell.pixels.fields import field_of
from windfell.readiness.checks import findings
from windfell.readiness.coverage import coverage_of, covered_masks, missing_caps
from windfell.readiness.findings import Finding
from windfell.readiness.parallax import sideways_shift
from windfell.readiness.survey import Coverage, FrameLook, LightDrift, PairLook, Survey
from windfell.recipe.model import Align, Development, Frame, FrameSet, Kind, Project
from windfell.recipe.sources import SetSource, VideoInstant

Array = NDArray[np.float64]
DIRECTIONS = 24_000
LEAST_OVERLAP_FOR_LIGHT = 0.05
FEW_AGREE = 80


def surveyed(engine: Engine, project: Project, set_id: str, job: Job) -> Survey:
    """The set's frames in use, looked at. Frames that cannot be read are named, the rest goes on."""
    return engine.cache.get(
        key_of("survey", _survey_key(engine, project, set_id, job)), lambda: _survey(engine, project, set_id, job))


def readiness(engine: Engine, project: Project, set_id: str, job: Job) -> list[Finding]:
    """What would go wrong with the set, the weightiest first."""
    return findings(surveyed(engine, project, set_id, job))


def _survey_key(engine: Engine, project: Project, set_id: str, job: Job) -> tuple:
    frame_set = project.set(set_id)
    files = [_identity(engine, project, f, job) for f in frame_set.used]
    return frame_set.kind, frame_set.registration.align, files, frame_set.numbers, _aside(frame_set), [
        (f.id, f.development, f.lens) for f in frame_set.used]


def _identity(engine: Engine, project: Project, frame: Frame, job: Job) -> str:
    try:
        return engine.opened(project, frame, job).identity
    except WindfellError as error:
        return str(error)


def _survey(engine: Engine, project: Project, set_id: str, job: Job) -> Survey:
    frame_set = project.set(set_id)
    looked: list[tuple[Frame, Opened, Glimpse]] = []
    refused: list[tuple[str, str]] = []

    def look(frame: Frame):
        try:
            opened = engine.opened(project, frame, job)
            return frame, opened, glimpse_of(engine.cache, opened, job)
        except WindfellError as error:
            return frame, None, str(error)

    for frame, opened, found in job.map(look, list(frame_set.used), "looking at the frames"):
        if opened is None:
            refused.append((frame.id, found))
        else:
            looked.append((frame, opened, found))
    frames = tuple(_frame_look(f, frame_set.number_of(f.id), opened, glimpse) for f, opened, glimpse in looked)
    aligned = frame_set.registration.align is not Align.NONE
    key = key_of("survey places", frame_set.kind,
                 [(o.identity, o.lens_key, o.focal_px, bending(f.lens)) for f, o, _ in looked])
    fisheyes = [_fisheye(engine, f, o) for f, o, _ in looked]
    pairs, coverage, shifts, angle = engine.cache.get(key, lambda: _places(frame_set.kind, looked, fisheyes, job))
    drifts = _drifts(looked, [] if any(fisheyes) else pairs, job)
    return Survey(frame_set.kind, aligned, frames, tuple(pairs), drifts, coverage, shifts, tuple(refused),
                  aside=_aside(frame_set), fisheye_deg=angle)


def _aside(frame_set: FrameSet) -> tuple[tuple[str, int], ...]:
    """The frames that a proposal kept aside, by id and number; not doubles of others, which add nothing."""
    stems = {_stem(f) for f in frame_set.used}
    return tuple((f.id, n) for n, f in enumerate(frame_set.frames, 1)
                 if frame_set.proposed and not f.on and _stem(f) not in stems)


def _stem(frame: Frame) -> str:
    return os.path.splitext(getattr(frame.source, "path", frame.id))[0].lower()


def _fisheye(engine: Engine, frame: Frame, opened: Opened) -> Optics | None:
    """What the frame's lens does, if it is known to be a fisheye."""
    try:
        optics = engine.optics(opened, frame)
    except WindfellError:
        return None  # whoever needs it says what is wrong with it
    return optics if optics is not None and optics.mapping else None


def _places(
    kind: Kind, looked, fisheyes: Sequence[Optics | None], job: Job
) -> tuple[list[PairLook], Coverage | None, tuple, float | None]:
    """What the frames share, what each adds, how far a series moved, and how many degrees a fisheye sees of which
    nothing was known.
    """
    seen = [g.features for _, _, g in looked]
    features = [unbent(f, o) for f, o in zip(seen, fisheyes, strict=True)]
    if not features:
        return [], None, (), None
    if kind is Kind.STACK:
        first = next((n for n, (*_, g) in enumerate(looked) if field_of(g.small).field is None), 0)
        links, shifts = _series_links(features, first, job)
        return [_pair_look(k, features) for k in links[0]], None, shifts, None
    links = find_links(features, job)
    pairs = [_pair_look(k, features) for k in links[0]]
    registered = _sketched(looked, links, fisheyes) if len(looked) > 1 else None
    pairs = _with_true_overlap(pairs, registered, len(looked))
    few = agreeing(links[0], len(looked)) < FEW_AGREE * len(links[0]) or not links[0]
    left_out = registered is None or len(registered.placed) < len(looked)
    angle = None
    if undecided([f for f, _, _ in looked]) and (few or left_out):
        alike = matched_pairs(seen, job)
        angle = fisheye_diagonal(seen, alike, job)
        turns = fisheye_by_turns(seen, alike, job) if angle is None else None
        if turns is not None and (registered is None or turns.contradict(registered)):
            angle = turns.degrees
    return pairs, _coverage(registered, pairs, len(looked)), (), angle


def _frame_look(frame: Frame, number: int, opened: Opened, glimpse: Glimpse) -> FrameLook:
    source = frame.source
    kind = "video" if isinstance(source, VideoInstant) else "set" if isinstance(source, SetSource) else "file"
    path = getattr(source, "path", "another set")
    m = opened.still.metadata if isinstance(opened, OpenedFile) else None
    profile = suggested_profile(opened.taken)
    if profile and not corrects_anything(profile, opened.taken):
        profile = None
    lens = frame.lens
    by_hand = any((lens.k1, lens.k2, lens.k3))
    return FrameLook(
        frame.id, number, os.path.basename(path), _stem(frame), kind, opened.size,
        m and m.taken, m and m.exposure_value, m and m.focal_mm, m and m.camera, glimpse.digest,
        glimpse.fine, glimpse.burnt, profile, lens.profile is not None or by_hand,
        m is not None and m.format == "raw", field_of(glimpse.small, m and m.exposure_value),
    )


def _series_links(features, first: int, job: Job):
    """Links of a still series to one of its frames, and how far each frame moved against that, px."""
    start = features[first]

    def one(n: int):
        return None if n == first else onto(start, features[n], "similarity")

    places = job.map(one, list(range(len(features))), "comparing the frames")
    links: list[Link] = []
    shifts: list[float | None] = [None] * len(features)
    shifts[first] = 0.0
    for n, place in enumerate(places):
        if not isinstance(place, Onto):
            continue
        pairs = matches(start, features[n])
        a, b = start.points[pairs[:, 0]], features[n].points[pairs[:, 1]]
        links.append(Link(first, n, a, b, np.ones(len(a), bool), place.transform))
        middle = np.array([[start.width / 2, start.height / 2]])
        moved = planar.apply(place.transform, middle) - middle * [
            features[n].width / start.width, features[n].height / start.height]
        shifts[n] = float(np.linalg.norm(moved))
    return (links, []), tuple(shifts)


def _pair_look(k: Link, features) -> PairLook:
    a, b = features[k.a], features[k.b]
    onto_b = planar.of_fractions(k.homography, (a.width, a.height), (b.width, b.height))
    middle = np.array([[a.width / 2, a.height / 2]])
    shift = float(np.linalg.norm(planar.apply(k.homography, middle) - middle))
    tolerance = max(b.width, b.height) / 260
    parallax = sideways_shift(k.points_a, k.points_b, k.homography, tolerance, max(b.width, b.height))
    return PairLook(k.a, k.b, planar.overlap(onto_b), onto_b, shift, parallax)


def _sketched(looked, links, fisheyes: Sequence[Optics | None]) -> PanoramaRegistration | None:
    features = [g.features for _, _, g in looked]
    hints = [LensHint(o.lens_key, known_focal_px(o, x)) for (_, o, _), x in zip(looked, fisheyes, strict=True)]
    try:
        return seen_through(sketched_panorama(features, hints, *links), fisheyes)
    except CannotJoin:
        return None


def _with_true_overlap(pairs: list[PairLook], found: PanoramaRegistration | None, count: int) -> list[PairLook]:
    """Overlaps by the cameras where both are placed: a homography misjudges wide frames."""
    if found is None:
        return pairs
    out = []
    for p in pairs:
        a, b = found.frames[p.a], found.frames[p.b]
        overlap = p.overlap
        if isinstance(a, Placed) and isinstance(b, Placed):
            overlap = max(share_seen(a, b), share_seen(b, a))
        out.append(PairLook(p.a, p.b, overlap, p.onto, p.shift_px, p.parallax_px))
    return out


def share_seen(a: Placed, b: Placed) -> float:
    """Which share of `a` the frame `b` sees too."""
    steps = (np.arange(32) + 0.5) / 32
    points = np.stack(np.meshgrid(steps * a.lens.width - 0.5, steps * a.lens.height - 0.5), -1).reshape(-1, 2)
    place = b.posed.project(a.posed.rays(points))
    with np.errstate(invalid="ignore"):
        inside = np.all((place > -0.5) & (place < [b.lens.width - 0.5, b.lens.height - 0.5]), axis=1)
    return float(inside.mean())


def registered_coverage(found: PanoramaRegistration) -> Coverage:
    """What each frame adds where the registration has placed them, on the sphere or the flat subject."""
    frames = found.frames
    pairs = [
        PairLook(k.a, k.b, max(share_seen(frames[k.a], frames[k.b]), share_seen(frames[k.b], frames[k.a])),
                 np.eye(3), 0.0, 0.0)
        for k in found.links]
    rays = _even_rays(DIRECTIONS) if not found.flat else _even_spots([frames[n] for n in found.placed])
    placed = [isinstance(f, Placed) for f in frames]
    weight = np.ones(len(rays))
    seen = covered_masks(rays, [f.posed if p else None for f, p in zip(frames, placed, strict=True)], weight)
    covered = coverage_of(seen, weight, pairs, placed)
    return covered if found.flat else replace(covered, caps=missing_caps(rays, seen.any(axis=0)))


def _even_spots(frames: Sequence[Placed]) -> Array:
    """Spots (x, y, 1) spread evenly over the part of a flat subject that the frames show."""
    seen = np.concatenate([f.posed.rays(f.lens.grid(12)) for f in frames])
    seen = seen[np.isfinite(seen[:, 0])]
    low, high = (seen[:, :2] / seen[:, 2:]).min(axis=0), (seen[:, :2] / seen[:, 2:]).max(axis=0)
    wide, tall = high - low
    rows = max(8, round(np.sqrt(DIRECTIONS * tall / wide)))
    x, y = np.meshgrid(np.linspace(low[0], high[0], max(8, DIRECTIONS // rows)), np.linspace(low[1], high[1], rows))
    return np.stack([x, y, np.ones_like(x)], -1).reshape(-1, 3)


def _coverage(found: PanoramaRegistration | None, pairs: Sequence[PairLook], count: int) -> Coverage | None:
    if found is None:
        return None
    rays = _even_rays(DIRECTIONS)
    frames = [f.posed if isinstance(f, Placed) else None for f in found.frames]
    seen = covered_masks(rays, frames, np.ones(len(rays)))
    return coverage_of(seen, np.ones(len(rays)), pairs, [f is not None for f in frames])


def _even_rays(count: int) -> Array:
    """Unit rays spread evenly over the sphere (the golden spiral)."""
    n = np.arange(count) + 0.5
    z = 1 - 2 * n / count
    turn = np.pi * (1 + 5**0.5) * n
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(turn), r * np.sin(turn), z], axis=-1)


def shared_samples(looked: Sequence[Glimpse], pairs: Sequence[PairLook], job: Job) -> list[Shared]:
    """Light that pairs of frames have in common, from their glimpses."""
    rng = np.random.default_rng(1)
    out = []
    for p in job.over(list(pairs), "comparing light"):
        if p.overlap < LEAST_OVERLAP_FOR_LIGHT:
            continue
        a, b = looked[p.a].small.astype(np.float32), looked[p.b].small.astype(np.float32)
        a, b = (cv2.blur(x, (3, 3)) for x in (a, b))
        (ha, wa), (hb, wb) = a.shape[:2], b.shape[:2]
        shift = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]])
        turn = np.linalg.inv(shift) @ np.diag([wb, hb, 1.0]) @ p.onto @ np.diag([1 / wa, 1 / ha, 1.0]) @ shift
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        there = cv2.warpPerspective(b, turn, (wa, ha), flags=flags)
        inside = cv2.warpPerspective(np.ones((hb, wb), np.float32), turn, (wa, ha), flags=flags) > 0.99
        found = shared_light(p.a, p.b, a, there, inside, rng)
        if found is not None:
            out.append(found)
    return out


def _drifts(looked, pairs: Sequence[PairLook], job: Job) -> tuple[LightDrift | None, ...]:
    """How each frame's light, developed as it is now, is off the set's middle."""
    if len(looked) < 2:
        return (None,) * len(looked)
    shared = shared_samples([g for _, _, g in looked], pairs, job)
    now = [exposure_matrix(f.development).astype(float) for f, _, _ in looked]
    shared = [Shared(s.a, s.b, np.maximum(s.light_a @ now[s.a].T, 1e-5), np.maximum(s.light_b @ now[s.b].T, 1e-5))
              for s in shared]
    linked = [sum(1 for s in shared if n in (s.a, s.b)) for n in range(len(looked))]
    reference = int(np.argmax(linked))
    found = matched([Development()] * len(looked), reference, shared, job, tone=False)
    known = [d for d in found.drifts if d is not None]
    ev, mired = np.median([d.ev for d in known]), np.median([d.mired for d in known])
    return tuple(
        None if d is None or (n != reference and not linked[n])
        else LightDrift(float(d.ev - ev), float(mired - d.mired)) for n, d in enumerate(found.drifts)
    )


def matched_set(
    engine: Engine, project: Project, set_id: str, reference: str | None, job: Job
) -> tuple[Matched, list[str]]:
    """Developments that bring every frame in use to a reference frame (or the most linked one), and
    the ids they belong to. Raises CannotJoin if no two frames share anything.
    """
    frame_set: FrameSet = project.set(set_id)
    survey = surveyed(engine, project, set_id, job)
    ids = [f.id for f in survey.frames]
    looked = [glimpse_of(engine.cache, engine.opened(project, frame_set.frame(i), job), job) for i in ids]
    shared = shared_samples(looked, survey.pairs, job)
    if not shared:
        raise CannotJoin("No two frames share enough to compare their light.")
    linked = [sum(1 for s in shared if n in (s.a, s.b)) for n in range(len(ids))]
    chosen = reference or frame_set.registration.reference
    at = ids.index(chosen) if chosen in ids else int(np.argmax(linked))
    found = matched([frame_set.frame(i).development for i in ids], at, shared, job)
    return found, ids
