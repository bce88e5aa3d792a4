"""The outline pulled to its rectangle: the plane bent as little as possible until its four sides are straight.

A drift of the plane is sought that brings every spot of a side to one height (or one place across), at the least cost
of form, with straight edges kept straight, upright ones upright and the horizon level: weighted least squares over
the coefficients of a bicubic B-spline (rectangling by warping, He, Chang & Sun 2013, with a smooth spline in place of
their quads, a free rectangle, and edges held one by one). All terms are linear in the drift, so that what each side
asks for is worked out once and any amounts of the four are their sum.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.geometry.mesh import Bounds, Lattice, Mesh, slopes
from windfell.later import Later
from windfell.shape.held import Held
from windfell.shape.sides import NAMES

sparse = Later("scipy.sparse")
dense = Later("scipy.linalg")

Array = NDArray[np.float64]

CELLS, DRAFT_CELLS = 2400, 400
LEAST_AREA = 0.2
# how finely the way back is held, by cells of the way there: where much is squeezed, more so
WAYS_BACK, DRAFT_BACK, ASTRAY = (2, 4, 8), 64, 0.25
RIM = 0.01
ONE_LINE = 8
SEEN = 16000


@dataclass(frozen=True, eq=False)
class Task:
    """What is to be bent: the plane's bounds, its four sides (`Sides.each`, in plane units, empty ones are let be),
    what is covered (h, w) over the bounds, lines that are held, and where it must stay stiff (h, w, 0..1).
    `rim`: whether half a px of what is covered is left out at the edges.
    """

    bounds: Bounds
    sides: Sequence[Array]
    covered: NDArray[np.bool_]
    held: Sequence[Held] = ()
    stiff: NDArray[np.float32] | None = None
    closed: bool = False
    cells: int = CELLS
    rim: bool = True


@dataclass(frozen=True, eq=False)
class Pull:
    """What each side asks for, as drifts that add up, and what the lines ask for.

    `drifts` (5, rows, columns, 2): top, right, bottom, left, lines. `sides` as in the task.
    """

    task: Task
    drifts: Array

    @property
    def nbytes(self) -> int:
        return self.drifts.nbytes

    def forth(self, amounts: Sequence[float], net: Array | None = None) -> Lattice:
        """The drift for amounts (0..1) of top, right, bottom and left, never so far that it folds.

        `net`: a drift (rows, columns, 2) made by hand that comes on top.
        """
        weights = np.array([*amounts, 1.0])
        drift, turn = np.tensordot(weights, self.drifts, 1), np.tensordot(weights, self._turns, 1)
        if net is not None:
            drift = drift + net
            turn = turn + slopes(Lattice(self.task.bounds, net, self._period), self._watched) - np.eye(2)
        return Lattice(self.task.bounds, drift * unfolded_share(turn), self._period)

    @cached_property
    def _turns(self) -> Array:
        """(5, n, 2, 2): the slopes of each drift at the spots that are watched for folds."""
        spots, flat = self._watched, np.eye(2)
        return np.stack([slopes(Lattice(self.task.bounds, d, self._period), spots) - flat for d in self.drifts])

    @property
    def cells(self) -> tuple[int, int]:
        """How many (across, down) lie between the spline's knots."""
        return self.drifts.shape[2] - 3, self.drifts.shape[1] - 3

    @cached_property
    def folded(self) -> Array:
        """Spots (n, 2) of the plane to which the full pull of all sides would leave too little of their area."""
        return self._watched[_area(self._turns.sum(0) + np.eye(2)) < LEAST_AREA]

    @property
    def whole(self) -> bool:
        """Whether the full pull of all sides leaves every spot enough of its area."""
        return not len(self.folded)

    @cached_property
    def seen(self) -> Array:
        """Spots (n, 2) of the plane spread over what is within the sides."""
        b, (h, w) = self.task.bounds, self.task.covered.shape
        step = max(1, int(np.sqrt(h * w / SEEN)))
        y, x = np.nonzero(self.task.covered[::step, ::step])
        return np.stack([b.left + (x * step + 0.5) * b.width / w, b.top + (y * step + 0.5) * b.height / h], -1)

    @cached_property
    def _watched(self) -> Array:
        """What is seen and its rim, (n, 2): it is at the sides that most is asked for."""
        return np.concatenate([self.seen, self._rim])

    @property
    def _period(self) -> float | None:
        return self.task.bounds.width if self.task.closed else None

    def mesh(self, amounts: Sequence[float], net: Array | None = None, fine: bool = True) -> tuple[Mesh, Bounds]:
        """The mesh for amounts of the four sides, and the bounds that the bent plane is cut to.

        Its way back is held more coarsely if not `fine`.
        """
        forth = self.forth(amounts, net)
        cut = self._cut(forth, amounts)
        most = max(forth.cells)
        # a little more than is cut, since maps look beyond their region
        rim = RIM * max(cut.width, cut.height)
        aside = 0.0 if self.task.closed else rim
        grown = Bounds(cut.left - aside, cut.top - rim, cut.right + aside, cut.bottom + rim)
        for finer in WAYS_BACK if fine else (min(1.0, DRAFT_BACK / most),):
            across, down = (max(8, round(finer * v)) + 1 for v in forth.cells)
            mesh = Mesh.of(forth, grown, across, down, cut)
            if not fine or mesh.astray(self._watched) < ASTRAY * self._pixel:
                break
        return mesh, cut

    def _cut(self, forth: Lattice, amounts: Sequence[float]) -> Bounds:
        """From the whole plane's bounds, by the amounts, to the rectangle around the bent sides, and at the end the
        one within them.
        """
        whole = self.task.bounds
        edge = self._rim
        bent = edge + forth.at(edge) if len(edge) else edge
        found = {}
        for name, spots, amount in zip(NAMES, self.task.sides, amounts, strict=True):
            axis, first = (1 if name in ("top", "bottom") else 0), name in ("top", "left")
            outer = getattr(whole, name)
            if len(edge):
                # what lay at the bounds may have gone beyond them, or come in
                most = np.min if first else np.max
                outer += float(most(bent[:, axis]) - most(edge[:, axis]))
            if len(spots):
                there = (spots + forth.at(spots))[:, axis]
                rim = self._pixel / 2 if self.task.rim else 0.0
                inside = float((np.max if first else np.min)(there)) + (rim if first else -rim)
                # short of all, nothing within the sides is cut off; in the end they are one line
                near = float((np.min if first else np.max)(there))
                share = amount**ONE_LINE
                outer = (1 - amount) * outer + amount * ((1 - share) * near + share * inside)
            found[name] = outer
        if self.task.closed:
            found["left"], found["right"] = whole.left, whole.right
        return Bounds(found["left"], found["top"], found["right"], found["bottom"])

    @cached_property
    def _rim(self) -> Array:
        """Spots (n, 2) along the edge of what is covered."""
        b, covered = self.task.bounds, self.task.covered
        h, w = covered.shape
        inner = cv2.erode(np.pad(covered, 1).astype(np.uint8), np.ones((3, 3), np.uint8))[1:-1, 1:-1]
        y, x = np.nonzero(covered & (inner == 0))
        return np.stack([b.left + (x + 0.5) * b.width / w, b.top + (y + 0.5) * b.height / h], -1)

    @property
    def _pixel(self) -> float:
        """The side of a px of what is covered, in units of the plane."""
        return self.task.bounds.width / self.task.covered.shape[1]


def unfolded_share(turn: Array) -> float:
    """The largest share of a drift, up to 1, that leaves each spot at least LEAST_AREA of its area, by the drift's
    slopes (n, 2, 2) there.
    """
    # the area as a function of the share s: 1 + s t + s^2 d
    trace, det = turn[..., 0, 0] + turn[..., 1, 1], _area(turn)
    share = 1.0
    for _ in range(40):
        if (1 + share * trace + share**2 * det).min(initial=1.0) >= LEAST_AREA:
            return share
        share *= 0.95
    return 0.0


def _area(turn: Array) -> Array:
    """The determinant of (..., 2, 2), written out: a library's is made for larger ones."""
    return turn[..., 0, 0] * turn[..., 1, 1] - turn[..., 0, 1] * turn[..., 1, 0]
