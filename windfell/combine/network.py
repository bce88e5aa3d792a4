"""Selection of middle ranks by compare-exchange networks (Batcher 1968), pruned to what is asked."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray


def batcher_pairs(n: int) -> list[tuple[int, int]]:
    """Compare-exchanges (i, j), i < j, that sort n values (odd-even merge exchange).

    Knuth, The Art of Computer Programming vol. 3, 5.2.2, algorithm M; any n.
    """
    pairs = []
    t = max(1, (n - 1).bit_length())
    p = 1 << (t - 1)
    while p > 0:
        q, r, d = 1 << (t - 1), 0, p
        while True:
            pairs += [(i, i + d) for i in range(n - d) if i & p == r]
            if q == p:
                break
            d, q, r = q - p, q >> 1, p
        p >>= 1
    return pairs


@lru_cache(maxsize=64)
def selection_steps(n: int, ranks: tuple[int, ...]) -> tuple[tuple[int, int, bool, bool], ...]:
    """Steps (i, j, min into i wanted, max into j wanted) after which `ranks` hold their values."""
    wanted = set(ranks)
    steps = []
    for i, j in reversed(batcher_pairs(n)):
        low, high = i in wanted, j in wanted
        if low or high:
            steps.append((i, j, low, high))
            wanted |= {i, j}
    return tuple(reversed(steps))


def ranked(planes: list[NDArray], ranks: tuple[int, ...]) -> list[NDArray]:
    """The values of the given ranks (0 the least) at every pixel of equal-shaped arrays.

    Works on uint8, uint16 and float32, in place of fresh arrays; the inputs are kept.
    Fastest when all planes fit the processor's cache together.
    """
    held = list(planes)
    fresh = [False] * len(held)
    for i, j, low, high in selection_steps(len(held), ranks):
        a, b = held[i], held[j]
        if low and high:
            smaller = cv2.min(a, b)
            larger = cv2.max(a, b, dst=b) if fresh[j] else cv2.max(a, b)
            held[i], held[j], fresh[i], fresh[j] = smaller, larger, True, True
        elif low:
            held[i] = cv2.min(a, b, dst=a) if fresh[i] else cv2.min(a, b)
            fresh[i] = True
        else:
            held[j] = cv2.max(a, b, dst=b) if fresh[j] else cv2.max(a, b)
            fresh[j] = True
    return [held[r] for r in ranks]


def median_ranks(n: int) -> tuple[int, ...]:
    """The middle rank of n values, or the two middle ones."""
    return (n // 2,) if n % 2 else (n // 2 - 1, n // 2)


def median(planes: list[NDArray[np.float32]]) -> NDArray[np.float32]:
    """The median at every pixel; of an even number, the mean of the two middle values."""
    middle = ranked(planes, median_ranks(len(planes)))
    return middle[0] if len(middle) == 1 else (middle[0] + middle[1]) * np.float32(0.5)
