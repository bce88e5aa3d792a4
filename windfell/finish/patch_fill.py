"""A hole filled with texture from around it: patches that agree with each other and with the rim.

Coarse to fine, again and again for every patch that touches the hole the most alike patch elsewhere (PatchMatch,
Barnes et al. 2009), then every px by what these patches say of it, those nearer to the rim more (Wexler et al. 2007).
In the end each px is taken from one patch alone, so that nothing is blurred, and the picture gets the slopes of what
is taken, so that there is no step along the rim or between patches (Perez et al. 2003). Among patches those that are
as rough as what lies around the hole come first, since the most alike one is apt to be smooth.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.finish.seamless import seamless
from windfell.pixels.pull_push import smoothly_filled

F32 = NDArray[np.float32]
Bools = NDArray[np.bool_]
Ints = NDArray[np.int32]

HALF = 3
THIN_PX = 2.5
ROUNDS = (16, 10, 6, 4, 2)
NEARER = np.float32(1.3)
ROUGHNESS, CALM = np.float32(3.0), 7
FINE_ROUNDS = 2
SPARSE_FROM = 20_000
JUMPS = (1, 4)
SEARCHES = 4
LEAST_SOURCES = 30


def patch_filled(light: F32, hole: Bools, barred: Bools | None = None, seed: int = 0) -> F32 | None:
    """The light (h, w, 3) with its hole filled from elsewhere, not from where it is `barred`; another `seed`, another
    answer. None where there is nothing to take from.
    """
    if not hole.any():
        return light
    taken = patch_places(light, hole, barred, seed)
    return None if taken is None else filled_from(light, hole, taken)


def patch_places(light: F32, hole: Bools, barred: Bools | None = None, seed: int = 0) -> F32 | None:
    """The px (h, w, 2), x and y, that each px of the hole is taken from, elsewhere its own. Arguments and None as of
    `patch_filled`.
    """
    found = _filled(light, hole, barred, seed)
    if found is None:
        return None
    y, x = np.mgrid[0 : hole.shape[0], 0 : hole.shape[1]].astype(np.float32)
    own = np.ascontiguousarray(np.dstack([x, y, np.zeros_like(x)]))
    return np.ascontiguousarray(found.voted(own, own, hole, alone=True)[..., :2])


def filled_from(light: F32, hole: Bools, taken: F32) -> F32:
    """The light (h, w, 3) with each px of its hole `taken` (h, w, 2) from elsewhere, without steps between px of
    different places.
    """
    out = light.copy()
    out[hole] = np.square(_root_filled(light, hole, taken)[hole])
    return out


def patch_taken(light: F32, hole: Bools, seed: int = 0) -> tuple[F32, F32, F32] | None:
    """As `patch_filled`: (the filled light (h, w, 3), the px (h, w, 2), x and y, that each px of the hole is taken
    from, what is added to the root of the light there (h, w, 3)); so that it can be done again at another size.
    """
    taken = patch_places(light, hole, None, seed)
    if taken is None:
        return None
    root = _root_filled(light, hole, taken)
    at = taken.astype(np.intp)
    added = np.where(hole[..., None], root - root[at[..., 1], at[..., 0]], 0)
    return np.square(root), taken, added.astype(np.float32)


def _root_filled(light: F32, hole: Bools, taken: F32) -> F32:
    # what no patch has reached has nothing but what lies around it
    root = np.sqrt(np.maximum(smoothly_filled(light, ~hole), 0))
    return np.maximum(seamless(root, hole, taken), 0)


def _filled(light: F32, hole: Bools, barred: Bools | None, seed: int) -> _Field | None:
    root = np.sqrt(np.maximum(light, 0))
    barred = hole if barred is None else hole | barred
    levels = [(root, hole, barred)]
    while _thickness(levels[-1][1]) > THIN_PX and min(levels[-1][1].shape) > 8 * HALF:
        levels.append(_halved(*levels[-1]))
    while len(levels) > 1 and _sources(levels[-1][2]).sum() < LEAST_SOURCES:
        levels.pop()
    rng = np.random.default_rng(seed)
    field: _Field | None = None
    picture = None
    for n in range(len(levels) - 1, -1, -1):
        own, its_hole, its_barred = levels[n]
        if _sources(its_barred).sum() < LEAST_SOURCES:
            return None
        if picture is None:
            picture = smoothly_filled(own, ~its_hole)
        else:
            up = cv2.resize(picture, own.shape[1::-1], interpolation=cv2.INTER_LINEAR)
            picture = np.where(its_hole[..., None], up, own).astype(np.float32)
        field = _Field.begun(its_hole, its_barred, rng) if field is None else field.finer(its_hole, its_barred, rng)
        rounds = ROUNDS[min(len(levels) - 1 - n, len(ROUNDS) - 1)] if n else FINE_ROUNDS
        field.trust(its_hole)
        field.expect(own, its_hole)
        field.judge(picture)
        for k in range(rounds):
            field.improve(picture, rng)
            picture = field.voted(picture, own, its_hole, alone=n == 0 or k >= rounds // 2)
            field.judge(picture)
    return field


def _thickness(hole: Bools) -> float:
    padded = np.pad(hole.astype(np.uint8), 1)
    return float(cv2.distanceTransform(padded, cv2.DIST_L2, 3).max())


def _halved(root: F32, hole: Bools, barred: Bools) -> tuple[F32, Bools, Bools]:
    h, w = hole.shape
    size = (w + 1) // 2, (h + 1) // 2
    known = (~hole).astype(np.float32)
    near = cv2.resize(known, size, interpolation=cv2.INTER_AREA)
    small = cv2.resize(root * known[..., None], size, interpolation=cv2.INTER_AREA)
    small = small / np.maximum(near, np.float32(1e-3))[..., None]
    out = near < 0.5
    kept = cv2.resize(barred.astype(np.float32), size, interpolation=cv2.INTER_AREA) > 0.25
    return small.astype(np.float32), out, kept | out


def _sources(barred: Bools) -> Bools:
    """Middles of patches that lie wholly on px that may be taken."""
    free = cv2.erode((~barred).astype(np.uint8), np.ones((2 * HALF + 1, 2 * HALF + 1), np.uint8)) > 0
    free[:HALF], free[-HALF:], free[:, :HALF], free[:, -HALF:] = False, False, False, False
    return free


def _touched(hole: Bools) -> Bools:
    """Middles of patches that touch the hole and lie within the picture."""
    out = cv2.dilate(hole.astype(np.uint8), np.ones((2 * HALF + 1, 2 * HALF + 1), np.uint8)) > 0
    out[:HALF], out[-HALF:], out[:, :HALF], out[:, -HALF:] = False, False, False, False
    return out


@dataclass(eq=False)
class _Field:
    """For patches with middles (y, x) the middles (sy, sx) of those they are taken from, and how unlike they are;
    `at`: which of them has its middle at a px, -1 for none. `trusted`: how much they count. `rough`: how rough the
    texture is at each px (h, w), and `wanted`: how rough it shall be there, as what lies around lets expect.
    """

    y: Ints
    x: Ints
    sy: Ints
    sx: Ints
    sources: Bools
    at: Ints
    off: F32
    trusted: F32
    rough: F32
    wanted: F32

    @classmethod
    def begun(cls, hole: Bools, barred: Bools, rng: np.random.Generator) -> _Field:
        targets, sources = _touched(hole), _sources(barred)
        y, x = (v.astype(np.int32) for v in np.nonzero(targets))
        ys, xs = (v.astype(np.int32) for v in np.nonzero(sources))
        pick = rng.integers(len(ys), size=len(y))
        return cls._of(targets, y, x, ys[pick], xs[pick], sources)

    @classmethod
    def _of(cls, targets: Bools, y: Ints, x: Ints, sy: Ints, sx: Ints, sources: Bools) -> _Field:
        at = np.full(targets.shape, -1, np.int32)
        at[y, x] = np.arange(len(y))
        return cls(y, x, sy, sx, sources, at, np.full(len(y), np.inf, np.float32), np.ones(len(y), np.float32),
                   *np.zeros((2, *targets.shape), np.float32))

    def finer(self, hole: Bools, barred: Bools, rng: np.random.Generator) -> _Field:
        """The same ways twice as long, for the next finer level."""
        fresh = _Field.begun(hole, barred, rng)
        h, w = self.at.shape
        coarse = self.at[np.minimum(fresh.y // 2, h - 1), np.minimum(fresh.x // 2, w - 1)]
        known = coarse >= 0
        sy = 2 * self.sy[coarse] + fresh.y % 2
        sx = 2 * self.sx[coarse] + fresh.x % 2
        good = known & fresh._may(sy, sx)
        fresh.sy, fresh.sx = np.where(good, sy, fresh.sy), np.where(good, sx, fresh.sx)
        return fresh

    def _may(self, sy: Ints, sx: Ints) -> Bools:
        h, w = self.sources.shape
        inside = (sy >= 0) & (sy < h) & (sx >= 0) & (sx < w)
        return inside & self.sources[np.clip(sy, 0, h - 1), np.clip(sx, 0, w - 1)]

    def _steps(self) -> list[tuple[int, int]]:
        """Which px of a patch are compared: all, or of very many patches every third."""
        step = HALF if len(self.y) > SPARSE_FROM else 1
        reach = range(-HALF, HALF + 1, step)
        return [(dy, dx) for dy in reach for dx in reach]

    def _unlike(self, picture: F32, which: NDArray, sy: Ints, sx: Ints) -> F32:
        """How far patches are from where they might be taken from, mean square."""
        flat = picture.reshape(-1, 3)
        wide = picture.shape[1]
        here, there = self.y[which] * wide + self.x[which], sy * wide + sx
        total = np.zeros(len(here), np.float32)
        steps = self._steps()
        for dy, dx in steps:
            d = flat[here + (dy * wide + dx)] - flat[there + (dy * wide + dx)]
            total += np.einsum("ij,ij->i", d, d)
        total /= np.float32(len(steps))
        # the most alike patch is apt to be a smooth one; as rough as around the hole it shall be too
        smoother = self.wanted.reshape(-1)[self.y[which] * wide + self.x[which]] - self.rough.reshape(-1)[there]
        return total + ROUGHNESS * np.square(np.maximum(smoother, 0))

    def expect(self, own: F32, hole: Bools) -> None:
        """How rough the texture shall be."""
        window = (2 * HALF + 1, 2 * HALF + 1)
        known = cv2.blur((~hole).astype(np.float32), window)
        seen = np.where(hole[..., None], 0, own)
        mean = cv2.blur(seen, window) / np.maximum(known, np.float32(1e-3))[..., None]
        power = cv2.blur(seen * seen, window) / np.maximum(known, np.float32(1e-3))[..., None]
        rough = np.sqrt(np.maximum(power - mean * mean, 0).sum(axis=2))
        whole = cv2.erode((~hole).astype(np.uint8), np.ones(window, np.uint8)) > 0
        if whole.any():
            # the least rough places say it: edges of things are rough too, but are no texture
            least = cv2.erode(np.where(whole, rough, np.float32(np.inf)), np.ones((CALM, CALM), np.uint8))
            self.rough = np.where(whole, rough, 0).astype(np.float32)
            told = np.isfinite(least) & whole
            self.wanted = smoothly_filled(cv2.merge([np.where(told, least, 0).astype(np.float32)] * 3), told)[..., 0]

    def trust(self, hole: Bools) -> None:
        """Patches count the less the deeper they lie in the hole."""
        deep = cv2.distanceTransform(np.pad(hole.astype(np.uint8), 1), cv2.DIST_L2, 3)[1:-1, 1:-1]
        self.trusted = np.maximum(NEARER ** -deep[self.y, self.x], np.float32(1e-6)).astype(np.float32)

    def judge(self, picture: F32) -> None:
        self.off = self._unlike(picture, np.arange(len(self.y)), self.sy, self.sx)

    def _try(self, picture: F32, which: NDArray, sy: Ints, sx: Ints) -> None:
        good = self._may(sy, sx) & ((sy != self.sy[which]) | (sx != self.sx[which]))
        which, sy, sx = which[good], sy[good], sx[good]
        if not len(which):
            return
        off = self._unlike(picture, which, sy, sx)
        better = off < self.off[which]
        which = which[better]
        self.sy[which], self.sx[which], self.off[which] = sy[better], sx[better], off[better]

    def improve(self, picture: F32, rng: np.random.Generator) -> None:
        """What neighbours found is tried, shifted; then places around, less and less far."""
        h, w = self.at.shape
        every = np.arange(len(self.y))
        for jump in JUMPS:
            for dy, dx in ((0, -jump), (-jump, 0), (0, jump), (jump, 0)):
                beside = self.at[np.clip(self.y + dy, 0, h - 1), np.clip(self.x + dx, 0, w - 1)]
                which = every[beside >= 0]
                other = beside[which]
                self._try(picture, which, self.sy[other] - dy, self.sx[other] - dx)
        reach = max(h, w) / 2
        for _ in range(SEARCHES):
            sy = self.sy + np.rint(rng.uniform(-reach, reach, len(every))).astype(np.int32)
            sx = self.sx + np.rint(rng.uniform(-reach, reach, len(every))).astype(np.int32)
            self._try(picture, every, sy, sx)
            reach /= 4

    def voted(self, picture: F32, own: F32, hole: Bools, alone: bool) -> F32:
        """The picture with every px of the hole as the patches over it say: the better ones more; or the best one
        `alone`.
        """
        y, x = np.nonzero(hole)
        around = np.pad(self.at, HALF, constant_values=-1)
        scale = np.float32(max(float(np.quantile(self.off, 0.75)), 1e-6))
        total, weights = np.zeros((len(y), 3), np.float32), np.zeros(len(y), np.float32)
        least = np.full(len(y), np.inf, np.float32)
        for dy in range(-HALF, HALF + 1):
            for dx in range(-HALF, HALF + 1):
                patch = around[y + (HALF - dy), x + (HALF - dx)]
                good = np.flatnonzero(patch >= 0)
                patch = patch[good]
                seen = picture[self.sy[patch] + dy, self.sx[patch] + dx]
                off = self.off[patch]
                if alone:
                    # a little for the middle: neighbours then come from one patch
                    off = off * np.float32(1 + 0.5 * (dy * dy + dx * dx))
                    better = off < least[good]
                    least[good[better]] = off[better]
                    total[good[better]] = seen[better]
                else:
                    weight = np.exp(-off / scale) * self.trusted[patch]
                    total[good] += weight[:, None] * seen
                    weights[good] += weight
        out = own.copy()
        if alone:
            out[y, x] = np.where(np.isfinite(least)[:, None], total, picture[y, x])
        else:
            there = weights > 1e-12
            out[y, x] = np.where(there[:, None], total / np.maximum(weights, 1e-12)[:, None], picture[y, x])
        return out
