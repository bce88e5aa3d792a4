"""Which frame owns which spot: seams laid where the frames agree."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.job import Job
from windfell.later import Later
from windfell.pixels.channels import most_of
from windfell.pixels.tiles import Region

maxflow = Later("maxflow")

F32 = NDArray[np.float32]
NOBODY = -1
LENGTH_COST = 0.012
EDGE_COST, BURNT_COST = 0.02, 0.03
BRIGHTEST = 100.0
ROUNDS, FINER_ROUNDS = 3, 2
BLOCK, LEVELS, LEAST_SIDE, NEAR = 8, 4, 24, 4
AROUND = 24
UNLIKE, LARGEST = 0.12, 0.2
ONES, THIRDS = np.ones(5, np.float32), np.full((1, 3), 1 / 3, np.float32)


@dataclass(frozen=True)
class Claim:
    """A frame where it may own the picture, on its box of the surface.

    `colour` (h, w, 3) perceptual values, mirrored past its edge; `valid` (h, w);
    `depth` (h, w) 0 at the frame's edge, 1 in its middle. `burnt` (h, w): how far it is burnt out, 0..1; None for
    nowhere.
    """

    box: Region
    colour: F32
    valid: NDArray[np.bool_]
    depth: F32
    burnt: F32 | None = None

    @property
    def slices(self) -> tuple[slice, slice]:
        b = self.box
        return slice(b.top, b.top + b.height), slice(b.left, b.left + b.width)


def nearest_owner(
    shape: tuple[int, int], claims: Sequence[Claim], job: Job | None = None
) -> NDArray[np.int16]:
    """Owner (h, w) of each spot by depth alone: the frame in which it lies most inside."""
    best = np.full(shape, -1.0, np.float32)
    owner = np.full(shape, NOBODY, np.int16)
    for n, claim in enumerate(claims):
        depth = np.where(claim.valid, claim.depth, -1.0)
        better = depth > best[claim.slices]
        best[claim.slices][better] = depth[better]
        owner[claim.slices][better] = n
    return owner


def cut_owner(
    shape: tuple[int, int], claims: Sequence[Claim], job: Job
) -> NDArray[np.int16]:
    """Owner (h, w) of each spot with seams moved to where neighbouring frames look alike.

    Alpha-expansion (Boykov, Veksler & Zabih 2001) with the seam cost of Kwatra et al.
    (2003): two neighbours owned by different frames cost what these frames differ by at
    both. Each expansion is one minimum cut. From coarse to fine: seams are found on a surface a few times as small,
    and on each finer one move only near where they lie and around things that reach there. Sides and boxes are
    multiples of `BLOCK`, or all is cut at once.
    """
    levels = [list(claims)]
    while len(levels) < LEVELS and _halves(shape, claims, 2 ** len(levels)):
        levels.append([_halved(c) for c in levels[-1]])
    owner: NDArray[np.int16] | None = None
    for n in reversed(range(len(levels))):
        size = shape[0] >> n, shape[1] >> n
        nearest = nearest_owner(size, levels[n])
        if owner is None:
            owner, free = nearest, np.ones(size, bool)
        else:
            owner = _raised(owner, levels[n], nearest)
            free = _near_seams(owner)
            free |= _things_at(free, owner, levels[n])
        _cut(owner, levels[n], free, job, ROUNDS if n == len(levels) - 1 else FINER_ROUNDS)
    return owner


def cut_near(before: NDArray[np.int16], claims: Sequence[Claim], job: Job) -> NDArray[np.int16]:
    """Owner (h, w) as before, with seams laid anew only around spots that the claims no longer leave as they were."""
    seen = np.zeros(before.shape, bool)
    for n, claim in enumerate(claims):
        seen[claim.slices] |= (before[claim.slices] == n) & claim.valid
    nearest = nearest_owner(before.shape, claims)
    lost = ~seen & (nearest != NOBODY)
    if not lost.any():
        return before
    owner = np.where(lost, nearest, before)
    free = cv2.dilate(lost.astype(np.uint8), np.ones((2 * AROUND + 1,) * 2, np.uint8)) > 0
    rows, columns = np.flatnonzero(free.any(axis=1)), np.flatnonzero(free.any(axis=0))
    top, left = max(0, rows[0] - 2), max(0, columns[0] - 2)
    part = Region(int(left), int(top), int(columns[-1] + 3 - left), int(rows[-1] + 3 - top))
    part = part.shared(Region(0, 0, before.shape[1], before.shape[0]))
    at = part.within(Region(0, 0, before.shape[1], before.shape[0]))
    inner = np.ascontiguousarray(owner[at])
    _cut(inner, [_cropped(c, part) for c in claims], np.ascontiguousarray(free[at]), job, ROUNDS)
    owner[at] = inner
    return owner


def _cropped(claim: Claim, part: Region) -> Claim:
    """The claim on a part of the surface, whose own px count from its corner."""
    box = claim.box.shared(part)
    if box is None:
        blank = np.zeros((1, 1), np.float32)
        return Claim(Region(0, 0, 1, 1), np.dstack([blank] * 3), blank > 0, blank)
    at = box.within(claim.box)
    return Claim(Region(box.left - part.left, box.top - part.top, box.width, box.height),
                 claim.colour[at], claim.valid[at], claim.depth[at], None if claim.burnt is None else claim.burnt[at])


def _halves(shape: tuple[int, int], claims: Sequence[Claim], by: int) -> bool:
    """Whether the surface and all boxes can be made so many times as small, and are large enough to be worth it."""
    sides = [*shape, *(v for c in claims for v in (c.box.left, c.box.top, c.box.width, c.box.height))]
    return not any(v % by for v in sides) and min(shape) // by >= LEAST_SIDE


def _halved(claim: Claim) -> Claim:
    b = claim.box
    box = Region(b.left // 2, b.top // 2, b.width // 2, b.height // 2)
    size = box.width, box.height
    valid = cv2.resize(claim.valid.astype(np.float32), size, interpolation=cv2.INTER_AREA) > 0.99
    less = lambda p: None if p is None else cv2.resize(p, size, interpolation=cv2.INTER_AREA)  # noqa: E731
    return Claim(box, less(claim.colour), valid, less(claim.depth), less(claim.burnt))


def _raised(rough: NDArray[np.int16], claims: Sequence[Claim], nearest: NDArray[np.int16]) -> NDArray[np.int16]:
    """Owners of a surface of half the size, as far as they see the spots; else the nearest."""
    owner = np.repeat(np.repeat(rough, 2, axis=0), 2, axis=1)
    seen = np.zeros(owner.shape, bool)
    for n, claim in enumerate(claims):
        seen[claim.slices] |= (owner[claim.slices] == n) & claim.valid
    return np.where(seen, owner, nearest)


def _near_seams(owner: NDArray[np.int16]) -> NDArray[np.bool_]:
    edge = np.zeros(owner.shape, np.uint8)
    edge[:, 1:] |= owner[:, 1:] != owner[:, :-1]
    edge[1:] |= owner[1:] != owner[:-1]
    return cv2.dilate(edge, np.ones((2 * NEAR + 1,) * 2, np.uint8)) > 0


def _things_at(near: NDArray[np.bool_], owner: NDArray[np.int16], claims: Sequence[Claim]) -> NDArray[np.bool_]:
    """What other frames do not show so, as far as it reaches to a seam, and around: a seam that went through it on a
    surface on which little of it was seen may go around it.
    """
    picture = np.zeros((*owner.shape, 3), np.float32)
    for n, claim in enumerate(claims):
        mine = owner[claim.slices] == n
        picture[claim.slices][mine] = claim.colour[mine]
    out = np.zeros(owner.shape, np.uint8)
    for n, claim in enumerate(claims):
        seen = claim.valid & (owner[claim.slices] != n) & (owner[claim.slices] != NOBODY)
        unlike = most_of(cv2.absdiff(claim.colour, picture[claim.slices])) > UNLIKE
        thing = cv2.morphologyEx((unlike & seen).astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
        count, parts, stats, _ = cv2.connectedComponentsWithStats(thing)
        meets = np.bincount(parts[near[claim.slices]], minlength=count) > 0
        meets &= stats[:, cv2.CC_STAT_AREA] < LARGEST * parts.size
        meets[0] = False
        out[claim.slices] |= meets[parts]
    return cv2.dilate(out, np.ones((2 * NEAR + 1,) * 2, np.uint8)) > 0


def _cut(
    owner: NDArray[np.int16], claims: Sequence[Claim], free: NDArray[np.bool_], job: Job, rounds: int
) -> None:
    """Let every frame take what lowers the total cost, where spots are free, until none does."""
    views = Views(claims, job)
    changed = set(range(len(claims)))
    for _ in range(rounds):
        before = owner.copy()
        # frames that do not touch are let take at once
        for group in _apart(claims, changed):
            job.map(lambda n: _expand(owner, claims, views, n, free), group, "laying seams")
        moved = owner != before
        if not moved.any():
            break
        changed = {n for n, c in enumerate(claims) if moved[c.slices].any()}


def _apart(claims: Sequence[Claim], chosen: set[int]) -> list[list[int]]:
    """The chosen frames in groups of which no two boxes meet."""
    groups: list[list[int]] = []
    for n in sorted(chosen):
        mine = claims[n].box.grown(1)
        for group in groups:
            if all(mine.shared(claims[m].box) is None for m in group):
                group.append(n)
                break
        else:
            groups.append([n])
    return groups


def seam_cost(owner: NDArray[np.int16], claims: Sequence[Claim]) -> float:
    """What the seams of an ownership cost in all, by the measure that is cut by."""
    views = Views(claims, Job())
    total = 0.0
    for dy, dx in ((0, 1), (1, 0)):
        h, w = owner.shape
        p, q = owner[: h - dy, : w - dx], owner[dy:, dx:]
        y, x = np.nonzero((p != q) & (p != NOBODY) & (q != NOBODY))
        of_p, of_q, here, there = p[y, x], q[y, x], (y, x), (y + dy, x + dx)
        total += float(_cost(views.at(of_p, here) - views.at(of_q, here),
                             views.at(of_p, there) - views.at(of_q, there)).sum())
    for n, claim in enumerate(claims):
        y, x = np.nonzero((owner[claim.slices] == n) & claim.valid)
        total += float(views.keeping(n, (y + claim.box.top, x + claim.box.left)).sum())
    return total


class Views:
    """What the frames look like for seams: colour and brightness gradient, five values a spot, all in one table."""

    def __init__(self, claims: Sequence[Claim], job: Job) -> None:
        parts = job.map(_looks, claims, "comparing overlaps")
        boxes = np.array([(c.box.left, c.box.top, c.box.width, c.box.height) for c in claims])
        self._left, self._top, self._wide, self._high = boxes.T.astype(np.int64)
        self._first = np.concatenate([[0], np.cumsum(self._wide * self._high)[:-1]])
        self._table = np.concatenate([p.reshape(-1, 5) for p in parts])
        self._keeping = np.concatenate([_keeping(c).ravel() for c in claims])

    def _index(self, of: NDArray | int, y: NDArray, x: NDArray) -> NDArray[np.int64]:
        """Where in the table frames `of` see surface px, held at their boxes' edges."""
        row = np.clip(y - self._top[of], 0, self._high[of] - 1)
        return self._first[of] + row * self._wide[of] + np.clip(x - self._left[of], 0, self._wide[of] - 1)

    def at(self, of: NDArray | int, place: tuple[NDArray, NDArray]) -> F32:
        """What frames `of` (n,) or one frame see at surface px, (n, 5)."""
        return self._table[self._index(of, *place)]

    def keeping(self, of: NDArray | int, place: tuple[NDArray, NDArray]) -> F32:
        """What it costs a spot to be owned by its frame near the frame's edge or where it is burnt out, (n,)."""
        return self._keeping[self._index(of, *place)]


def _keeping(claim: Claim) -> F32:
    cost = np.float32(EDGE_COST) * (1 - claim.depth)
    return cost if claim.burnt is None else cost + np.float32(BURNT_COST) * np.nan_to_num(claim.burnt)


def _looks(claim: Claim) -> F32:
    # light developed beyond all measure may overflow; costs must stay numbers
    colour = np.nan_to_num(claim.colour, nan=0.0, posinf=BRIGHTEST, neginf=0.0)
    grey = cv2.GaussianBlur(cv2.transform(colour, THIRDS), (0, 0), 0.8)
    dx = cv2.Sobel(grey, cv2.CV_32F, 1, 0, ksize=3, scale=0.25)
    dy = cv2.Sobel(grey, cv2.CV_32F, 0, 1, ksize=3, scale=0.25)
    return np.dstack([colour * np.float32(1 / 3), dx, dy])


def _expand(
    owner: NDArray[np.int16], claims: Sequence[Claim], views: Views, alpha: int, free: NDArray[np.bool_]
) -> None:
    """Let frame `alpha` take from the others every free spot that lowers the total cost."""
    claim = claims[alpha]
    own = owner[claim.slices]
    contested = claim.valid & (own != alpha) & (own != NOBODY) & free[claim.slices]
    count = int(contested.sum())
    if not count:
        return
    node = np.full(own.shape, -1, np.int64)
    node[contested] = np.arange(count)
    y, x = np.nonzero(contested)
    place = y + claim.box.top, x + claim.box.left
    taking = (views.keeping(alpha, place) - views.keeping(own[contested], place)).astype(np.float64)
    graph = maxflow.GraphFloat(count, 4 * count)
    graph.add_nodes(count)
    for dy, dx in ((0, 1), (1, 0)):
        _add_pairs(graph, taking, own, node, (dy, dx), claim.box, views, alpha)
    nodes = np.arange(count)
    graph.add_grid_tedges(nodes, np.maximum(taking, 0.0), np.maximum(-taking, 0.0))
    graph.maxflow()
    taken = np.zeros(own.shape, bool)
    taken[contested] = graph.get_grid_segments(nodes)
    own[taken] = alpha


def _add_pairs(graph, taking, own, node, step, box, views: Views, alpha: int) -> None:
    """Edges and costs of neighbour pairs (p, q) of which at least one is contested."""
    dy, dx = step
    h, w = own.shape
    first, second = node[: h - dy, : w - dx], node[dy:, dx:]
    owned = (own[: h - dy, : w - dx] != NOBODY) & (own[dy:, dx:] != NOBODY)
    y, x = np.nonzero(((first >= 0) | (second >= 0)) & owned)
    p, q = first[y, x], second[y, x]
    of_p, of_q = own[y, x], own[y + dy, x + dx]
    here, there = (y + box.top, x + box.left), (y + dy + box.top, x + dx + box.left)
    pp, pq = views.at(of_p, here), views.at(of_p, there)
    ap, aq = views.at(alpha, here), views.at(alpha, there)
    keep_both, take_first = np.zeros(len(p)), _cost(ap - pp, aq - pq)
    differ = np.flatnonzero(of_p != of_q)
    take_second = take_first.copy()
    if len(differ):
        far, beyond = [tuple(v[differ] for v in at) for at in (here, there)]
        qp, qq = views.at(of_q[differ], far), views.at(of_q[differ], beyond)
        keep_both[differ] = _cost(pp[differ] - qp, pq[differ] - qq)
        take_first[differ] = _cost(ap[differ] - qp, aq[differ] - qq)
    take_second[of_p == alpha] = 0.0
    take_first[of_q == alpha] = 0.0
    both, only_p, only_q = (p >= 0) & (q >= 0), q < 0, p < 0
    count = len(taking)
    taking += np.bincount(p[both], (take_first - keep_both)[both], count)
    taking -= np.bincount(q[both], take_first[both], count)
    taking += np.bincount(p[only_p], (take_first - keep_both)[only_p], count)
    taking += np.bincount(q[only_q], (take_second - keep_both)[only_q], count)
    capacity = np.maximum(take_second + take_first - keep_both, 0.0)[both]
    graph.add_edges(p[both], q[both], capacity, np.zeros_like(capacity))


def _cost(here: F32, there: F32) -> NDArray[np.float64]:
    with np.errstate(all="ignore"):  # some matrix libraries raise flags for nothing
        return (np.abs(here) @ ONES + np.abs(there) @ ONES + LENGTH_COST).astype(np.float64)


def spread(owner: NDArray[np.int16]) -> NDArray[np.int16]:
    """Owners continued into the spots nobody owns, from the nearest owned one."""
    empty = owner == NOBODY
    if not empty.any() or empty.all():
        return owner
    _, nearest = cv2.distanceTransformWithLabels(
        empty.astype(np.uint8), cv2.DIST_L2, 3, labelType=cv2.DIST_LABEL_PIXEL
    )
    of_label = np.zeros(nearest.max() + 1, np.int16)
    of_label[nearest[~empty]] = owner[~empty]
    return np.where(empty, of_label[nearest], owner)
