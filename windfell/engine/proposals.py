"""Sets proposed from files: opened, compared by their previews, grouped, made into recipes."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.acquaintance import acquainted, same_in_place
from windfell.align.features import Features, find_features
from windfell.align.movement import has_moved
from windfell.align.pairs import Link, link
from windfell.align.same_light import brighter_by
from windfell.engine.apart import how_far_apart
from windfell.engine.bracketed import MOST_A_POSITION, Glances, inner_sets, nested_frames, positions_among
from windfell.engine.core import FEATURES, Engine
from windfell.engine.proposed_fields import calibrated_by, fields_among
from windfell.engine.sources import Opened
from windfell.engine.stage import Detail
from windfell.errors import BadRequest, CannotJoin, FrameUnreadable
from windfell.frames.propose import Likeness, grouped
from windfell.frames.shots import Form, Group, Relation, Relations, Shot
from windfell.frames.still import StillFrame
from windfell.frames.video import evenly, instant, is_video, last_time, video_facts
from windfell.geometry import planar
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_decoded, to_view
from windfell.pixels.fields import FieldLook, field_of
from windfell.pixels.resample import shrunk
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import Align, Frame, FrameSet, Kind, Project, Registration, frame_from_path, new_id
from windfell.recipe.sources import VideoInstant

SMALL_SIDE, CLOSE_SIDE = 160, 96
ENLARGED = 2
INSTANTS = 9
SAME_VIEW = 0.55
BLANK = 0.1
TITLES = {Form.SWEEP: "Panorama", Form.SERIES: "Stack", Form.BRACKET: "Bracket", Form.VIDEO: "Clip"}


@dataclass(frozen=True)
class Proposal:
    """Sets proposed from files, and the files that could not be read with the reason."""

    sets: tuple[FrameSet, ...]
    refused: tuple[str, ...]


def propose(engine: Engine, paths: Sequence[str], job: Job, first_number: int = 1) -> Proposal:
    """One lane per sweep, series, bracket or video that the files seem to hold."""
    found = job.map(shot_of, list(paths), "reading what the frames say")
    shots = [s for s, _ in found if s is not None]
    refused = tuple(why for s, why in found if s is None)
    known = Acquaintances(engine, shots, job)
    fields = fields_among(shots, known.field)
    sets = calibrated_by(_sets_from([s for s in shots if s.path not in fields], first_number, known), shots, fields)
    if sets is None:  # nothing is there that they would calibrate
        sets = _sets_from(shots, first_number, known)
    return Proposal(tuple(replace(s, proposed=True) for s in sets), refused)


def _sets_from(shots: Sequence[Shot], first_number: int, known: Acquaintances) -> list[FrameSet]:
    return [s for n, group in enumerate(grouped(shots, known.like)) for s in _sets_of(group, first_number + n, known)]


def shot_of(path: str) -> tuple[Shot | None, str]:
    """A file as the grouping sees it; or none, and why."""
    try:
        if is_video(path):
            facts = video_facts(path)
            return Shot(path, (facts.width, facts.height), facts.taken, video=True), ""
        m = StillFrame(path).metadata
    except FrameUnreadable as error:
        return None, str(error)
    focal = m.focal35_mm or m.focal_mm
    return Shot(path, (m.width, m.height), m.taken, m.exposure_value, focal, m.camera, m.format == "raw"), ""


def _sets_of(group: Group, number: int, known: Acquaintances) -> list[FrameSet]:
    title = f"{TITLES[group.form]} {number}"
    if group.form is Form.VIDEO:
        return [_video_set(group.shots[0].path, os.path.splitext(os.path.basename(group.shots[0].path))[0])]
    if group.form is Form.BRACKET and len(group.positions) > 1:
        return _bracket_sets(group, title, known)
    frames = _frames(group.shots, group.aside)
    if group.form is Form.SWEEP:
        return [FrameSet(new_id(), title, Kind.PANORAMA, frames)]
    own = [s for s in group.shots if s.path not in group.aside]
    # of many frames the light fell or came
    bracket = group.form is Form.BRACKET and len(own) <= MOST_A_POSITION
    combining = Combining(Rule.EXPOSURES) if bracket else Combining()
    align = known.movement(own, finely=bracket)
    return [FrameSet(new_id(), title, Kind.STACK, frames, Registration(align), combining=combining)]


def _frames(shots: Sequence[Shot], aside: frozenset[str]) -> tuple[Frame, ...]:
    return tuple(replace(frame_from_path(s.path), on=s.path not in aside) for s in shots)


def _bracket_sets(group: Group, title: str, known: Acquaintances) -> list[FrameSet]:
    """A panorama whose frames are stacks, one a position; what is aside stays aside in the panorama."""
    aligns = known.movement_at([[s for s in shots if s.path not in group.aside] for shots in group.positions])
    inner = inner_sets(title, group.positions, known.glances(), aligns, aside=group.aside)
    placed = {s.path for shots in group.positions for s in shots}
    others = _frames([s for s in group.shots if s.path not in placed], group.aside)
    return [FrameSet(new_id(), title, Kind.PANORAMA, (*nested_frames(inner), *others)), *inner]


def bracketed_files(engine: Engine, paths: Sequence[str], wanted: str | int, rule: Rule | None, title: str,
                    job: Job) -> list[FrameSet]:
    """A stack for each position at which several of the files were taken: so many frames each, in their order, or
    as is found (`wanted` "auto"; then none may be found). `rule`: how each is combined; None by what they are.

    Raises BadRequest if so many a position cannot be, FrameUnreadable for what cannot be opened.
    """
    shots = _stills(paths, job)
    known = Acquaintances(engine, shots, job)
    if wanted == "auto":
        positions = positions_among(shots, known.glances())
    else:
        if len(shots) % int(wanted) or len(shots) < 2 * int(wanted):
            raise BadRequest(
                f"{len(shots)} frames cannot be shared out, {wanted} for each of several positions; give all.")
        positions = [shots[k : k + int(wanted)] for k in range(0, len(shots), int(wanted))]
    if not positions:
        return []
    return inner_sets(title, positions, known.glances(), known.movement_at(positions), rule)


def way_asked(engine: Engine, paths: Sequence[str], job: Job) -> Align:
    """The alignment that the movement between a series' frames asks for. Raises FrameUnreadable."""
    shots = _stills(paths, job)
    return Acquaintances(engine, shots, job).movement(shots)


def _stills(paths: Sequence[str], job: Job) -> list[Shot]:
    """The files as the grouping sees them. Raises FrameUnreadable for what cannot be opened, and for videos."""
    shots = []
    for path, (shot, _) in zip(paths, job.map(shot_of, list(paths), "reading what the frames say"), strict=True):
        if shot is None or shot.video:
            StillFrame(path)
        shots.append(shot)
    return shots


def _video_set(path: str, name: str) -> FrameSet:
    facts = video_facts(path)
    times = evenly(0.0, last_time(facts), min(INSTANTS, max(1, round(facts.duration_s * facts.rate))))
    frames = tuple(Frame(new_id(), VideoInstant(path, round(t, 4))) for t in times)
    size = _small_size((facts.width, facts.height))
    first, later = (_eight_bit(shrunk(instant(path, t), *size)) for t in (times[0], times[len(times) // 2]))
    kind = Kind.STACK if correlation(first, later) > SAME_VIEW else Kind.PANORAMA
    return FrameSet(new_id(), name, kind, frames)


def _eight_bit(pixels: NDArray) -> NDArray[np.uint8]:
    return pixels if pixels.dtype == np.uint8 else (pixels >> 8).astype(np.uint8)


def _small_size(size: tuple[int, int]) -> tuple[int, int]:
    k = SMALL_SIDE / max(size)
    return max(8, round(size[0] * k)), max(8, round(size[1] * k))


class Acquaintances:
    """What the frames show of each other. Where their times order them, the previews in the files say enough and are
    quick; where nothing does, features as Align finds them.
    """

    def __init__(self, engine: Engine, shots: Sequence[Shot], job: Job) -> None:
        self._engine, self._job = engine, job
        stills = [s for s in shots if not s.video]
        found = job.map(_small, stills, "comparing the frames")
        self._small = {s.path: p for s, p in zip(stills, found, strict=True)}
        self._features: dict[str, Features | None] = {}
        self._colours: dict[str, NDArray[np.float32]] = {}
        self.like = Likeness(self.same, self.relation, self.among, self.look, self.blank, self.together)

    def glances(self) -> Glances:
        """The small pictures, and what pairs share."""
        return Glances(self._small, self.like)

    def same(self, a: Shot, b: Shot) -> float:
        """Correlation of the two in place, 1 if nearly all is the same, -1 where one has no picture."""
        one, two = self._small[a.path], self._small[b.path]
        if one is None or two is None:
            return -1.0
        grey = [cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) for p in (one, two)]
        return 1.0 if same_in_place(*grey) else correlation(one, two)

    def blank(self, shot: Shot) -> bool:
        """Whether a frame is nearly all burnt out or dark."""
        return self._small[shot.path] is not None and self.glances().well_exposed(shot) < BLANK

    def look(self, a: Shot, b: Shot) -> float:
        """How much of their colours two frames have in common, 0..1."""
        return float(np.minimum(self._colours_of(a), self._colours_of(b)).sum())

    def _colours_of(self, shot: Shot) -> NDArray[np.float32]:
        if shot.path not in self._colours:
            small = self._small[shot.path]
            self._colours[shot.path] = np.zeros(512, np.float32) if small is None else _histogram(small)
        return self._colours[shot.path]

    def field(self, shot: Shot) -> FieldLook | None:
        """Whether a frame shows something, or no light, or an even field."""
        small = self._small.get(shot.path)
        return None if small is None else field_of(
            srgb_decoded(small / 255.0) @ SRGB_TO_WORKING.T, shot.exposure_ev)

    def relation(self, a: Shot, b: Shot) -> Relation | None:
        """What features of the two say that they share."""
        found = self._link(a, b)
        return None if found is None else _relation(found.homography, *(self._features[s.path] for s in (a, b)))

    def among(self, shots: Sequence[Shot]) -> Relations:
        """What all of these share, by features as Align finds them: only here whole frames are looked at."""
        found = self._job.map(self._quick, shots, str(Detail.QUICK))
        fair = [(s, f) for s, f in zip(shots, found, strict=True) if f is not None]
        features = [f for _, f in fair]
        self._features |= {s.path: f for s, f in fair}

        def finer(n: int) -> Features:
            return self._found(fair[n][0], Detail.FINE)

        return {(fair[k.a][0].path, fair[k.b][0].path): _relation(k.homography, features[k.a], features[k.b])
                for k in acquainted(features, self._job, finer)}

    def together(self, shots: Sequence[Shot]) -> frozenset[str]:
        """Those that Align joins to a panorama, by path."""
        frames = tuple(frame_from_path(s.path) for s in shots)
        tried = FrameSet("tried", "Tried", Kind.PANORAMA, frames)
        try:
            found = self._engine.stages(Project((tried,)), tried.id).registration(self._job)
        except (CannotJoin, FrameUnreadable):
            return frozenset()
        return frozenset(shots[n].path for n in found.placed)

    def _quick(self, shot: Shot) -> Features | None:
        try:
            return self._found(shot, Detail.QUICK)
        except FrameUnreadable:
            return None

    def _found(self, shot: Shot, detail: Detail) -> Features:
        return self._engine.features(self._opened(shot), frame_from_path(shot.path), self._job, detail)

    def _opened(self, shot: Shot) -> Opened:
        return self._engine.opened(Project(), frame_from_path(shot.path), self._job)

    def _link(self, a: Shot, b: Shot) -> Link | None:
        self._job.check()
        one, two = self._of(a), self._of(b)
        found = None if one is None or two is None else link(0, 1, one, two)
        return found if isinstance(found, Link) else None

    def _of(self, shot: Shot) -> Features | None:
        """Its features: those of its preview where no others have been looked for."""
        if shot.path not in self._features:
            small = self._small[shot.path]
            self._features[shot.path] = None if small is None else _features_of(small, shot.size)
        return self._features[shot.path]

    def movement(self, shots: Sequence[Shot], finely: bool = False) -> Align:
        """The alignment that a series' movement asks for: a camera that moved was turned by hand. `finely`: whole
        frames are looked at, as for brackets, of which previews are the less alike the farther apart their light.
        """
        middle = shots[len(shots) // 2]
        if any(s.size != middle.size for s in shots):
            return Align.PERSPECTIVE
        others = [s for s in shots if s is not middle]
        links = [] if finely else [
            k for k in self._job.map(lambda s: self._link(middle, s), others, "looking for movement") if k]
        known = self._of(middle)
        found_at = FEATURES[Detail.QUICK][1] if known is not None and known.binary else ENLARGED * SMALL_SIDE
        if 2 * len(links) < len(others):  # exposures far apart, little to see in previews, a stranger in the middle
            closer = self._neighbours_in_light(shots)
            if len(closer) > len(links):
                links, found_at = closer, FEATURES[Detail.QUICK][1]
        moved = has_moved(links, *middle.size, found_at)
        if moved is None:  # hardly a feature: its light as a whole may tell
            moved = self._lie_apart(shots)
        return Align.PERSPECTIVE if moved else Align.NONE

    def _lie_apart(self, shots: Sequence[Shot]) -> bool:
        opened = [self._opened(s) for s in (shots[0], shots[len(shots) // 2], shots[-1])]
        return how_far_apart(self._engine, opened, self._job) > 0

    def _neighbours_in_light(self, shots: Sequence[Shot]) -> list[Link]:
        """Links of each frame with the next brighter one, looked at as finely as Align does."""
        found = [self._quick(s) for s in sorted(shots, key=self.glances().level)]
        links = [link(0, 1, a, b) for a, b in pairwise(found) if a is not None and b is not None]
        return [k for k in links if isinstance(k, Link)]

    def movement_at(self, positions: Sequence[Sequence[Shot]]) -> list[Align]:
        """How the frames of each position are brought together: as they are if the camera stood, looked at as finely
        as Align does, else by whole homographies, since they are turned by hand.
        """
        def still(shots: Sequence[Shot]) -> bool:
            links = self._neighbours_in_light(shots)
            return not has_moved(links, *shots[0].size, FEATURES[Detail.QUICK][1])

        found = self._job.map(still, list(positions), "looking for movement")
        return [Align.NONE if s else Align.PERSPECTIVE for s in found]


def _features_of(small: NDArray[np.uint8], size: tuple[int, int]) -> Features:
    larger = cv2.resize(small, None, fx=ENLARGED, fy=ENLARGED, interpolation=cv2.INTER_CUBIC)
    light = (srgb_decoded(larger / 255.0) @ SRGB_TO_WORKING.T).astype(np.float32)
    return find_features(light, *size, most=500)


def _relation(homography: NDArray, a: Features, b: Features) -> Relation:
    onto = planar.of_fractions(homography, (a.width, a.height), (b.width, b.height))
    return Relation(onto, brighter_by(a, b, homography))


def _histogram(small: NDArray[np.uint8]) -> NDArray[np.float32]:
    """Shares of 8 x 8 x 8 colours, in the eye's steps."""
    lab = cv2.cvtColor(small, cv2.COLOR_RGB2LAB)
    found = cv2.calcHist([lab], [0, 1, 2], None, [8, 8, 8], [0, 256] * 3).ravel()
    return found / found.sum()


def _small(shot: Shot) -> NDArray[np.uint8] | None:
    """A picture of about SMALL_SIDE px, sRGB uint8, or None if the frame cannot be decoded."""
    try:
        still = StillFrame(shot.path)
        found = still.preview()
        size = _small_size(shot.size)
        if found is None or max(found.shape[:2]) < 100:
            pixels = still.encoded(8)
            found = pixels if pixels.dtype == np.uint8 else _viewed(still, pixels)
        return cv2.resize(found, size, interpolation=cv2.INTER_AREA)
    except FrameUnreadable:
        return None


def _viewed(still: StillFrame, pixels: NDArray) -> NDArray[np.uint8]:
    k = max(1, max(pixels.shape[:2]) // (2 * SMALL_SIDE))
    return to_view(still.linearizer()(np.ascontiguousarray(pixels[::k, ::k])))


def correlation(one: NDArray[np.uint8], two: NDArray[np.uint8]) -> float:
    """How alike two small pictures are in place, -1..1, however they were exposed."""
    size = (CLOSE_SIDE, max(8, round(CLOSE_SIDE * one.shape[0] / one.shape[1])))
    x, y = (_relief(p, size) for p in (one, two))
    return float(np.sum(x * y) / np.sqrt(np.sum(x * x) * np.sum(y * y) + 1e-9))


def _relief(picture: NDArray[np.uint8], size: tuple[int, int]) -> NDArray[np.float32]:
    """What is left of a picture when its slow light and its exposure are taken away."""
    grey = cv2.cvtColor(cv2.resize(picture, size, interpolation=cv2.INTER_AREA), cv2.COLOR_RGB2GRAY)
    grey = grey.astype(np.float32) + 4
    log = np.log(grey)
    fine = log - cv2.GaussianBlur(log, (0, 0), 6)
    burnt = cv2.blur((grey > 252).astype(np.float32), (5, 5)) > 0.05
    fine[burnt] = 0
    return np.clip(fine, -0.6, 0.6)
