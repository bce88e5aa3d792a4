"""What stands in so many frames that the middle of them all shows it, or cannot tell: told by its outline.

Something that was put before the ground has an edge all around where the ground alone goes on; so of all that is
seen at a place the ground is what steps least across the outline (the test by which things left behind are told from
things taken away, San Miguel & Martinez 2008).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.subjects.differing import rooted
from windfell.subjects.pieces import Box, Piece

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
Bools = NDArray[np.bool_]
LightOf = Callable[[int, tuple[slice, slice]], F32]

SAME_PLACE = 0.5
ALIKE = 0.03
LEAST_SUPPORT = 0.2
PLAINLY, HALFWAY = 0.7, 0.3
ROOM_PX, GROWN_PX, SOFT_PX = 12, 3, 1.5
WINDOW = 9


@dataclass(frozen=True)
class Seen:
    """One of the things that are seen at a place: by which frames; how much it steps across the outline."""

    frames: tuple[int, ...]
    step: float


@dataclass(frozen=True, eq=False)
class Standing:
    """A place at which frames show different things for long: its box (x, y, width, height), px; where it is, uint8
    (h, w) over the box; what is seen there, that which most likely is the ground first; whether that is sure.
    """

    box: Box
    mask: U8
    seen: tuple[Seen, ...]
    sure: bool


def standing(light: LightOf, pieces: Sequence[Sequence[Piece]], plate: F32) -> list[Standing]:
    """The places where the plate (h, w, 3), the middle of all frames, shows what stands there, or may: `light` gives
    a frame's light over a part; `pieces` are what differs from the plate, frame by frame.
    """
    out = []
    for place in _places(pieces):
        found = _judged(place, light, len(pieces), plate)
        if found is not None:
            out.append(found)
            plate = amended(plate, found, light) if found.sure else plate
    return out


def amended(plate: F32, found: Standing, light: LightOf) -> F32:
    """The plate with what is most likely the ground."""
    x, y, w, h = found.box
    at = np.s_[y : y + h, x : x + w]
    ground = np.median(np.stack([light(n, at) for n in found.seen[0].frames]), axis=0)
    out = plate.copy()
    share = (found.mask.astype(np.float32) / 255)[..., None]
    out[at] += share * (ground.astype(np.float32) - out[at])
    return out


def _places(pieces: Sequence[Sequence[Piece]]) -> list[list[tuple[int, Piece]]]:
    """Pieces of different frames that cover about the same px; only places where many do."""
    items = sorted(((n, p) for n, some in enumerate(pieces) for p in some), key=lambda i: -i[1].area)
    places: list[list[tuple[int, Piece]]] = []
    for n, piece in items:
        same = next((p for p in places if n not in {m for m, _ in p} and _shared(p[0][1], piece) > SAME_PLACE), None)
        if same is None:
            places.append([(n, piece)])
        else:
            same.append((n, piece))
    least = max(1 if len(pieces) < 5 else 2, round(LEAST_SUPPORT * len(pieces)))
    return [p for p in places if len(p) >= least]


def _cover(piece: Piece, box: Box) -> Bools:
    """Where a piece is, with its shadow, (h, w) over a box."""
    out = np.zeros((box[3], box[2]), bool)
    x, y = piece.box[0] - box[0], piece.box[1] - box[1]
    left, top = max(0, x), max(0, y)
    right, bottom = min(box[2], x + piece.box[2]), min(box[3], y + piece.box[3])
    if right > left and bottom > top:
        own = np.maximum(piece.matte, piece.shadow) > 127
        out[top:bottom, left:right] = own[top - y : bottom - y, left - x : right - x]
    return out


def _around(boxes: Sequence[Box], room: int, shape: tuple[int, ...]) -> Box:
    left, top = max(0, min(b[0] for b in boxes) - room), max(0, min(b[1] for b in boxes) - room)
    right = min(shape[1], max(b[0] + b[2] for b in boxes) + room)
    bottom = min(shape[0], max(b[1] + b[3] for b in boxes) + room)
    return left, top, right - left, bottom - top


def _shared(one: Piece, other: Piece) -> float:
    """What both cover, of what either does."""
    box = _around([one.box, other.box], 0, (1 << 30, 1 << 30))
    (x, y, w, h), (u, v, wide, high) = one.box, other.box
    apart = x + w <= u or u + wide <= x or y + h <= v or v + high <= y
    if apart or max(one.area, other.area) > 3 * min(one.area, other.area):
        return 0.0
    a, b = _cover(one, box), _cover(other, box)
    return float((a & b).sum()) / max(1, int((a | b).sum()))


def _judged(place: Sequence[tuple[int, Piece]], light: LightOf, count: int, plate: F32) -> Standing | None:
    boxes = [p.box for _, p in place]
    found = _ranked(place, light, count, plate, _around(boxes, ROOM_PX, plate.shape))
    if found is None:
        return None
    seen, sure, best = found
    # with what hangs on it, a shadow
    box = _around(boxes, ROOM_PX + max(max(b[2:]) for b in boxes), plate.shape)
    x, y, w, h = box
    at = np.s_[y : y + h, x : x + w]
    where = sum(_cover(p, box).astype(np.float32) for _, p in place) > len(place) / 2
    where = _all_of_it(where, np.stack([rooted(light(n, at)) for n in best.frames]), rooted(plate[at]))
    soft = cv2.dilate(where.astype(np.float32), cv2.getStructuringElement(
        cv2.MORPH_ELLIPSE, (2 * GROWN_PX + 1, 2 * GROWN_PX + 1)))
    soft = cv2.GaussianBlur(soft, (0, 0), SOFT_PX)
    return Standing(box, np.rint(255 * soft).astype(np.uint8), tuple(seen), sure)


def _ranked(place: Sequence[tuple[int, Piece]], light: LightOf, count: int, plate: F32, box: Box
            ) -> tuple[list[Seen], bool, Seen] | None:
    """What is seen at a place, the ground first; whether that is sure; what else than the plate shows might be it.
    None where the plate is right.
    """
    x, y, w, h = box
    at = np.s_[y : y + h, x : x + w]
    where = sum(_cover(p, box).astype(np.float32) for _, p in place) > len(place) / 2
    if where.sum() < 12:
        return None
    own = {n: rooted(light(n, at)) for n in range(count)}
    shows = {n for n, _ in place}
    groups = _alike([n for n, _ in place], own, where)
    least = max(1 if count < 5 else 2, round(LEAST_SUPPORT * count))
    groups = [g for g in groups if len(g) >= least]
    plain = rooted(plate[at])
    # frames that show the plate there; others may show something else that passes
    rest = [n for n in own if n not in shows and np.median(np.abs(own[n] - plain).max(axis=2)[where]) < ALIKE]
    by_plate = Seen(tuple(rest), _step(plain, where))
    others = [Seen(tuple(g), _step(np.median(np.stack([own[n] for n in g]), axis=0).astype(np.float32), where))
              for g in groups]
    if not others:
        return None
    others.sort(key=lambda s: s.step)
    best = others[0]
    # a plate that no frame shows is a mixture of what is seen there
    rival = by_plate if rest or len(others) < 2 else others[1]
    sure = best.step < PLAINLY * rival.step
    seen = sorted((s for s in (by_plate, *others) if s.frames), key=lambda s: s.step)
    if not sure:
        if rival.step < PLAINLY * best.step or min(len(rival.frames), len(best.frames)) < HALFWAY * count:
            return None  # the plate is right, or as good as any
        seen.sort(key=lambda s: -len(s.frames))
    return seen, sure, best


def _alike(frames: Sequence[int], own: dict[int, F32], where: Bools) -> list[list[int]]:
    """Frames that show the same at a place."""
    groups: list[list[int]] = []
    for n in frames:
        home = next((g for g in groups if np.median(np.abs(own[n] - own[g[0]]).max(axis=2)[where]) < ALIKE), None)
        if home is None:
            groups.append([n])
        else:
            home.append(n)
    return groups


def _all_of_it(where: Bools, shown: F32, plain: F32) -> Bools:
    """A place with what hangs on it (a shadow): where frames (n, h, w, 3) that agree differ from the plate."""
    if len(shown) < 2:
        return where
    middle = np.median(shown, axis=0)
    agree = np.abs(shown - middle).max(axis=(0, 3)) < ALIKE
    off = cv2.GaussianBlur(np.abs(middle - plain).max(axis=2), (0, 0), 1.0)
    more = cv2.dilate(((off > ALIKE / 2) & agree | where).astype(np.uint8), np.ones((3, 3), np.uint8))
    _, parts = cv2.connectedComponents(more)
    return np.isin(parts, np.unique(parts[where])) & (more > 0)


def _step(root: F32, where: Bools) -> float:
    """How much a picture (h, w, 3) steps across the outline of a place, on average: what is within against what is
    without, nearby.
    """
    window = (WINDOW, WINDOW)
    inside, outside = where.astype(np.float32), (~where).astype(np.float32)

    def mean(weight: F32) -> F32:
        near = cv2.blur(weight, window) + np.float32(1e-6)
        return cv2.blur(root * weight[..., None], window) / near[..., None]

    rim = (cv2.dilate(inside, np.ones((3, 3))) > 0) & ~where
    return float(np.abs(mean(inside) - mean(outside)).max(axis=2)[rim].mean())
