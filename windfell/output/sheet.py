"""What a writer is told of the picture that it will get, and its rows in other pieces."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from windfell.output.metadata import Carried
from windfell.recipe.output import Compression, Output

ROWS_PER_STRIP = 64
LINEAR = 32
DTYPES = {8: np.uint8, 16: np.uint16, LINEAR: np.float32}
PLAIN = Output(compression=Compression.DEFLATE)


@dataclass(frozen=True)
class Sheet:
    """What will be written: size, channels (3, or 4 with straight alpha), depth (32: linear float), profile, what it
    says about itself, and how the format is to be used. `raw`: the camera whose light it is (see `output.dng`).
    """

    width: int
    height: int
    channels: int
    depth: int
    icc: bytes
    carried: Carried
    output: Output = PLAIN
    raw: object = field(default=None, compare=False)

    @property
    def nbytes(self) -> int:
        return self.width * self.height * self.channels * self.depth // 8


def gathered(sheet: Sheet, strips: Iterator[NDArray], dtype: type | None = None) -> NDArray:
    """The whole picture (h, w, c) in one piece."""
    whole = np.empty((sheet.height, sheet.width, sheet.channels), dtype or DTYPES[sheet.depth])
    at = 0
    for strip in strips:
        whole[at : at + len(strip)] = strip[..., : sheet.channels]
        at += len(strip)
    return whole


def rows(strips: Iterator[NDArray], count: int) -> Iterator[NDArray]:
    """The same rows in pieces of exactly `count`, the last one shorter."""
    held: list[NDArray] = []
    have = 0
    for strip in strips:
        at = 0
        while at < len(strip):
            part = strip[at : at + count - have]
            held.append(part)
            have += len(part)
            at += len(part)
            if have == count:
                yield _joined(held)
                held, have = [], 0
    if held:
        yield _joined(held)


def _joined(parts: list[NDArray]) -> NDArray:
    return np.ascontiguousarray(parts[0] if len(parts) == 1 else np.concatenate(parts))


