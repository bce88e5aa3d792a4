"""Spots of a panorama given to a frame: masks on the frames, so that they stay where the frame's things are."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.panorama import PanoramaStages
from windfell.errors import BadRequest
from windfell.job import Job
from windfell.recipe.edits import Edit
from windfell.recipe.model import Frame, Mask, Project
from windfell.recipe.project_file import mask_name

MASK_SIDE = 1000


def given_spot(
    stages: PanoramaStages, project: Project, known: Mapping[str, NDArray[np.uint8]], n: int, x: float, y: float,
    radius: float, job: Job,
) -> tuple[Edit, dict[str, NDArray[np.uint8]]]:
    """The edit that gives a spot of the picture (px at full size, so wide) to placed frame `n`, and its new masks.

    What other frames were to keep there they no longer are. Raises BadRequest if the frame does not show the spot.
    """
    placed, used = stages.registration(job).placed, stages.set.used
    chosen = used[placed[n]]
    masks: dict[str, NDArray[np.uint8]] = {}
    changed: dict[str, Frame] = {}
    for k, at in enumerate(placed):
        frame = used[at]
        disc = _disc(stages, k, x, y, radius, job)
        if disc is None:
            if frame.id == chosen.id:
                raise BadRequest(f"Frame {_number(project, stages, frame)} does not show this spot.")
            continue
        old = _mask_of(frame, known, disc.shape)
        new = np.maximum(old, disc) if frame.id == chosen.id else np.where(disc > 0, np.uint8(0), old)
        if (new == old).all():
            continue
        kept = tuple(m for m in frame.masks if m.purpose != "keep")
        if new.any():
            masks[mask_name(new)] = new
            kept = (*kept, Mask(mask_name(new), "keep"))
        changed[frame.id] = replace(frame, masks=kept)
    own = project.set(stages.set.id)
    frames = tuple(changed.get(f.id, f) for f in own.frames)
    words = f"give a spot to frame {_number(project, stages, chosen)}"
    return Edit(words, project.with_set(replace(own, frames=frames))), masks


def _number(project: Project, stages: PanoramaStages, frame: Frame) -> int:
    return 1 + [f.id for f in project.set(stages.set.id).frames].index(frame.id)


def _mask_of(frame: Frame, known: Mapping[str, NDArray[np.uint8]], shape: tuple[int, int]) -> NDArray[np.uint8]:
    """What the frame is to keep already, at the shape given."""
    out = np.zeros(shape, np.uint8)
    for m in frame.masks:
        if m.purpose == "keep" and m.name in known:
            mask = cv2.resize(known[m.name], shape[::-1], interpolation=cv2.INTER_LINEAR)
            out = np.maximum(out, np.where(mask >= 128, 255, 0).astype(np.uint8))
    return out


def _disc(stages: PanoramaStages, n: int, x: float, y: float, radius: float, job: Job) -> NDArray[np.uint8] | None:
    """A round spot of the picture on a placed frame, (h, w), 255 inside; None where the frame does not show it."""
    frame = stages.posed(job)[n]
    k = MASK_SIDE / max(frame.lens.width, frame.lens.height)
    small = frame.scaled(round(frame.lens.width * k), round(frame.lens.height * k))
    turn = np.linspace(0, 2 * np.pi, 48, endpoint=False)
    rim = np.stack([x + radius * np.cos(turn), y + radius * np.sin(turn)], -1)
    with np.errstate(invalid="ignore"):
        px = small.project(stages.canvas(job).rays(np.concatenate([[[x, y]], rim])))
    if not np.isfinite(px).all():
        return None
    out = np.zeros((small.lens.height, small.lens.width), np.uint8)
    cv2.fillPoly(out, [np.rint(px[1:] * 16).astype(np.int32)], 255, shift=4)
    return out if out.any() else None
