"""A fisheye of which nothing is known: how wide it sees, by how many features agree once its frames are laid flat.

Frames through a fisheye agree with no camera that would see a straight line straight, nor with one that bends it
smoothly (`barrel.py`). Which of the mappings it has matters little here: near the middle all are alike, and the
adjustment bends what is left.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.align.barrel import BENT, PLAINLY, PULLS, agreeing, pull_of, straightened
from windfell.align.features import Features, unbent
from windfell.align.pairs import find_links
from windfell.align.registration import PanoramaRegistration
from windfell.geometry.optics import Optics
from windfell.job import Job

DIAGONALS_DEG = (135.0, 155.0, 180.0, 210.0)


def focal_of_diagonal(degrees: float) -> float:
    """The focal length, in half diagonals, of an equidistant fisheye that sees so many degrees across its corners."""
    return 2 / float(np.radians(degrees))


def laid_flat(features: Sequence[Features], focal: float) -> list[Features]:
    """The features where a flat view would show them, were the lens an equidistant fisheye of that focal length."""
    return [unbent(f, Optics(mapping="equidistant", focal=focal)) for f in features]


def fisheye_diagonal(features: Sequence[Features], job: Job) -> float | None:
    """How many degrees the frames see across their corners, if as a fisheye's far more agrees than as a flat lens's
    or one that bends; else None. `features` lie where the frames show them.
    """
    if len(features) < 2:
        return None

    def agree(flat: Sequence[Features]) -> int:
        return agreeing(find_links(flat, job, sparing=True)[0], len(features))

    otherwise = max(agree(straightened(features, pull)) for pull in (0.0, *PULLS))
    found = {degrees: agree(laid_flat(features, focal_of_diagonal(degrees))) for degrees in DIAGONALS_DEG}
    best = max(found, key=found.get)
    return best if found[best] > PLAINLY * otherwise else None


def may_be_fisheye(found: PanoramaRegistration | None) -> bool:
    """Whether a fisheye may be behind what was found with a plain lens: frames are left out, or the lens is odd."""
    if found is None or len(found.placed) < len(found.frames):
        return True
    return any(pull_of(found.frames[n].lens) > BENT for n in found.placed)
