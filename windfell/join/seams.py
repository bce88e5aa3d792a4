"""Which frame owns which spot: seams laid where the frames agree."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import maxflow
import numpy as np
from numpy.typing import NDArray

from windfell.job import Job
from windfell.pixels.tiles import Region

F32 = NDArray[np.float32]
NOBODY = -1
LENGTH_COST = 0.012
EDGE_COST = 0.02
ROUNDS = 2


@dataclass(frozen=True)
class Claim:
    """A frame where it may own the picture, on its box of the surface.

    `colour` (h, w, 3) perceptual values, mirrored past its edge; `valid` (h, w);
    `depth` (h, w) 0 at the frame's edge, 1 in its middle.
    """

    box: Region
    colour: F32
    valid: NDArray[np.bool_]
    depth: F32

    @property
    def slices(self) -> tuple[slice, slice]:
        b = self.box
        return slice(b.top, b.top + b.height), slice(b.left, b.left + b.width)


def nearest_owner(shape: tuple[int, int], claims: Sequence[Claim]) -> NDArray[np.int16]:
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
    both. Each expansion is one minimum cut.
    """
    owner = nearest_owner(shape, claims)
    views = job.map(View.of, claims, "comparing overlaps")
    for _ in range(ROUNDS):
        before = owner.copy()
        for n in job.over(range(len(claims)), "laying seams"):
            _expand(owner, claims, views, n)
        if np.array_equal(before, owner):
            break
    return owner


@dataclass(frozen=True)
class View:
    """What a frame looks like for seams, on its box: colour and brightness gradient (h, w, 5)."""

    box: Region
    features: F32
    keeping: F32

    @classmethod
    def of(cls, claim: Claim) -> View:
        grey = cv2.GaussianBlur(claim.colour.mean(axis=2), (0, 0), 0.8)
        dx = cv2.Sobel(grey, cv2.CV_32F, 1, 0, ksize=3, scale=0.25)
        dy = cv2.Sobel(grey, cv2.CV_32F, 0, 1, ksize=3, scale=0.25)
        return cls(claim.box, np.dstack([claim.colour / 3, dx, dy]), EDGE_COST * (1 - claim.depth))

    def at(self, y: NDArray[np.intp], x: NDArray[np.intp]) -> F32:
        """Features (n, 5) at surface pixels, held at the box's edge beyond it."""
        row = np.clip(y - self.box.top, 0, self.box.height - 1)
        column = np.clip(x - self.box.left, 0, self.box.width - 1)
        return self.features[row, column]


def _expand(
    owner: NDArray[np.int16], claims: Sequence[Claim], views: Sequence[View], alpha: int
) -> None:
    """Let frame `alpha` take from the others every spot that lowers the total cost."""
    claim = claims[alpha]
    own = owner[claim.slices]
    contested = claim.valid & (own != alpha) & (own != NOBODY)
    count = int(contested.sum())
    if not count:
        return
    node = np.full(own.shape, -1, np.int64)
    node[contested] = np.arange(count)
    y, x = np.nonzero(contested)
    taking = views[alpha].keeping[contested] - _keeping(own[contested], views, claim.box, y, x)
    taking = taking.astype(np.float64)
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


def _keeping(own: NDArray, views: Sequence[View], box: Region, y: NDArray, x: NDArray) -> F32:
    """What it costs each spot to stay with its owner for lying near that frame's edge."""
    out = np.zeros(len(own), np.float32)
    for n in np.unique(own):
        here = own == n
        its = views[n].box
        row, column = y[here] + box.top - its.top, x[here] + box.left - its.left
        out[here] = views[n].keeping[row, column]
    return out


def _add_pairs(graph, taking, own, node, step, box, views, alpha) -> None:
    """Edges and costs of neighbour pairs (p, q) of which at least one is contested."""
    dy, dx = step
    h, w = own.shape
    first, second = node[: h - dy, : w - dx], node[dy:, dx:]
    owned = (own[: h - dy, : w - dx] != NOBODY) & (own[dy:, dx:] != NOBODY)
    y, x = np.nonzero(((first >= 0) | (second >= 0)) & owned)
    p, q = first[y, x], second[y, x]
    of_p, of_q = own[y, x], own[y + dy, x + dx]
    here, there = (y + box.top, x + box.left), (y + dy + box.top, x + dx + box.left)
    pp, pq = _seen(of_p, views, here), _seen(of_p, views, there)
    qp, qq = _seen(of_q, views, here), _seen(of_q, views, there)
    ap, aq = views[alpha].at(*here), views[alpha].at(*there)
    keep_both = np.where(of_p == of_q, 0.0, _cost(pp - qp, pq - qq))
    take_second = np.where(of_p == alpha, 0.0, _cost(pp - ap, pq - aq))
    take_first = np.where(of_q == alpha, 0.0, _cost(ap - qp, aq - qq))
    both, only_p, only_q = (p >= 0) & (q >= 0), q < 0, p < 0
    np.add.at(taking, p[both], (take_first - keep_both)[both])
    np.add.at(taking, q[both], -take_first[both])
    np.add.at(taking, p[only_p], (take_first - keep_both)[only_p])
    np.add.at(taking, q[only_q], (take_second - keep_both)[only_q])
    capacity = np.maximum(take_second + take_first - keep_both, 0.0)[both]
    graph.add_edges(p[both], q[both], capacity, np.zeros_like(capacity))


def _seen(own: NDArray, views: Sequence[View], at: tuple[NDArray, NDArray]) -> F32:
    """What the given owner of each spot sees at those surface pixels, (n, 5)."""
    out = np.empty((len(own), 5), np.float32)
    for n in np.unique(own):
        here = own == n
        out[here] = views[n].at(at[0][here], at[1][here])
    return out


def _cost(here: F32, there: F32) -> NDArray[np.float64]:
    return (np.abs(here).sum(1) + np.abs(there).sum(1) + LENGTH_COST).astype(np.float64)


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
