"""Sets proposed from files: opened, compared by their previews, grouped, made into recipes."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features, find_features
from windfell.align.pairs import Link, link
from windfell.errors import FrameUnreadable
from windfell.frames.propose import Form, Group, Likeness, Shot, grouped
from windfell.frames.still import StillFrame
from windfell.frames.video import evenly, instant, is_video, last_time, video_facts
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_decoded, to_view
from windfell.pixels.resample import shrunk
from windfell.recipe.model import (
    Combining,
    Frame,
    FrameSet,
    Kind,
    Rule,
    SetSource,
    VideoInstant,
    frame_from_path,
    new_id,
)

SMALL_SIDE, CLOSE_SIDE = 160, 96
INSTANTS = 9
SAME_VIEW = 0.55
TITLES = {Form.SWEEP: "Panorama", Form.SERIES: "Stack", Form.BRACKET: "Bracket", Form.VIDEO: "Clip"}


@dataclass(frozen=True)
class Proposal:
    """Sets proposed from files, and the files that could not be read with the reason."""

    sets: tuple[FrameSet, ...]
    refused: tuple[str, ...]


def propose(paths: Sequence[str], job: Job, first_number: int = 1) -> Proposal:
    """One lane per sweep, series, bracket or video that the files seem to hold."""
    found = job.map(_opened, list(paths), "reading what the frames say")
    shots = [s for s, _ in found if s is not None]
    refused = tuple(why for s, why in found if s is None)
    like = Previews(shots, job)
    sets: list[FrameSet] = []
    for n, group in enumerate(grouped(shots, Likeness(like.same, like.overlap))):
        sets += _sets_of(group, first_number + n)
    return Proposal(tuple(replace(s, proposed=True) for s in sets), refused)


def _opened(path: str) -> tuple[Shot | None, str]:
    try:
        if is_video(path):
            facts = video_facts(path)
            return Shot(path, (facts.width, facts.height), facts.taken, video=True), ""
        m = StillFrame(path).metadata
    except FrameUnreadable as error:
        return None, str(error)
    focal = m.focal35_mm or m.focal_mm
    return Shot(path, (m.width, m.height), m.taken, m.exposure_value, focal, m.camera, m.format == "raw"), ""


def _sets_of(group: Group, number: int) -> list[FrameSet]:
    title = f"{TITLES[group.form]} {number}"
    if group.form is Form.VIDEO:
        return [_video_set(group.shots[0].path, os.path.splitext(os.path.basename(group.shots[0].path))[0])]
    if group.form is Form.BRACKET and len(group.positions) > 1:
        return _bracket_sets(group, title)
    kind = Kind.PANORAMA if group.form is Form.SWEEP else Kind.STACK
    return [FrameSet(new_id(), title, kind, _frames(group.shots, group.aside))]


def _frames(shots: Sequence[Shot], aside: frozenset[str]) -> tuple[Frame, ...]:
    return tuple(replace(frame_from_path(s.path), on=s.path not in aside) for s in shots)


def _bracket_sets(group: Group, title: str) -> list[FrameSet]:
    """A panorama whose frames are stacks, one a position."""
    inner = [
        FrameSet(new_id(), f"{title}, position {n + 1}", Kind.STACK, _frames(shots, group.aside),
                 combining=Combining(Rule.MEAN))
        for n, shots in enumerate(group.positions)
    ]
    outer = FrameSet(new_id(), title, Kind.PANORAMA, tuple(Frame(new_id(), SetSource(s.id)) for s in inner))
    return [outer, *inner]


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


class Previews:
    """Small pictures of shots, and how alike they are. Previews in the files come first: they are quick."""

    def __init__(self, shots: Sequence[Shot], job: Job) -> None:
        self._job = job
        stills = [s for s in shots if not s.video]
        found = job.map(_small, stills, "comparing the frames")
        self._small = {s.path: p for s, p in zip(stills, found, strict=True)}
        self._features: dict[str, Features] = {}

    def same(self, a: Shot, b: Shot) -> float:
        """Correlation of the two in place, -1 where one has no picture."""
        one, two = self._small[a.path], self._small[b.path]
        return -1.0 if one is None or two is None else correlation(one, two)

    def overlap(self, a: Shot, b: Shot) -> bool:
        """Whether features of the two small pictures agree."""
        self._job.check()
        one, two = self._of(a), self._of(b)
        return one is not None and two is not None and isinstance(link(0, 1, one, two), Link)

    def _of(self, shot: Shot) -> Features | None:
        if self._small[shot.path] is None:
            return None
        if shot.path not in self._features:
            small = self._small[shot.path]
            larger = cv2.resize(small, None, fx=2, fy=2, interpolation=cv2.INTER_CUBIC)
            light = (srgb_decoded(larger / 255.0) @ SRGB_TO_WORKING.T).astype(np.float32)
            h, w = light.shape[:2]
            self._features[shot.path] = find_features(light, w, h, most=500)
        return self._features[shot.path]


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
