"""From seven raws of 24 megapixels to a shared JPEG in the real window: dropped, written, nothing else pressed.

Wanted: under a minute and ten presses, no event of the window longer than 300 ms meanwhile.
Usage: quick_share.py [--tiny]
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from datetime import timedelta
from pathlib import Path

import cv2
import numpy as np
from common import FULL, frames_of, limited
from window import Turns

from windfell.app.session import Session
from windfell.app.window import Window
from windfell.demo.dng import write_dng
from windfell.demo.truth import START
from windfell.pixels.colour import srgb_decoded
from windfell.recipe.output import Format

FRAMES, WANTED_S, TINY_SCALE = 7, 60.0, 0.2
TABLE = srgb_decoded(np.arange(256) / 255).astype(np.float32)


def raws(folder: Path, scale: float) -> None:
    """The ridge's frames as raw files."""
    for n, path in enumerate(frames_of("ridge-sweep", scale)[:FRAMES]):
        light = TABLE[cv2.imread(path)[..., ::-1]]
        even = light[: light.shape[0] // 2 * 2, : light.shape[1] // 2 * 2]
        write_dng(folder / f"ridge-{n + 1}.dng", even, START + timedelta(seconds=3 * n))


def main() -> None:
    tiny = "--tiny" in sys.argv
    limited(300 if tiny else 900)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["WINDFELL_HOME"] = str(folder / "home")
        card = folder / "card"
        card.mkdir()
        raws(card, TINY_SCALE if tiny else FULL)
        app = Turns()
        session = Session()
        window = Window(session)
        window.resize(1280, 800)
        window.show()
        out = folder / "shared.jpg"
        begun = time.monotonic()
        app.timed("drop", lambda: window.open_paths([str(card)]))
        app.until(lambda: session.frame_set is not None, 120)
        gathered = time.monotonic() - begun
        session.go("export")
        session.change("output.format", Format.JPEG, True)
        export = window.stations["export"]
        export.place.setText(str(out))
        export._place_typed(str(out))
        app.until(lambda: export.write.isEnabled(), 120)
        app.timed("write", export.start)
        app.until(lambda: out.exists() and not session.desk.runs("export"), 600)
        took = time.monotonic() - begun
        longest = max((s for s, _ in app.events), default=0.0)
        size = out.stat().st_size / 2**20
        print(f"{len(list(card.iterdir()))} raws to {size:.0f} MB: gathered after {gathered:.1f} s, {took:.1f} s "
              f"(wanted {WANTED_S:.0f}), longest event {1000 * longest:.0f} ms", flush=True)
        window.close()


if __name__ == "__main__":
    main()
