"""A frame's light as points are refined on it: sampled between its px, wherever it is asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
F32 = NDArray[np.float32]

TALLEST = 30_000
RIM = (1, 3)


class View(Protocol):
    """A frame's light for matching; `scale` is its own px per px of the frame's full size. `closer` and `farther`:
    views on a larger and on a smaller picture of the frame, where there are such.
    """

    scale: float
    closer: View | None
    farther: View | None

    def at(self, points: Array) -> F32:
        """Values (...) at ideal px (..., 2) of the full size."""
        ...


def farther_views(view: View) -> list[View]:
    """The views on ever smaller pictures behind a view, the nearest first."""
    out = []
    while view.farther is not None:
        view = view.farther
        out.append(view)
    return out


class GreyView:
    """A view on a grey picture (h, w) of a frame of `size` (width, height) px; `onto` takes ideal px of the full size
    to the frame's own.
    """

    def __init__(
        self, grey: NDArray[np.uint8] | F32, size: tuple[int, int], onto: Callable[[Array], Array] | None = None,
        closer: View | None = None,
    ) -> None:
        self._grey, self._onto, self.closer, self.farther = grey, onto, closer, None
        # an odd side is not quite halved where an even one is
        self._across, self._down = grey.shape[1] / size[0], grey.shape[0] / size[1]
        self.scale = self._across

    @property
    def nbytes(self) -> int:
        return self._grey.nbytes

    def small(self, longest: int) -> tuple[F32, float]:
        """The frame's own picture of at most `longest` px, and its px per px of the full size."""
        k = min(1.0, longest / max(self._grey.shape))
        size = (max(1, round(self._grey.shape[1] * k)), max(1, round(self._grey.shape[0] * k)))
        small = cv2.resize(self._grey.astype(np.float32), size, interpolation=cv2.INTER_AREA)
        return small, self.scale * size[0] / self._grey.shape[1]

    def at(self, points: Array) -> F32:
        """Linear between px, so that slopes of light stay where they are (the library's cubic moves them by up to a
        twentieth of a px); NaN beyond the frame and on its rim. The last two axes before the coordinates, if there
        are as many, are those of patches of points that lie near each other.
        """
        own = points if self._onto is None else np.nan_to_num(self._onto(points), nan=-1e4)
        shape = own.shape[:-1]
        x, y = (own[..., c].reshape(-1, *(1, 1, *shape)[-2:]) for c in (0, 1))
        if not len(x):
            return np.zeros(shape, np.float32)
        return self._sampled(_scaled(x, self._across), _scaled(y, self._down)).reshape(shape)

    def _sampled(self, x: F32, y: F32) -> F32:
        """Values (m, h, w) at own px, which are written over."""
        h, w = self._grey.shape
        (low_x, high_x), (low_y, high_y) = _ends(x), _ends(y)
        part = ~((low_x >= RIM[0]) & (high_x <= w - RIM[1]) & (low_y >= RIM[0]) & (high_y <= h - RIM[1]))
        beyond = (x[part] < RIM[0]) | (x[part] > w - RIM[1]) | (y[part] < RIM[0]) | (y[part] > h - RIM[1])
        side = int(max(np.max(high_x - low_x), np.max(high_y - low_y))) + 5
        if side < min(h, w, TALLEST) and len(x) * side**2 < self._grey.size:
            out = self._from_pieces(x, y, (low_x, low_y), side, part)
        else:
            out = _between(self._grey.astype(np.float32), x, y)
        out[part] = np.where(beyond, np.nan, out[part])
        return out

    def _from_pieces(self, x: F32, y: F32, low: tuple[F32, F32], side: int, part: NDArray[np.bool_]) -> F32:
        """Of a big picture just the pieces around the patches are looked at, piled up; of those that lie but in
        `part` in the picture, what leads beyond their piece ends on its rim.
        """
        h, w = self._grey.shape
        left, top = (np.clip(np.floor(v).astype(int) - 1, 0, n - side) for v, n in zip(low, (w, h), strict=True))
        x -= left.astype(np.float32)[:, None, None]
        y -= top.astype(np.float32)[:, None, None]
        y[part] = np.clip(y[part], 0, side - 1)
        out, at_once = np.empty(x.shape, np.float32), TALLEST // side
        for first in range(0, len(x), at_once):
            run = slice(first, first + at_once)
            corners = zip(left[run].tolist(), top[run].tolist(), strict=True)
            pile = np.stack([self._grey[b : b + side, a : a + side] for a, b in corners])
            y[run] += (side * np.arange(len(pile), dtype=np.float32))[:, None, None]
            out[run] = _between(pile.reshape(-1, side).astype(np.float32), x[run], y[run])
        return out


def _scaled(full: Array, scale: float) -> F32:
    """Px of a picture that is so much smaller, by the middles of its px."""
    own = np.array(full, np.float32)
    if scale != 1:
        own *= np.float32(scale)
        own += np.float32(0.5 * scale - 0.5)
    return own


def _ends(own: F32) -> tuple[F32, F32]:
    """The least and the most (m,) in patches (m, h, w): they lie on their rims."""
    rim = np.concatenate([own[:, 0], own[:, -1], own[:, :, 0], own[:, :, -1]], axis=1)
    return rim.min(axis=1), rim.max(axis=1)


def _between(grey: F32, x: F32, y: F32) -> F32:
    flat = x.reshape(-1, x.shape[-1]), y.reshape(-1, x.shape[-1])
    out, rows = np.empty(flat[0].shape, np.float32), TALLEST
    for top in range(0, len(out), rows):
        part = (np.ascontiguousarray(f[top : top + rows]) for f in flat)
        out[top : top + rows] = cv2.remap(grey, *part, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
    return out.reshape(x.shape)
