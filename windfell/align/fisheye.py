"""A fisheye of which nothing is known: how wide it sees, by how many features agree once its frames are laid flat.

Frames through a fisheye agree with no camera that would see a straight line straight, nor with one that bends it
smoothly (`barrel.py`). Which of the mappings it has matters little here: near the middle all are alike, and the
adjustment bends what is left.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from windfell.align.barrel import BENT, PLAINLY, PULLS, agreeing, optics_of_pull, pull_of, straightened
from windfell.align.candidates import likely_pairs
from windfell.align.features import Features, unbent, unbent_points
from windfell.align.matching import matches
from windfell.align.pairs import explanations, find_links
from windfell.align.registration import PanoramaRegistration
from windfell.geometry.camera import Lens
from windfell.geometry.optics import Optics
from windfell.geometry.rotation import angle_between
from windfell.job import Job

Array = NDArray[np.float64]
Alike = Sequence[tuple[tuple[int, int], NDArray[np.intp]]]

DIAGONALS_DEG = (135.0, 155.0, 180.0, 210.0)
TURNED_DEG = (135.0, 150.0, 165.0, 180.0, 195.0, 210.0)
FLAT_DEG = (30.0, 45.0, 60.0, 80.0, 100.0, 120.0)
TRIES, REACH, FIRM, LEAST_TURNED = 200, 1 / 175, 15, 40
ELSEWHERE, MUCH_ERROR = float(np.radians(6)), 1 / 1000


def focal_of_diagonal(degrees: float) -> float:
    """The focal length, in half diagonals, of an equidistant fisheye that sees so many degrees across its corners."""
    return 2 / float(np.radians(degrees))


def laid_flat(features: Sequence[Features], focal: float) -> list[Features]:
    """The features where a flat view would show them, were the lens an equidistant fisheye of that focal length."""
    return [unbent(f, _equidistant(focal)) for f in features]


def _equidistant(focal: float) -> Optics:
    return Optics(mapping="equidistant", focal=focal)


def matched_pairs(features: Sequence[Features], job: Job) -> Alike:
    """The pairs of frames of which enough features look alike to say how they lie, and these (n, 2)."""
    pairs = likely_pairs(features)
    found = job.map(lambda p: matches(features[p[0]], features[p[1]]), pairs, "looking for overlap")
    return [(p, m) for p, m in zip(pairs, found, strict=True) if len(m) >= FIRM]


def worth_a_look(features: Sequence[Features], alike: Alike, job: Job) -> list[tuple[int, int]]:
    """The pairs of which features agree on where frames lie, as a fisheye's or as others'; none where fewer do as a
    fisheye's. Quick, since their light is not asked.
    """
    found = set()

    def most(lenses: Sequence[Optics | None]) -> int:
        counts = []
        for optics in lenses:
            counted = job.map(lambda x, o=optics: _explained(features, *x, o), alike, "looking for overlap")
            found.update(pair for (pair, _), count in zip(alike, counted, strict=True) if count)
            counts.append(sum(counted))
        return max(counts)

    flat = most([optics_of_pull(pull) for pull in (0.0, *PULLS)])
    return sorted(found) if most([_equidistant(focal_of_diagonal(d)) for d in DIAGONALS_DEG]) > flat else []


def _explained(
    features: Sequence[Features], pair: tuple[int, int], alike: NDArray[np.intp], optics: Optics | None
) -> int:
    """How many of these matches (n, 2) one homography explains, were the frames taken through such a lens."""
    frames = [features[n] for n in pair]
    points = [f.points[alike[:, n]] for n, f in enumerate(frames)]
    if optics is not None:
        seen = [unbent_points(p, Lens(f.width, f.height, 1.0), optics) for p, f in zip(points, frames, strict=True)]
        near = seen[0][1] & seen[1][1]
        points = [p[near] for p, _ in seen]
    found, _ = explanations(*points, *frames, most=1)
    return int(found[0][1].sum()) if found else 0


def fisheye_diagonal(features: Sequence[Features], alike: Alike, job: Job) -> float | None:
    """How many degrees the frames see across their corners, if as a fisheye's far more agrees than as a flat lens's
    or one that bends; else None. `features` lie where the frames show them; `alike` are their `matched_pairs`.
    """
    pairs = worth_a_look(features, alike, job)
    if not pairs:
        return None

    def agree(flat: Sequence[Features]) -> int:
        return agreeing(find_links(flat, job, pairs)[0], len(features))

    otherwise = max(agree(straightened(features, pull)) for pull in (0.0, *PULLS))
    found = {degrees: agree(laid_flat(features, focal_of_diagonal(degrees))) for degrees in DIAGONALS_DEG}
    best = max(found, key=found.get)
    return best if found[best] > PLAINLY * otherwise else None


@dataclass(frozen=True)
class Turns:
    """How many degrees a fisheye sees across a frame's corners, and the turns (3, 3) that lead rays of one frame to
    those of another, were the frames taken through it.
    """

    degrees: float
    of: dict[tuple[int, int], Array]

    def contradict(self, found: PanoramaRegistration) -> bool:
        """Whether frames were placed elsewhere than these turns say, or by a pair for which there is none."""
        placed = {p: t for p, t in self.of.items() if set(p) <= set(found.placed)}
        return any((k.a, k.b) not in self.of for k in found.links) or any(
            angle_between(found.frames[b].rotation.T @ found.frames[a].rotation, t) > ELSEWHERE
            for (a, b), t in placed.items())


def fisheye_by_turns(features: Sequence[Features], alike: Alike, job: Job) -> Turns | None:
    """As `fisheye_diagonal`, of frames that share just what lies far from their middles, which no flat view shows:
    by how many features agree on a turn of the camera, were they seen by a fisheye (equidistant or stereographic) or
    by a lens that bends nothing or as much as some do.
    """
    def turned(degrees: float, seen: Callable[[Features], Array], reach: float) -> tuple[int, Turns]:
        job.check()
        rays = [seen(f) for f in features]
        turns = {(a, b): _turn_of(rays[a][m[:, 0]], rays[b][m[:, 1]], reach) for (a, b), m in alike}
        firm = {p: (count, turn) for p, (count, turn) in turns.items() if count >= FIRM}
        return sum(count for count, _ in firm.values()), Turns(degrees, {p: turn for p, (_, turn) in firm.items()})

    def fisheyes(degrees: float) -> list[tuple[int, Turns]]:
        half = float(np.radians(degrees)) / 2
        mappings = (lambda r: half * r), (lambda r: 2 * np.arctan(r * np.tan(half / 2)))
        return [turned(degrees, lambda f, angle_of=m: _fisheye_rays(f, angle_of), REACH * half) for m in mappings]

    def straight(degrees: float, pull: float) -> int:
        focal = 1 / float(np.tan(np.radians(degrees) / 2))
        return turned(degrees, lambda f: _flat_rays(f, focal, pull), REACH / focal)[0]

    agree, told = max((x for degrees in TURNED_DEG for x in fisheyes(degrees)), key=lambda x: x[0])
    if agree < LEAST_TURNED:
        return None
    otherwise = max(straight(degrees, pull) for degrees in FLAT_DEG for pull in (0.0, *PULLS))
    return told if agree > PLAINLY * otherwise else None


def _from_middle(features: Features) -> Array:
    """The features' points (n, 2) from the frame's middle, in half diagonals."""
    lens = Lens(features.width, features.height, 1.0)
    return (features.points - lens.centre) / lens.half_diagonal


def _fisheye_rays(features: Features, angle_of: Callable[[Array], Array]) -> Array:
    """Unit rays (n, 3) of the features through a fisheye: of those so far from the middle the angle to its axis."""
    spots = _from_middle(features)
    far = np.hypot(spots[:, 0], spots[:, 1])[:, None]
    angle = angle_of(far)
    return np.concatenate([spots * np.sin(angle) / np.maximum(far, 1e-9), np.cos(angle)], axis=1)


def _flat_rays(features: Features, focal: float, pull: float) -> Array:
    """Unit rays (n, 3) of the features through a lens that draws the corners in by a share `pull`, no more."""
    optics = optics_of_pull(pull)
    spots = _from_middle(features)
    if optics is not None:
        lens = Lens(features.width, features.height, 1.0)
        spots = (optics.ideal(features.points, lens.centre, lens.half_diagonal) - lens.centre) / lens.half_diagonal
    rays = np.concatenate([np.nan_to_num(spots, nan=1e3) / focal, np.ones((len(spots), 1))], axis=1)
    return rays / np.linalg.norm(rays, axis=1, keepdims=True)


def _turn_of(a: Array, b: Array, reach: float) -> tuple[int, Array]:
    """How many rays (n, 3) one turn leads to those of the other frame, within `reach` rad, and that turn (3, 3): the
    best of many that two rays give (Fischler & Bolles 1981).
    """
    rng = np.random.default_rng(0)
    first, second = rng.integers(len(a), size=(2, TRIES))
    axes = []
    for rays in (a, b):
        up = np.cross(rays[first], rays[second])
        with np.errstate(invalid="ignore", divide="ignore"):
            up /= np.linalg.norm(up, axis=1, keepdims=True)
        axes.append(np.stack([rays[first], np.cross(up, rays[first]), up], axis=2))
    apart = [np.linalg.norm(r[first] - r[second], axis=1) for r in (a, b)]
    fair = (np.abs(apart[0] - apart[1]) < 2 * reach) & (apart[0] > 4 * reach)
    turns = axes[1][fair] @ axes[0][fair].transpose(0, 2, 1)
    off = np.linalg.norm(np.einsum("tij,nj->tni", turns, a) - b, axis=2)
    counts = (off < reach).sum(axis=1)
    if not len(counts):
        return 0, np.eye(3)
    best = int(np.argmax(counts))
    return int(counts[best]), turns[best]


def may_be_fisheye(found: PanoramaRegistration | None) -> bool:
    """Whether a fisheye may be behind what was found with a plain lens: frames are left out, the error is large, or
    the lens is odd.
    """
    if found is None or len(found.placed) < len(found.frames):
        return True
    lenses = [found.frames[n].lens for n in found.placed]
    return found.rms_px > MUCH_ERROR * max(max(x.width, x.height) for x in lenses) or any(
        pull_of(x) > BENT for x in lenses)
