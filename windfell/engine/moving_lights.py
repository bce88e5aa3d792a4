"""The light of a stack's frames in place without much memory: kept as half floats or, of many, made again; what is
asked of all of them is worked in blocks of rows.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.combine.network import median
from windfell.combine.strips import shown
from windfell.engine.stack_pile import PileStages
from windfell.job import Job
from windfell.pixels.tiles import Region
from windfell.subjects.alike import Matched

F16, F32 = NDArray[np.float16], NDArray[np.float32]

BLOCK_PX = 1 << 16
KEPT_BYTES = 300e6
BYTES_A_PX = 6


def look_scale(count: int, size: tuple[int, int], side: int) -> float:
    """The scale at which so many frames of a size (w, h) are looked at: of about `side` px, smaller where many."""
    most = KEPT_BYTES / (BYTES_A_PX * max(count, 1) * size[0] * size[1])
    return min(1.0, side / max(size), float(np.sqrt(most)))


class MovingLights:
    """`numbers`: which of the used frames they are, the reference first."""

    def __init__(self, stages: PileStages, scale: float, job: Job) -> None:
        frames, self.numbers = stages.frames_in_place(scale, job)
        whole = Region(0, 0, *stages.whole_at(scale, job))
        self.shape = whole.height, whole.width
        self.moved = any(x.transform is not None for x in frames)
        self._frames, self._planes = frames, None
        if BYTES_A_PX * len(frames) * whole.width * whole.height <= KEPT_BYTES:
            self._planes: list[F16] | None = list(job.map(
                lambda x: shown(x, whole).astype(np.float16), frames, "laying frames on each other"))
        self._matched: list[Matched | None] = [None] * len(frames)

    def __len__(self) -> int:
        return len(self._frames)

    def _raw(self, k: int, at: tuple[slice, slice]) -> F32:
        """The light of a frame, NaN where it shows nothing."""
        if self._planes is not None:
            return self._planes[k][at].astype(np.float32)
        rows, columns = (range(self.shape[n])[at[n]] for n in (0, 1))
        return shown(self._frames[k], Region(columns.start, rows.start, len(columns), len(rows)))

    def plain(self, k: int, at: tuple[slice, slice] = np.s_[:, :]) -> F32:
        """The light (h, w, 3) of a frame as it is, 0 where it shows nothing."""
        return np.nan_to_num(self._raw(k, at), nan=0.0)

    def seen(self, k: int, at: tuple[slice, slice] = np.s_[:, :]) -> NDArray[np.bool_]:
        if not self.moved:
            return np.ones([len(range(self.shape[n])[at[n]]) for n in (0, 1)], bool)
        return ~np.isnan(self._raw(k, at)[..., 0])

    def match(self, k: int, found: Matched) -> None:
        """From now on a frame's light is shown matched."""
        self._matched[k] = found

    def light(self, k: int, at: tuple[slice, slice] = np.s_[:, :]) -> F32:
        """The light of a frame, matched if that was found."""
        light, found = self.plain(k, at), self._matched[k]
        return light if found is None else found.applied(light, self.shape, at)

    def blocks(self) -> Iterator[slice]:
        """Rows that are worked at once; even numbers of them."""
        rows = max(2, BLOCK_PX // self.shape[1] // 2 * 2)
        for top in range(0, self.shape[0], rows):
            yield slice(top, min(top + rows, self.shape[0]))

    def plate(self, which: Sequence[int] | None = None) -> F32:
        """The median (h, w, 3) of all, or of some, that show a spot, 0 where none does."""
        out = np.empty((*self.shape, 3), np.float32)
        for rows in self.blocks():
            some = [self._raw(k, (rows, slice(None))) for k in (range(len(self)) if which is None else which)]
            out[rows] = (median_of_seen if any(np.isnan(s).any() for s in some) else median)(some)
        return out

    def by_rows(self, which: Sequence[int], make: Callable[[list[F32], slice], None]) -> None:
        """Call `make` with the matched lights of some frames, rows after rows."""
        for rows in self.blocks():
            make([self.light(k, (rows, slice(None))) for k in which], rows)


def median_of_seen(planes: Sequence[F32]) -> F32:
    """The median (h, w, 3) of those planes that show a spot (are not NaN there), 0 where none does."""
    stack = np.sort(np.stack(planes), axis=0)  # NaN last
    count = (~np.isnan(stack[..., :1])).sum(axis=0)
    low, high = np.maximum((count - 1) // 2, 0), np.minimum(count // 2, len(planes) - 1)
    pick = lambda n: np.take_along_axis(stack, np.broadcast_to(n[None], (1, *stack.shape[1:])), 0)[0]  # noqa: E731
    return np.nan_to_num((pick(low) + pick(high)) * np.float32(0.5), nan=0.0)
