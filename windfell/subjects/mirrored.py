"""Reflections: what lies below a thing as its mirror image, fainter, is no thing of its own and goes where it goes.

Water and polished floors add to their own light a share of what stands above them. So where a thing stands before
the plate, the difference to the plate comes back upside down, weaker, and blurred by ripples; the axis is the row at
which the ground below the thing would be seen.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.subjects.pieces import REGION, Box, Piece, disc, laid

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
Mask = NDArray[np.bool_]

TALL, LEAST_TALL = 72, 10  # px of a thing as it is looked at, and of one that can be
FROM, ASIDE, STEP = 0.45, 0.15, 2
FAINTEST, CLEAREST, HALVES_CLEAREST = 0.06, 0.95, 0.75
ALIKE, ALIKE_WITHIN, COVERS, COVERS_PLAIN = 0.8, 0.5, 0.6, 0.7
STRUCTURE, SEEN_ROWS, ROW = 0.04, 0.35, 0.25
BLUR, REACH, INSIDE = 0.025, 0.06, 0.6
MOST, TWICE = 0.5, 2


@dataclass(frozen=True)
class _Look:
    """What is seen below the top of a thing, small: its difference to the plate (h, w, 3), the thing (h, w), what
    differs; `body`: its rows; its first row in the frame, and px of the frame for one of these.
    """

    difference: F32
    thing: Mask
    differs: Mask
    body: int
    top: float
    px: float


@dataclass(frozen=True)
class _Axis:
    """Where a thing is mirrored: at a row, px of the frame; `whole`: what was found goes on below it, and that is
    reflection; how well it fits.
    """

    row: float
    whole: bool
    fit: float


@dataclass(frozen=True)
class Mirrored:
    """A piece that may stand before a mirror: `joined`, its reflection parted from it and made part of what it casts;
    the pieces that are no more than that reflection, by index.
    """

    joined: Piece
    reflections: tuple[int, ...]


def mirrored_of(pieces: Sequence[Piece], light: F32, plate: F32, off: F32) -> dict[int, Mirrored]:
    """Those of the pieces of a frame (h, w, 3), by index, that seem to be mirrored; `off`: how many noises it differs
    from the plate (h, w).
    """
    left = sorted(range(len(pieces)), key=lambda n: pieces[n].body_box[1])
    out: dict[int, Mirrored] = {}
    while left:
        n = left.pop(0)
        axis = _axis_of(pieces[n], [pieces[k] for k in left], light, plate, off)
        if axis is not None:
            out[n] = _with_reflection(pieces, n, axis, left, off)
            left = [k for k in left if k not in out[n].reflections]
    return out


def believed(tracks: Sequence[Sequence[int]], found: Sequence[Mapping[int, Mirrored]]) -> list[dict[int, Mirrored]]:
    """Of each frame those mirrored that are believed: a thing may look like half of itself once, but where there is a
    mirror most frames show it. `tracks`: of each frame's pieces.
    """
    of_track = Counter(t for own in tracks for t in own)
    seen = Counter(tracks[n][k] for n, own in enumerate(found) for k in own)
    swallowed = sum(len(m.reflections) for own in found for m in own.values())
    everywhere = sum(seen.values()) >= MOST * max(1, sum(of_track.values()) - swallowed)
    firm = {t for t, count in seen.items() if everywhere or count >= max(TWICE, MOST * of_track[t])}
    return [{k: m for k, m in own.items() if tracks[n][k] in firm} for n, own in enumerate(found)]


def with_mirrored(pieces: Sequence[Piece], found: Mapping[int, Mirrored]) -> list[Piece]:
    """The pieces of a frame, the largest first, reflections no more among them."""
    gone = {k for m in found.values() for k in m.reflections}
    out = [found[n].joined if n in found else p for n, p in enumerate(pieces) if n not in gone]
    return sorted(out, key=lambda p: -p.area)


def _axis_of(piece: Piece, others: Sequence[Piece], light: F32, plate: F32, off: F32) -> _Axis | None:
    """The axis at which a piece is mirrored, if it plainly is: within it, below it, or halfway to another."""
    below = [p.body_box for p in others if _lies_below(piece.body_box, p.body_box)]
    look = _looked_at(piece, max((y + h for _, y, _, h in below), default=0), light, plate, off)
    if look is None:
        return None
    tries = [(row, row, True) for row in range(round(FROM * look.body), look.body, STEP)]
    apart = set(range(look.body - 1, look.body + STEP))
    for _, y, _, h in below:
        halfway = round((y + h - look.top) / look.px / 2)
        apart.update(range(max(look.body - 1, halfway - 2 * STEP), halfway + 2 * STEP + 1))
    tries += [(look.body, row, False) for row in sorted(apart)]
    found = [a for a in (_tried(look, *t) for t in tries) if a is not None]
    best = max(found, key=lambda a: a.fit, default=None)
    return best and replace(best, row=look.top + best.row * look.px)


def _lies_below(one: Box, other: Box) -> bool:
    shared = min(one[0] + one[2], other[0] + other[2]) - max(one[0], other[0])
    return other[1] > one[1] + one[3] // 2 and shared > one[2] // 2


def _looked_at(piece: Piece, least_bottom: int, light: F32, plate: F32, off: F32) -> _Look | None:
    x, y, w, h = piece.body_box
    if h < LEAST_TALL or w < 3:
        return None
    aside = round(ASIDE * w) + 2
    left, right = max(0, x - aside), min(off.shape[1], x + w + aside)
    bottom = min(off.shape[0], max(y + round(2.2 * h), least_bottom + h // 4))
    at = np.s_[y:bottom, left:right]
    k = min(1.0, TALL / h)
    size = max(3, round((right - left) * k)), max(4, round((bottom - y) * k))

    def small(v: NDArray) -> F32:
        return cv2.resize(np.ascontiguousarray(v, np.float32), size, interpolation=cv2.INTER_AREA)

    thing = laid([(piece.box, piece.matte)], off.shape)
    return _Look(small(light[at] - plate[at]), small(thing[at]) > 127, small(off[at] > REGION) > 0.4,
                 min(round(h * k), size[1]), y, 1 / k)


def _tried(look: _Look, body: int, axis: int, whole: bool) -> _Axis | None:
    """A thing of so many rows mirrored at a row, if what is seen below is that."""
    thing = look.thing[:body]
    rows = np.arange(axis, min(2 * axis, look.thing.shape[0]))
    above = 2 * axis - 1 - rows
    rows, above = rows[above < body], above[above < body]
    if len(rows) < 4:
        return None
    mask = thing[above]
    differs = look.differs[rows]
    # what is near the axis may lie behind the bank
    own = mask.sum(axis=1)
    seen = (mask & differs).sum(axis=1) > ROW * np.maximum(own, 1)
    first = int(np.argmax(seen & (own > 0)))
    mask, differs, rows, above = mask[first:], differs[first:], rows[first:], above[first:]
    if len(rows) < SEEN_ROWS * body or mask.sum() < 12:
        return None
    # below where the mirror image ends nothing may go on
    end = rows[-1] + 1
    beyond = look.differs[end : end + max(2, body // 8)].sum() if whole else 0
    covers = (mask & differs).sum() / max((mask | differs).sum() + beyond, 1)
    if covers < COVERS:
        return None
    sigma = max(0.8, BLUR * body)
    mirrored = cv2.GaussianBlur(look.difference[above], (0, 0), sigma)[mask]
    below = cv2.GaussianBlur(look.difference[rows], (0, 0), sigma)[mask]
    energy = float((mirrored**2).sum())
    share = float((mirrored * below).sum()) / max(energy, 1e-9)
    alike = _like(mirrored, below)
    if not FAINTEST < share < (HALVES_CLEAREST if whole else CLEAREST) or alike < ALIKE:
        return None
    inner = mirrored - mirrored.mean(axis=0)
    told = float((inner**2).sum()) > STRUCTURE * energy
    if told and _like(inner, below - below.mean(axis=0)) < ALIKE_WITHIN:
        return None
    if not told and (whole or covers < COVERS_PLAIN or share > HALVES_CLEAREST):
        return None  # what is one colour all over is like any half of itself
    return _Axis(axis, whole, alike + covers)


def _like(a: F32, b: F32) -> float:
    return float((a * b).sum() / max(np.sqrt((a * a).sum() * (b * b).sum()), 1e-9))


def _with_reflection(pieces: Sequence[Piece], n: int, axis: _Axis, others: Sequence[int], off: F32) -> Mirrored:
    """A piece with what is mirrored of it as part of its shadow, and which of the others are no more than that."""
    piece = pieces[n]
    body, cast = (laid([(piece.box, m)], off.shape) for m in (piece.matte, piece.shadow))
    _, top, _, tall = piece.body_box
    split = round(axis.row)
    if axis.whole:
        cast[split:] = np.maximum(cast[split:], body[split:])
        body[split:] = 0
        tall = split - top
    reach = max(2, round(REACH * tall))
    zone = cv2.dilate(_mirrored((body > 127).astype(np.uint8), axis.row), disc(reach))
    zone[:split] = 0
    reflections = tuple(k for k in others if _mostly_in(pieces[k], zone))
    for k in reflections:
        cast = np.maximum(cast, laid([(pieces[k].box, m) for m in (pieces[k].matte, pieces[k].shadow)], off.shape))
    told = cv2.morphologyEx(((off > REGION) & (zone > 0)).astype(np.uint8), cv2.MORPH_CLOSE, disc(reach))
    soft = cv2.GaussianBlur(told.astype(np.float32) * 255, (0, 0), max(1.0, reach / 3))
    cast = np.minimum(np.maximum(cast, np.rint(soft).astype(np.uint8)), 255 - body)
    x, y, bw, bh = cv2.boundingRect(cv2.max(body, cast))
    at = np.s_[y : y + bh, x : x + bw]
    joined = replace(piece, box=(x, y, bw, bh), matte=body[at].copy(), shadow=cast[at].copy())
    return Mirrored(joined, reflections)


def _mostly_in(piece: Piece, zone: U8) -> bool:
    x, y, w, h = piece.box
    own = piece.matte > 127
    return bool((own & (zone[y : y + h, x : x + w] > 0)).sum() > INSIDE * max(own.sum(), 1))


def _mirrored(mask: U8, row: float) -> U8:
    """A mask (h, w) upside down about a row."""
    turn = np.array([[1, 0, 0], [0, -1, 2 * row - 1]], np.float32)
    return cv2.warpAffine(mask, turn, mask.shape[::-1], flags=cv2.INTER_NEAREST)
