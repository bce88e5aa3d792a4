"""Nine 24-megapixel frames on a tripod: the median to a file, the yardstick D, NumPy's median.

Wanted: within 2.5 D and 2 GB.
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import cv2
import numpy as np
from common import FULL, asked, decode_seconds, frames_of, row, windfell

from windfell.combine.network import median_ranks, ranked


def main() -> None:
    tiny, numbers = asked(300, 900)
    rounds = 1 if tiny else (numbers or [3])[0]
    paths = frames_of("village-green", 0.3 if tiny else FULL)
    for n in range(rounds):
        yardstick = decode_seconds(paths)
        row(f"round {n + 1}: decoding alone (D)", yardstick, yardstick)
        with tempfile.TemporaryDirectory() as folder:
            seconds, peak = windfell("stack", *paths, "--rule", "median", "--out", str(Path(folder) / "o.tif"))
        row("  files to 16-bit TIFF, median (wanted 2.5 D, 2048 MB)", seconds, yardstick, f"{peak:.0f} MB")
    planes = [cv2.imread(p) for p in paths]
    begun = time.perf_counter()
    for top in range(0, planes[0].shape[0], 6):
        ranked([p[top : top + 6] for p in planes], median_ranks(len(planes)))
    ours = time.perf_counter() - begun
    row("  the median itself, our network in cache", ours, yardstick)
    begun = time.perf_counter()
    part = np.median(np.stack([p[:400] for p in planes]), axis=0)
    theirs = (time.perf_counter() - begun) * planes[0].shape[0] / len(part)
    row("  the median itself, NumPy's", theirs, yardstick, f"{theirs / ours:.0f} times ours")


if __name__ == "__main__":
    main()
