"""Eight 24-megapixel frames: first coarse panorama in the window, full-size 16-bit TIFF, the yardstick
D, and the vision library's own high-level stitching class on the same frames.

Wanted: the coarse panorama within 4 D, the TIFF within 14 D and 4 GB.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import cv2
from common import FULL, ROOT, asked, decode_seconds, frames_of, own_peak_mb, row, windfell

COARSE = """
import os, sys, time
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from windfell.app.start import application
from windfell.app.session import Session
from windfell.app.window import Window
app = application()
session = Session()
window = Window(session)
window.show()
app.processEvents()
begun = time.perf_counter()
window.open_paths(sys.argv[1:])
while session.frame_set is None:
    app.processEvents()
    time.sleep(0.002)
session.go("shape")
while window.source.shown is None:
    app.processEvents()
    time.sleep(0.002)
print(time.perf_counter() - begun, flush=True)
os._exit(0)
"""


def coarse_seconds(paths: list[str]) -> float:
    """From dropping the frames on the open window to a coarse panorama in it."""
    with tempfile.TemporaryDirectory() as home:
        done = subprocess.run(
            [sys.executable, "-c", COARSE, *paths], cwd=ROOT, text=True, capture_output=True, check=True,
            env={**os.environ, "WINDFELL_HOME": home},
        )
    return float(done.stdout.strip().splitlines()[-1])


def main() -> None:
    tiny, numbers = asked(300, 900)
    rounds = 1 if tiny else (numbers or [3])[0]
    paths = frames_of("ridge-sweep", 0.2 if tiny else FULL)
    for n in range(rounds):
        yardstick = decode_seconds(paths)
        row(f"round {n + 1}: decoding alone (D)", yardstick, yardstick)
        row("  first coarse panorama in the window (wanted 4 D)", coarse_seconds(paths), yardstick)
        with tempfile.TemporaryDirectory() as folder:
            seconds, peak = windfell("panorama", *paths, "--out", str(Path(folder) / "o.tif"))
        row("  files to full-size 16-bit TIFF (wanted 14 D, 4096 MB)", seconds, yardstick, f"{peak:.0f} MB")
    begun = time.perf_counter()
    status, picture = cv2.Stitcher.create(cv2.Stitcher_PANORAMA).stitch([cv2.imread(p) for p in paths])
    size = "nothing" if status else f"{picture.shape[1]} x {picture.shape[0]} px"
    seconds = time.perf_counter() - begun
    row("  the library's stitching class, 8 bit, no file", seconds, yardstick, f"{size}, {own_peak_mb():.0f} MB")


if __name__ == "__main__":
    main()
