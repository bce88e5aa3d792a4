"""Which set a handful of dropped frames seems to form, from their times and a quick look."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.errors import FrameUnreadable
from windfell.frames.still import StillFrame
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, frame_from_path, new_id

GAP_S = 300.0
SAME_VIEW = 0.75


@dataclass(frozen=True)
class Proposal:
    """Sets proposed from files, and the files that could not be read with the reason."""

    sets: tuple[FrameSet, ...]
    refused: tuple[str, ...]


Look = Callable[[StillFrame, int, int], NDArray[np.float32]]


def propose(
    paths: Sequence[str], job: Job, first_number: int = 1, look: Look = StillFrame.linear
) -> Proposal:
    """One lane per run of frames close in time and of one size; a still view is a stack.

    `look(frame, width, height)` gives a frame's light at a small size.
    """
    opened, refused = [], []
    for path in job.over(paths, "looking at the frames"):
        try:
            opened.append(StillFrame(path))
        except FrameUnreadable as error:
            refused.append(str(error))
    sets = []
    for run in _runs(sorted(opened, key=_order)):
        kind = Kind.STACK if is_still(run, job, look) else Kind.PANORAMA
        number = first_number + len(sets)
        word = "Stack" if kind is Kind.STACK else "Panorama"
        frames = tuple(frame_from_path(f.path) for f in run)
        sets.append(FrameSet(new_id(), f"{word} {number}", kind, frames))
    return Proposal(tuple(sets), tuple(refused))


def _order(frame: StillFrame) -> tuple:
    taken = frame.metadata.taken
    return (taken.timestamp() if taken else 0.0, frame.path)


def _runs(frames: list[StillFrame]) -> list[list[StillFrame]]:
    runs: list[list[StillFrame]] = []
    for frame in frames:
        if runs and not _breaks(runs[-1][-1], frame):
            runs[-1].append(frame)
        else:
            runs.append([frame])
    return runs


def _breaks(a: StillFrame, b: StillFrame) -> bool:
    before, after = a.metadata.taken, b.metadata.taken
    if before and after and abs((after - before).total_seconds()) > GAP_S:
        return True
    return sorted(a.size) != sorted(b.size)


def is_still(frames: Sequence[StillFrame], job: Job, look: Look = StillFrame.linear) -> bool:
    """Whether all frames show the same view: small pictures of them correlate in place."""
    if len(frames) < 2 or len({f.size for f in frames}) > 1:
        return False
    try:
        small = job.map(lambda f: _small(f, look), frames, "comparing the frames")
    except FrameUnreadable:
        return False
    middle = np.median(small, axis=0)
    scores = [_correlation(s, middle) for s in small]
    return bool(np.median(scores) > SAME_VIEW and min(scores) > 0.4)


def _small(frame: StillFrame, look: Look) -> np.ndarray:
    width, height = frame.size
    k = 96 / max(width, height)
    light = look(frame, max(8, round(width * k)), max(8, round(height * k)))
    grey = np.cbrt(np.maximum(light.mean(axis=2), 0))
    return grey - cv2.GaussianBlur(grey, (0, 0), 6)


def _correlation(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.sum(a * b) / np.sqrt(np.sum(a * a) * np.sum(b * b) + 1e-12))
