"""Owning by hand: where a frame must own the picture, and where it must not."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.join.seams import Claim
from windfell.pixels.tiles import Region

Boxed = tuple[Region, NDArray[np.bool_]]


def with_owning(claims: Sequence[Claim], keep: Mapping[int, Boxed], never: Mapping[int, Boxed]) -> list[Claim]:
    """The claims with what is asked for by hand: where one must own, the others see nothing, unless they must too;
    where one must not, it sees nothing, unless no other does.
    """
    if not keep and not never:
        return list(claims)
    valid = [c.valid.copy() for c in claims]
    for n, (box, mask) in keep.items():
        mine = claims[n]
        for m, other in enumerate(claims):
            shared = None if m == n else box.shared(other.box)
            if shared is None:
                continue
            there = mask[shared.within(box)] & _of(mine, shared)
            if m in keep:
                both = keep[m][0].shared(shared)
                if both is not None:
                    part = both.within(shared)
                    there = there.copy()
                    there[part] &= ~keep[m][1][both.within(keep[m][0])]
            valid[m][shared.within(other.box)] &= ~there
    for n, (box, mask) in never.items():
        mine = claims[n].box
        shared = box.shared(mine)
        if shared is None:
            continue
        others = np.zeros((shared.height, shared.width), bool)
        for m, other in enumerate(claims):
            part = None if m == n else shared.shared(other.box)
            if part is not None:
                others[part.within(shared)] |= valid[m][part.within(other.box)]
        valid[n][shared.within(mine)] &= ~(mask[shared.within(box)] & others)
    return [replace(c, valid=v) for c, v in zip(claims, valid, strict=True)]


def _of(claim: Claim, region: Region) -> NDArray[np.bool_]:
    """What of a region, on the surface, the claim sees."""
    out = np.zeros((region.height, region.width), bool)
    part = region.shared(claim.box)
    if part is not None:
        out[part.within(region)] = claim.valid[part.within(claim.box)]
    return out
