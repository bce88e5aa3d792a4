"""Instants of a video written out as pictures."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.engine.places import check_place
from windfell.frames.video import differing, evenly, every_nth, instant, last_time, video_facts
from windfell.job import Job
from windfell.output.metadata import Carried
from windfell.output.sheet import ROWS_PER_STRIP, Sheet
from windfell.output.writers import WRITERS
from windfell.pixels.colour import SRGB
from windfell.pixels.profiles import icc_of
from windfell.recipe.written import written_whole

DIFFERENCE = 0.06


def chosen_times(
    path: str, start_s: float, end_s: float | None, job: Job, every: int | None = None,
    count: int | None = None, least: float | None = None,
) -> list[float]:
    """Times between start and end: every n-th frame, a number spread evenly, or those that differ."""
    facts = video_facts(path)
    last = last_time(facts)
    end = last if end_s is None else min(end_s, last)
    start = max(0.0, min(start_s, end))
    if every is not None:
        return every_nth(facts, start, end, every)
    if count is not None:
        return evenly(start, end, count)
    return differing(path, start, end, DIFFERENCE if least is None else least, job)


def write_instants(path: str, times: Sequence[float], folder: Path, kind: str, job: Job) -> list[Path]:
    """One picture a time, named after the video and the time. Raises OutputFailed, FrameUnreadable.

    Told to stop, it leaves the pictures that were whole.
    """
    stem = os.path.splitext(os.path.basename(path))[0]
    out = []
    for time_s in job.over(list(times), "writing instants"):
        place = folder / f"{stem}-{time_s:08.3f}s{WRITERS[kind].suffix}"
        check_place(place)
        _write(place, instant(path, time_s), kind)
        out.append(place)
    return out


def _write(place: Path, pixels: NDArray, kind: str) -> None:
    writer = WRITERS[kind]
    depth = 16 if pixels.dtype == np.uint16 and 16 in writer.depths else 8
    if pixels.dtype == np.uint16 and depth == 8:
        pixels = (pixels >> 8).astype(np.uint8)
    h, w = pixels.shape[:2]
    sheet = Sheet(w, h, 3, depth, icc_of(SRGB), Carried())

    def strips() -> Iterator[NDArray]:
        for top in range(0, h, ROWS_PER_STRIP):
            yield pixels[top : top + ROWS_PER_STRIP]

    with written_whole(place, flush=False) as temporary:
        writer.write(temporary, sheet, strips())
