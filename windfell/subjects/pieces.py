"""The things in one frame that the clean plate does not show: each with a soft matte and its shadow."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.subjects.differing import cast_on

F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
Box = tuple[int, int, int, int]

SEED, REGION = 7.0, 3.0
LEAST_SHARE = 0.0006
JOIN_SHARE, SHADOW_SHARE = 0.006, 0.02
LIKE_CAST, CAST_ROOM = 0.5, 8
LIT, SHARP = np.float32(0.04), 0.8
EDGE_PX, RIM_PX, INNER_PX = 2, 4, 5
LEAST_BETWEEN, BETWEEN_RIM, BETWEEN_COLUMNS, BETWEEN_SHARE = 12, 0.3, 0.2, 0.1
CALM_ROOT, DIMMED = np.float32(0.015), np.float32(0.97)
FAR_LEAST, FARTHEST_SHADOW = 0.15, 0.5


@dataclass(frozen=True)
class Piece:
    """A thing: its box (x, y, width, height) in px with its shadow, its matte and that of its shadow or spilled light
    over the box, uint8 (h, w); how many noises it stands out; its mean colour (3,), light.
    """

    box: Box
    matte: U8
    shadow: U8
    strength: float
    colour: tuple[float, float, float]

    @property
    def area(self) -> int:
        return int((self.matte > 127).sum())

    @property
    def body_box(self) -> Box:
        """(x, y, width, height) of the thing itself, px."""
        x, y, w, h = cv2.boundingRect((self.matte > 127).astype(np.uint8))
        return self.box[0] + x, self.box[1] + y, w, h

    @property
    def middle(self) -> tuple[float, float]:
        """Of the thing itself, px."""
        y, x = np.nonzero(self.matte > 127)
        return (float(self.box[0] + x.mean()), float(self.box[1] + y.mean())) if len(x) else (
            self.box[0] + self.box[2] / 2, self.box[1] + self.box[3] / 2)


def pieces_of(light: F32, plate: F32, off: F32, noise: F32, least_share: float = LEAST_SHARE) -> list[Piece]:
    """All pieces of a frame (h, w, 3), the largest first; `off`: how many noises it differs from the plate."""
    h, w = off.shape
    region = _grown_from_seeds(off)
    side = float(np.hypot(h, w))
    shadow = _like_casts(light, plate, noise, region)
    shadow = cv2.morphologyEx(shadow.astype(np.uint8), cv2.MORPH_OPEN, disc(2)) > 0
    # a shadow's own rim is no thing: what is one reaches further than that
    core = region & (cv2.dilate(shadow.astype(np.uint8), disc(RIM_PX)) == 0)
    body = ((cv2.dilate(core.astype(np.uint8), disc(RIM_PX + 1)) > 0) & region & ~shadow).astype(np.uint8)
    body = cv2.morphologyEx(body, cv2.MORPH_OPEN, disc(1))
    body = _filled(cv2.morphologyEx(body, cv2.MORPH_CLOSE, disc(max(2, round(side * JOIN_SHARE / 3)))))
    shadow &= body == 0
    body, shadow = _between(body, shadow)
    near = cv2.dilate(body, disc(max(2, round(side * JOIN_SHARE))))
    count, labels = cv2.connectedComponents(near)
    labels = np.where(body > 0, labels, 0)
    specks = np.bincount(labels.ravel(), minlength=count) < least_share * h * w
    labels[specks[labels]] = 0  # they cast no shadow
    owner = _owners(shadow, labels, count, round(side * SHADOW_SHARE))
    out = []
    for k in range(1, count):
        own = labels == k
        if not own.any() or off[own].mean() < SEED:
            continue
        out.append(_piece(own, owner == k, light, plate, off))
    return sorted(out, key=lambda p: -p.area)


def _like_casts(light: F32, plate: F32, noise: F32, region: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Where, of a region, only a shadow or spilled light lies on the plate."""
    x, y, w, h = cv2.boundingRect(region.astype(np.uint8))
    out = np.zeros(region.shape, bool)
    if not w:
        return out
    at = np.s_[max(0, y - CAST_ROOM) : y + h + CAST_ROOM, max(0, x - CAST_ROOM) : x + w + CAST_ROOM]
    like = region[at] & (cast_on(light[at], plate[at], noise[at], region[at]) > LIKE_CAST)
    out[at] = like & ~_lit_sharply(light[at], plate[at], like)
    return out


def _between(body: U8, shadow: NDArray[np.bool_]) -> tuple[U8, NDArray[np.bool_]]:
    """Body and shadow, what lies between parts of a body above and below it taken to it: a grey coat before a grey
    wall looks like the wall dimmed, but no shadow has the thing on both sides and along a good part of its rim. What
    is small beside those parts stays as it is: tips of shadows are often unclear.
    """
    count, parts, boxes, _ = cv2.connectedComponentsWithStats(shadow.astype(np.uint8))
    _, bodies, stats, _ = cv2.connectedComponentsWithStats(body)
    out = body.copy()
    for k in range(1, count):
        x, y, w, h, area = boxes[k]
        if area < LEAST_BETWEEN:
            continue
        at = np.s_[max(0, y - 2) : y + h + 2, max(0, x - 2) : x + w + 2]
        own = (parts[at] == k).astype(np.uint8)
        rim = (cv2.dilate(own, disc(1)) > 0) & (own == 0)
        touched = rim & (cv2.dilate(body[at], disc(1)) > 0)
        if touched.sum() < BETWEEN_RIM * rim.sum():
            continue
        # of its columns those with body right above and right below
        columns = np.nonzero(own.any(axis=0))[0]
        top, foot = np.maximum(own[:, columns].argmax(axis=0) - 1, 0), len(own) - own[::-1, columns].argmax(axis=0)
        held = touched[top, columns] & touched[np.minimum(foot, len(own) - 1), columns]
        beside = np.unique(bodies[at][cv2.dilate(own, disc(2)) > 0])
        if held.mean() > BETWEEN_COLUMNS and area > BETWEEN_SHARE * stats[beside[beside > 0], cv2.CC_STAT_AREA].max():
            out[at] |= own
    taken = (out > 0) & (body == 0)
    return out, shadow & ~taken


def _lit_sharply(light: F32, plate: F32, like: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """What of a cast is brighter than the plate right from its edge on: light that is spilled fades, a white coat
    before a grey wall does not.
    """
    gain = np.sqrt(np.maximum(light, 0)).mean(axis=2) - np.sqrt(np.maximum(plate, 0)).mean(axis=2)
    count, parts = cv2.connectedComponents((like & (gain > LIT)).astype(np.uint8))
    out = np.zeros(like.shape, bool)
    deep = cv2.distanceTransform((parts > 0).astype(np.uint8), cv2.DIST_L2, 3)
    for k in range(1, count):
        own = parts == k
        deepest = float(deep[own].max())
        rim = own & (deep > 1.5) & (deep < 3.5)
        core = own & (deep >= max(3.5, 0.6 * deepest))
        if deepest < 2 or not core.any() or not rim.any():
            out |= own  # nothing so thin is spilled light
        elif np.median(gain[rim]) > SHARP * np.median(gain[core]):
            out |= own
    return out


def _grown_from_seeds(off: F32) -> NDArray[np.bool_]:
    """What differs, where any of it differs plainly."""
    wide = (off > REGION).astype(np.uint8)
    wide = cv2.morphologyEx(wide, cv2.MORPH_CLOSE, disc(2))
    count, labels = cv2.connectedComponents(wide)
    seeds = np.bincount(labels[off > SEED], minlength=count) >= 6
    seeds[0] = False
    return seeds[labels]


def _owners(shadow: NDArray[np.bool_], labels: NDArray, count: int, reach: int) -> NDArray:
    """Of each px of shadow the thing (a label) that its connected part touches most, 0 for none."""
    parts, which = cv2.connectedComponents(shadow.astype(np.uint8))
    out = np.zeros(labels.shape, labels.dtype)
    if parts < 2 or count < 2:
        return out
    rim = np.zeros(labels.shape, np.int32)
    grown = cv2.dilate(labels.astype(np.float32), disc(max(2, reach // 4))).astype(np.int32)
    rim[shadow] = grown[shadow]
    touches = np.zeros((parts, count), np.int64)
    np.add.at(touches, (which[shadow], rim[shadow]), 1)
    touches[:, 0] = 0
    best = touches.argmax(axis=1)
    best[touches.max(axis=1) < 4] = 0
    best = _far_ones(best, which, parts, labels)
    out[shadow] = best[which[shadow]]
    return out


def _far_ones(best: NDArray, which: NDArray, parts: int, labels: NDArray) -> NDArray:
    """Shadows that touch nothing given to the nearest thing, as what flies casts them: if they are neither specks
    beside it nor larger than it by far.
    """
    sizes, areas = np.bincount(which.ravel(), minlength=parts), np.bincount(labels.ravel())
    things = areas[1:][areas[1:] > 0]
    lone = [k for k in range(1, parts) if best[k] == 0 and len(things) and sizes[k] > FAR_LEAST * things.min()]
    if not lone:
        return best
    h, w = labels.shape
    distance, nearest = cv2.distanceTransformWithLabels((labels == 0).astype(np.uint8), cv2.DIST_L2, 3,
                                                        labelType=cv2.DIST_LABEL_PIXEL)
    at = np.zeros(int(nearest.max()) + 1, labels.dtype)
    at[nearest[labels > 0]] = labels[labels > 0]
    best = best.copy()
    for k in lone:
        y, x = np.nonzero(which == k)
        j, i = round(float(y.mean())), round(float(x.mean()))
        thing = int(at[nearest[j, i]])
        near = distance[j, i] < FARTHEST_SHADOW * np.hypot(h, w)
        if near and FAR_LEAST * areas[thing] < sizes[k] < 2 * areas[thing]:
            best[k] = thing
    return best


def _piece(own: NDArray[np.bool_], shadow: NDArray[np.bool_], light: F32, plate: F32, off: F32) -> Piece:
    y, x = np.nonzero(own | shadow)
    h, w = own.shape
    rim = 3 * EDGE_PX
    left, top = max(0, int(x.min()) - rim), max(0, int(y.min()) - rim)
    right, bottom = min(w, int(x.max()) + rim + 1), min(h, int(y.max()) + rim + 1)
    at = np.s_[top:bottom, left:right]
    matte = _matte(own[at], light[at], plate[at])
    dark = cv2.GaussianBlur(shadow[at].astype(np.float32), (0, 0), EDGE_PX)
    dark = cv2.dilate(dark, disc(EDGE_PX)) * (1 - matte)
    inside = light[own]
    return Piece((left, top, right - left, bottom - top), np.rint(255 * matte).astype(np.uint8),
                 np.rint(255 * np.clip(dark, 0, 1)).astype(np.uint8), float(off[own].mean()),
                 tuple(float(v) for v in inside.mean(axis=0)))


def _matte(own: NDArray[np.bool_], light: F32, plate: F32) -> F32:
    """How much of each px (h, w) the thing covers: by how far its colour lies from the plate's, against that of the
    thing nearby; whole deep inside, nothing outside of a narrow rim.
    """
    mask = own.astype(np.uint8)
    # deep inside, of what is thin its middle
    depth = cv2.distanceTransform(np.pad(mask, 1), cv2.DIST_L2, 3)[1:-1, 1:-1]
    inside = depth > np.minimum(INNER_PX, 0.5 * cv2.dilate(depth, disc(INNER_PX)))
    rim = (cv2.dilate(mask, disc(EDGE_PX)) > 0) & ~inside
    weight = (inside if inside.any() else own).astype(np.float32)
    sigma = 1.5 * INNER_PX
    blur = lambda v: cv2.GaussianBlur(v, (0, 0), sigma)  # noqa: E731
    near = blur(weight)
    thing = blur(np.sqrt(np.maximum(light, 0)) * weight[..., None]) / np.maximum(near, 1e-4)[..., None]
    ground = np.sqrt(np.maximum(plate, 0))
    way, seen = thing - ground, np.sqrt(np.maximum(light, 0)) - ground
    length = (way * way).sum(axis=2)
    along = np.clip((seen * way).sum(axis=2) / np.maximum(length, 1e-6), 0, 1)
    # within, a px of another colour than the thing nearby is the thing too, if it is not just the ground dimmed
    off = np.sqrt((seen * seen).sum(axis=2))
    far = np.clip((off - CALM_ROOT) / np.maximum(np.sqrt(length) - CALM_ROOT, CALM_ROOT), 0, 1)
    dimmed = -(seen * ground).sum(axis=2) > DIMMED * off * np.sqrt((ground * ground).sum(axis=2))
    along = np.where(own & ~dimmed, np.maximum(far, along), along)
    soft = cv2.GaussianBlur(own.astype(np.float32), (0, 0), EDGE_PX / 2)
    # where thing and plate look alike, the outline alone says
    told = np.where((length > 0.004) & (near > 0.02), along, soft)
    return np.where(inside, 1.0, np.where(rim, told, 0.0)).astype(np.float32)


def _filled(mask: U8) -> U8:
    """The mask without holes."""
    outlines, _ = cv2.findContours(mask, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    out = np.zeros_like(mask)
    cv2.drawContours(out, outlines, -1, 1, cv2.FILLED)
    return out


def disc(radius: int) -> U8:
    """A round brush, uint8."""
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))


def laid(pieces: Sequence[tuple[Box, U8]], shape: tuple[int, int]) -> U8:
    """Mattes over their boxes as one, the most at each px, uint8 (h, w)."""
    out = np.zeros(shape, np.uint8)
    for (x, y, w, h), matte in pieces:
        at = np.s_[y : y + h, x : x + w]
        out[at] = np.maximum(out[at], matte)
    return out
