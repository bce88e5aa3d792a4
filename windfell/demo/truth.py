"""Demo frames on disk with the truth beside them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.job import Job

MOST_CANVAS = 11_000
START = datetime(2026, 5, 16, 14, 5, 0)


def canvas_width(focal_px: float) -> int:
    return int(min(MOST_CANVAS, 2 * np.pi * focal_px * 1.05)) // 2 * 2


def truth_of(name: str, shot: Shot) -> dict:
    return {
        "file": name,
        "width": shot.lens.width,
        "height": shot.lens.height,
        "rotation": np.asarray(shot.rotation).tolist(),
        "focal_px": shot.lens.focal_px,
        "distortion": {"k1": shot.lens.k1},
        "gain": list(shot.gain),
        "vignette": shot.vignette,
    }


def write_truth(folder: Path, kind: str, frames: list[dict], **more: str) -> None:
    words = {"kind": kind, "frames": frames, **more}
    (folder / "truth.json").write_text(json.dumps(words, indent=1))


def write_shots(
    folder: Path, photographer: Photographer, shots: Sequence[Shot], stem: str, start: datetime, job: Job
) -> None:
    """Take every shot, write the frames and truth.json of a panorama."""
    rows = []
    for n, shot in enumerate(job.over(shots, "taking frames")):
        name = f"{stem}-{n + 1:02d}.jpg"
        write_jpeg(folder / name, photographer.take(shot), exif_bytes(shot, start + timedelta(seconds=3 * n)))
        rows.append(truth_of(name, shot))
    write_truth(folder, "panorama", rows)
