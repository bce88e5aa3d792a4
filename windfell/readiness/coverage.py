"""Coverage: what each frame adds to the picture, which are redundant, where overlap is thin."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.readiness.survey import Coverage, PairLook

Array = NDArray[np.float64]

ADDS_NOTHING = 0.015
WANTED_OVERLAP = 0.22
THIN = 0.18
RING_DEG, SECTORS = 12.0, 18
CAP_FROM_DEG, LEAST_OPEN = 55.0, 0.002


def covered_masks(rays: Array, frames: Sequence, weight: Array) -> NDArray[np.bool_]:
    """(frames, n): which of the world rays (n, 3) each posed frame sees."""
    out = np.zeros((len(frames), len(weight)), bool)
    for n, frame in enumerate(frames):
        if frame is None:
            continue
        place = frame.project(rays)
        with np.errstate(invalid="ignore"):
            inside = np.all((place > -0.5) & (place < [frame.lens.width - 0.5, frame.lens.height - 0.5]), axis=1)
        out[n] = inside
    return out


def coverage_of(
    seen: NDArray[np.bool_], weight: Array, pairs: Sequence[PairLook], placed: Sequence[bool]
) -> Coverage:
    """What each frame adds, from what it sees (frames, n) of spots that weigh (n,)."""
    whole = float(weight[seen.any(axis=0)].sum()) or 1.0
    added, alone = [], []
    so_far = np.zeros(seen.shape[1], bool)
    times = seen.sum(axis=0)
    for n, own in enumerate(seen):
        if not placed[n]:
            added.append(None)
            alone.append(None)
            continue
        added.append(float(weight[own & ~so_far].sum()) / whole)
        alone.append(float(weight[own & (times == 1)].sum()) / whole)
        so_far |= own
    overlap = overlaps(len(seen), pairs)
    return Coverage(
        tuple(added), tuple(alone), tuple(_redundant(seen, weight, overlap, placed)),
        tuple(_thin(overlap, placed)),
    )


def missing_caps(rays: Array, seen: NDArray[np.bool_]) -> tuple[tuple[str, float], ...]:
    """What is open at the poles of a full ring: ("zenith" or "nadir", about how many degrees wide). Of rays (n, 3)
    spread evenly over the sphere `seen` (n,) are shown; nothing where they go not all around.
    """
    up, turn = -rays[:, 1], np.arctan2(rays[:, 0], rays[:, 2])
    level = np.abs(up) < np.sin(np.radians(RING_DEG))
    sectors = ((turn[level] + np.pi) / (2 * np.pi) * SECTORS).astype(int) % SECTORS
    shown = np.bincount(sectors, seen[level], SECTORS) / np.maximum(np.bincount(sectors, minlength=SECTORS), 1)
    if shown.min() < 0.2:
        return ()
    out = []
    for name, above in (("zenith", up), ("nadir", -up)):
        cap = above > np.sin(np.radians(CAP_FROM_DEG))
        open_share = float((cap & ~seen).mean())
        if open_share > LEAST_OPEN:
            out.append((name, float(2 * np.degrees(np.arccos(max(-1.0, 1 - 2 * open_share))))))
    return tuple(out)


def overlaps(count: int, pairs: Sequence[PairLook]) -> Array:
    """(count, count): how much of either frame the other shows, 0 where not linked."""
    out = np.zeros((count, count))
    for p in pairs:
        out[p.a, p.b] = out[p.b, p.a] = p.overlap
    return out


def _redundant(seen, weight, overlap, placed) -> list[int]:
    """Frames that can go one after another, the least useful first: next to nothing is lost and
    the rest still holds together by good overlaps.
    """
    kept = [n for n in range(len(seen)) if placed[n]]
    gone: list[int] = []
    whole = float(weight[seen.any(axis=0)].sum()) or 1.0
    held_before = _holds(kept, overlap)
    while len(kept) > 2:
        times = seen[kept].sum(axis=0)
        lost = {n: float(weight[seen[n] & (times == 1)].sum()) / whole for n in kept}
        can_go = [n for n in kept if lost[n] < ADDS_NOTHING
                  and (not held_before or _holds([k for k in kept if k != n], overlap))]
        if not can_go:
            return sorted(gone)
        worst = min(can_go, key=lambda n: (lost[n], n))
        kept.remove(worst)
        gone.append(worst)
    return sorted(gone)


def _holds(kept: list[int], overlap: Array, least: float = WANTED_OVERLAP) -> bool:
    found, waiting = {kept[0]}, [kept[0]]
    while waiting:
        n = waiting.pop()
        for m in kept:
            if m not in found and overlap[n, m] >= least:
                found.add(m)
                waiting.append(m)
    return len(found) == len(kept)


def _thin(overlap: Array, placed: Sequence[bool]) -> list[tuple[int, int, float]]:
    """Links that alone hold parts of the set together and are thin (of the greatest tree of overlaps)."""
    inside = [n for n in range(len(overlap)) if placed[n]]
    if len(inside) < 2:
        return []
    tree, out = {inside[0]}, []
    while len(tree) < len(inside):
        a, b = max(((i, j) for i in tree for j in inside if j not in tree), key=lambda p: overlap[p])
        tree.add(b)
        if 0 < overlap[a, b] < THIN:
            out.append((min(a, b), max(a, b), float(overlap[a, b])))
    return out
