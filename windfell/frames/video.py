"""Video files: what they say about themselves, and their instants as pictures."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.errors import FrameUnreadable, border
from windfell.frames.files import identity
from windfell.frames.video_reader import OPEN, Reader
from windfell.job import Job
from windfell.later import Later

av = Later("av")
reformatter = Later("av.video.reformatter")

VIDEO_ENDINGS = (".mp4", ".mov", ".m4v", ".mkv", ".webm", ".avi", ".mts", ".m2ts", ".mpg", ".mpeg", ".ogv", ".3gp")
SMALL = 64


@dataclass(frozen=True)
class VideoFacts:
    """Upright size in px, length in s, frames a second, when it was taken if it says."""

    width: int
    height: int
    duration_s: float
    rate: float
    turn_deg: int
    taken: datetime | None

    @property
    def step_s(self) -> float:
        """The time between two frames."""
        return 1.0 / self.rate


def is_video(path: str) -> bool:
    return path.lower().endswith(VIDEO_ENDINGS)


def video_facts(path: str) -> VideoFacts:
    """Read once while the file stays as it is. Raises FrameUnreadable in the user's words."""
    return _facts(path, identity(path))


@lru_cache(maxsize=256)
def _facts(path: str, _identity: str) -> VideoFacts:
    with border(path, "the video cannot be read"), _opened(path) as container:
        stream = container.streams.video[0]
        rate = float(stream.average_rate or stream.guessed_rate or Fraction(25))
        length = stream.duration * stream.time_base if stream.duration else (
            Fraction(container.duration, av.time_base) if container.duration else 0)
        first = next(_decoded(path, container), None)
        if first is None:
            raise FrameUnreadable(path, "there is no picture in the video; leave it out.")
        turn = round(getattr(first, "rotation", 0) or 0) % 360
        width, height = first.width, first.height
        if turn in (90, 270):
            width, height = height, width
        if not (0 < rate < 1e5 and 0 <= float(length) < 1e8 and width > 0 and height > 0):
            raise FrameUnreadable(path, "its size, length or rate is damaged; leave it out.")
        return VideoFacts(width, height, float(length) or 1 / rate, rate, turn, _taken(container))


def _taken(container) -> datetime | None:
    text = container.metadata.get("creation_time", "")
    try:
        return datetime.strptime(text[:19], "%Y-%m-%dT%H:%M:%S")
    except ValueError:
        return None


def _opened(path: str):
    with border(path, "it is not a video that can be read"):
        try:
            container = av.open(path)
        except FileNotFoundError:
            raise FrameUnreadable(path, "the file does not exist.") from None
    if not container.streams.video:
        container.close()
        raise FrameUnreadable(path, "the video has no picture stream, only sound or data; leave it out.")
    container.streams.video[0].thread_type = "AUTO"
    return container


def _decoded(path: str, container) -> Iterator[av.VideoFrame]:
    with border(path, "the video is damaged"):
        try:
            yield from container.decode(video=0)
        except av.error.EOFError:
            return


def instant(path: str, time_s: float) -> NDArray:
    """The picture shown at a time: sRGB-like uint8 or, from deeper video, uint16 (h, w, 3), upright.

    BT.709's curve is taken for sRGB's, as displays do. Raises FrameUnreadable.
    """
    facts = video_facts(path)

    def reader() -> Reader:
        container = _opened(path)
        stream = container.streams.video[0]
        container.seek(int(max(0.0, time_s) / stream.time_base), stream=stream, backward=True)
        return Reader(container, _decoded(path, container))

    with border(path, "the video is damaged"), OPEN.reader(identity(path), time_s, reader) as one:
        shown = one.frame_at(time_s)
        if shown is None:
            raise FrameUnreadable(path, f"there is no picture at {time_s:.2f} s; choose another instant.")
        return _pixels(shown, facts.turn_deg)


def _pixels(frame: av.VideoFrame, turn_deg: int) -> NDArray:
    deep = max((c.bits for c in frame.format.components), default=8) > 8
    spaces = reformatter.Colorspace
    space = frame.colorspace if frame.colorspace in (spaces.ITU709, spaces.ITU601) else (
        spaces.ITU709 if frame.height >= 720 else spaces.ITU601)
    pixels = frame.reformat(format="rgb48le" if deep else "rgb24", src_colorspace=space).to_ndarray()
    return np.ascontiguousarray(np.rot90(pixels, turn_deg // 90))


def evenly(start_s: float, end_s: float, count: int) -> list[float]:
    """`count` times spread evenly from start to end, both included; the middle for one."""
    if count <= 1:
        return [0.5 * (start_s + end_s)]
    return [float(t) for t in np.linspace(start_s, end_s, count)]


def every_nth(facts: VideoFacts, start_s: float, end_s: float, n: int) -> list[float]:
    """Times of every n-th frame from start to end."""
    count = int(np.floor((end_s - start_s) * facts.rate / n + 1e-6)) + 1
    return [start_s + k * n / facts.rate for k in range(max(1, count))]


def last_time(facts: VideoFacts) -> float:
    """The time of the last frame."""
    return max(0.0, facts.duration_s - facts.step_s)


def walk(path: str, start_s: float, end_s: float, side: int, job: Job) -> Iterator[tuple[float, NDArray[np.uint8]]]:
    """(time, small picture) of every frame from start to end, in one pass over the file."""
    facts = video_facts(path)
    k = side / max(facts.width, facts.height)
    size = (max(2, round(facts.width * k)), max(2, round(facts.height * k)))
    if facts.turn_deg in (90, 270):
        size = size[::-1]
    with border(path, "the video is damaged"), _opened(path) as container:
        stream = container.streams.video[0]
        container.seek(int(start_s / stream.time_base), stream=stream, backward=True)
        for frame in _decoded(path, container):
            time_s = frame.time or 0.0
            if time_s > end_s + 1e-4:
                return
            job.step("looking through the video", min(1.0, (time_s - start_s) / max(1e-6, end_s - start_s)))
            if time_s >= start_s - 1e-4:
                small = frame.reformat(width=size[0], height=size[1], format="rgb24").to_ndarray()
                yield time_s, np.ascontiguousarray(np.rot90(small, facts.turn_deg // 90))


def differing(path: str, start_s: float, end_s: float, least: float, job: Job) -> list[float]:
    """Times of frames that differ from the one chosen before by at least `least` (0..1).

    The difference is the mean of small encoded pictures' distances.
    """
    chosen: list[float] = []
    last = None
    for time_s, small in walk(path, start_s, end_s, SMALL, job):
        grey = cv2.cvtColor(small, cv2.COLOR_RGB2GRAY).astype(np.float32) / 255
        if last is None or float(np.abs(grey - last).mean()) >= least:
            chosen.append(time_s)
            last = grey
    return chosen


def strip(path: str, count: int, side: int, job: Job) -> list[tuple[float, NDArray[np.uint8]]]:
    """`count` small pictures spread over the video, for a trimmer."""
    facts = video_facts(path)
    wanted = evenly(0.0, last_time(facts), count)
    out: list[tuple[float, NDArray[np.uint8]]] = []
    for time_s, small in walk(path, 0.0, facts.duration_s, side, job):
        while len(out) < len(wanted) and time_s >= wanted[len(out)] - 0.5 * facts.step_s:
            out.append((wanted[len(out)], small))
    return out
