"""What moves in a stack: found on its frames in place, ready to be laid over the clean plate as pieces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.align.series import Onto
from windfell.cache import key_of
from windfell.combine.network import median
from windfell.engine.moving_lights import MovingLights, look_scale
from windfell.engine.stack_pile import PileStages
from windfell.errors import CannotJoin
from windfell.job import Job
from windfell.subjects.alike import AGREES_LEAST, Matched, matched
from windfell.subjects.conflicts import conflicts_of
from windfell.subjects.differing import Spread, difference, rooted
from windfell.subjects.mirrored import Mirrored, believed, mirrored_of, with_mirrored
from windfell.subjects.pieces import Box, Piece, pieces_of
from windfell.subjects.standing import Standing, amended, standing
from windfell.subjects.tracks import tracks_of

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]

LOOK_SIDE = 1400
LEAST_FRAMES = 3
MOST_GAIN_EV = 1.5


@dataclass(frozen=True)
class Mover:
    """A piece of used frame `frame`, of a `track`; `gain`: what brings its light to the plate's, per channel; found
    at `scale` of the whole picture, whose size is `ground` (w, h).
    """

    frame: int
    track: int
    piece: Piece
    gain: tuple[float, float, float]
    scale: float
    ground: tuple[int, int]

    @property
    def body_box(self) -> Box:
        """(x, y, width, height) of the thing without its shadow, px of the whole picture."""
        x, y, w, h = (v / self.scale for v in self.piece.body_box)
        return round(x), round(y), max(1, round(w)), max(1, round(h))

    def body_over(self, size: tuple[int, int]) -> U8:
        """Its matte over a picture of `size` (w, h) that shows all the ground at any scale, uint8."""
        return self._over(size, self.piece.matte)

    def shadow_over(self, size: tuple[int, int]) -> U8:
        return self._over(size, self.piece.shadow)

    def whole_over(self, size: tuple[int, int]) -> U8:
        """With its shadow."""
        return self._over(size, cv2.max(self.piece.matte, self.piece.shadow))

    def shadow_within(self, size: tuple[int, int], reach: float) -> U8:
        """Its shadow and spilled light as far as `reach` px of the ground from the thing, passing over at the end."""
        shadow = self.shadow_over(size)
        k = size[0] / self.ground[0]
        far = cv2.distanceTransform((self.body_over(size) < 128).astype(np.uint8), cv2.DIST_L2, 5)
        soft = max(1.0, 0.25 * reach * k)
        kept = np.clip((reach * k - far) / soft + 0.5, 0, 1)
        return np.rint(shadow * kept).astype(np.uint8)

    def box_over(self, size: tuple[int, int]) -> Box:
        """(x, y, width, height) of all of it in a picture of `size` (w, h) that shows all the ground."""
        k = size[0] / self.ground[0] / self.scale
        x, y, w, h = (round(v * k) for v in self.piece.box)
        left, top = min(max(x, 0), size[0] - 1), min(max(y, 0), size[1] - 1)
        return left, top, max(1, min(x + w, size[0]) - left), max(1, min(y + h, size[1]) - top)

    def _over(self, size: tuple[int, int], matte: U8) -> U8:
        return spread_over(matte, self.piece.box, size, size[0] / self.ground[0] / self.scale)


def spread_over(matte: U8, box: Box, size: tuple[int, int], k: float) -> U8:
    """A matte over a box (x, y, width, height) as one of a picture of `size` (w, h), `k` times as large."""
    out = np.zeros((size[1], size[0]), np.uint8)
    x, y, w, h = (round(v * k) for v in box)
    w, h = max(1, w), max(1, h)
    left, top = min(x, size[0] - 1), min(y, size[1] - 1)
    wide, high = min(w, size[0] - left), min(h, size[1] - top)
    own = cv2.resize(matte, (w, h), interpolation=cv2.INTER_LINEAR)  # cubic steps would ring
    out[top : top + high, left : left + wide] = own[:high, :wide]
    return out


@dataclass(frozen=True)
class Subjects:
    """All movers, frame by frame; of each the others, by index, whose place it shares, with shadows and without; the
    frames (of those in use) left out and why; the whole picture's size (w, h); what brings each frame's light to the
    plate's; the places where the middle of all frames shows what stands there, or cannot tell, at `scale`.
    """

    movers: tuple[Mover, ...]
    conflicts: tuple[tuple[int, ...], ...]
    bare_conflicts: tuple[tuple[int, ...], ...]
    dropped: tuple[tuple[int, str], ...]
    size: tuple[int, int]
    gains: tuple[tuple[int, tuple[float, float, float]], ...] = ()
    standing: tuple[Standing, ...] = ()
    scale: float = 1.0

    def conflicts_of(self, n: int, shadows: bool = True) -> tuple[int, ...]:
        return (self.conflicts if shadows else self.bare_conflicts)[n]

    def gain_of(self, frame: int) -> tuple[float, float, float]:
        return dict(self.gains).get(frame, (1.0, 1.0, 1.0))

    @property
    def nbytes(self) -> int:
        return sum(m.piece.matte.nbytes * 2 for m in self.movers)


def found_subjects(stages: PileStages, job: Job) -> Subjects:
    """What moves in the frames in use, beside the plate of them all. Raises CannotJoin if too few show one place."""
    return stages.cache.get(key_of("subjects", stages.rule_key(job)), lambda: _find(stages, job))


def _find(stages: PileStages, job: Job) -> Subjects:
    size = stages.whole_size(job)
    scale = look_scale(len(stages.set.used), size, LOOK_SIDE)
    lights = MovingLights(stages, scale, job)
    plate, made = _plate(lights)
    for k, found in enumerate(made):
        lights.match(k, found)
    dropped = [(n, str(p.reason)) for n, p in enumerate(stages.registration(job).frames) if not isinstance(p, Onto)]
    dropped += [(n, why) for k, n in enumerate(lights.numbers) if (why := _why_dropped(made[k]))]
    gone = {n for n, _ in dropped}
    kept = sorted((k for k, n in enumerate(lights.numbers) if n not in gone), key=lambda k: lights.numbers[k])
    if len(kept) < LEAST_FRAMES:
        raise _too_few(len(kept))
    noise = _noise(lights, kept, plate)

    def look(k: int, root: F32, plate: F32) -> tuple[list[Piece], dict[int, Mirrored]]:
        light = lights.light(k)
        seen = cv2.erode(lights.seen(k).astype(np.float32), np.ones((5, 5)))
        off = difference(rooted(light), root, noise, lights.moved) * seen
        pieces = pieces_of(light, plate, off, noise)
        return pieces, mirrored_of(pieces, light, plate, off)

    def all_seen(plate: F32) -> list[tuple[list[Piece], dict[int, Mirrored]]]:
        root = rooted(plate)
        return job.map(lambda k: look(k, root, plate), kept, "finding what moves")

    pieces, mirrored = zip(*all_seen(plate), strict=True)
    stood = standing(lambda i, at: lights.light(kept[i], at), pieces, plate)
    if any(s.sure for s in stood):
        for s in stood:
            plate = amended(plate, s, lambda i, at: lights.light(kept[i], at)) if s.sure else plate
        pieces, mirrored = zip(*all_seen(plate), strict=True)
    stood = [replace(s, seen=tuple(replace(o, frames=tuple(lights.numbers[kept[i]] for i in o.frames))
                                   for o in s.seen)) for s in stood]
    height, width = plate.shape[:2]
    diagonal = float(np.hypot(width, height))
    mirrored = believed(tracks_of(pieces, diagonal), mirrored)
    pieces = [with_mirrored(own, m) for own, m in zip(pieces, mirrored, strict=True)]
    tracks = tracks_of(pieces, diagonal)
    movers = tuple(
        Mover(lights.numbers[k], t, p, _gain(p, lights, k), scale, size)
        for k, found, theirs in zip(kept, pieces, tracks, strict=True) for p, t in zip(found, theirs, strict=True))
    both = [conflicts_of([(m.frame, m.piece) for m in movers], with_shadows) for with_shadows in (True, False)]
    conflicts, bare = (tuple(tuple(c) for c in found) for found in both)
    return Subjects(movers, conflicts, bare, tuple(sorted(dropped)), size,
                    tuple((n, made[k].gain) for k, n in enumerate(lights.numbers)), tuple(stood), scale)


def _too_few(count: int) -> CannotJoin:
    """Of a series of which only so many frames show one place."""
    return CannotJoin(f"What moves is told from what stays by at least {LEAST_FRAMES} frames of one place; "
                      f"{'only ' * (count > 0)}{count or 'none'} of these show that of the reference. Give more.")


def _plate(lights: MovingLights) -> tuple[F32, list[Matched]]:
    """The plate of one place, and what brings each frame's light to it: of all frames, unless most show another place
    than the reference, as in a film that is cut.

    Raises CannotJoin if too few frames show the reference's place.
    """
    def beside(plate: F32) -> list[Matched]:
        return [matched(lights.plain(k), plate, lights.seen(k)) for k in range(len(lights))]

    plate = lights.plate()
    made = beside(plate)
    if made[0].agrees < AGREES_LEAST:
        alike = [k for k, m in enumerate(beside(lights.plain(0))) if m.agrees >= AGREES_LEAST]
        if len(alike) < LEAST_FRAMES:
            raise _too_few(len(alike))
        plate = lights.plate(alike)
        made = beside(plate)
    return plate, made


def _noise(lights: MovingLights, kept: Sequence[int], plate: F32) -> F32:
    """The noise of the frames that are kept beside their own plate, as far as that is one."""
    own = plate
    if len(kept) > 2:
        own = np.empty_like(plate)

        def middle(some: list[F32], rows: slice) -> None:
            own[rows] = median(some)

        lights.by_rows(kept, middle)
    spread = Spread(rooted(own))
    lights.by_rows(kept, lambda some, rows: spread.add([rooted(light) for light in some], rows))
    return spread.noise()


def _gain(piece: Piece, lights: MovingLights, k: int) -> tuple[float, float, float]:
    """What brought the light of a piece to the plate's, per channel."""
    x, y, w, h = piece.box
    at = np.s_[y : y + h, x : x + w]
    light, own = lights.light(k, at), lights.plain(k, at)
    inside = (piece.matte > 127) & (own.min(axis=2) > 1e-3)
    if not inside.any():
        return 1.0, 1.0, 1.0
    return tuple(float(v) for v in np.median(light[inside] / own[inside], axis=0))


def _why_dropped(m: Matched) -> str:
    off = float(np.abs(np.log2(m.gain)).max())
    if off > MOST_GAIN_EV:
        return f"its light changed: it is off by {off:.1f} EV"
    if m.agrees < AGREES_LEAST:
        return f"only {100 * m.agrees:.0f} % of it shows what the others show"
    return ""
