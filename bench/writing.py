"""Large files: how quickly pictures of hundreds of megapixels are written, and within how much memory.

The shipped sweep is joined to pictures of so many megapixels, file to file through the command line with an empty
cache: TIFF as it is and packed, tiled with smaller copies, PNG. Wanted of a gigapixel TIFF: at least 18 megapixels a
second on 2 cores, within 2 GB. Every TIFF is opened again.

Usage: writing.py [MEGAPIXELS] [--tiny]: 400 if nothing is said; 1000 for the gigapixel.
"""

from __future__ import annotations

import os
from pathlib import Path
from tempfile import TemporaryDirectory

import tifffile
from common import ROOT, asked, windfell

WAYS = (("TIFF", "a.tif", ()), ("TIFF, Deflate", "b.tif", ("--compression", "deflate")),
        ("TIFF, Zstandard, tiled", "c.tif", ("--compression", "zstd", "--tiled")), ("PNG", "d.png", ()))
MP_S, MB = 18, 2000
TINY_MP = 2


def main() -> None:
    tiny, numbers = asked(120, 3000)
    megapixels = TINY_MP if tiny else (numbers or [400])[0]
    frames = sorted(str(p) for p in (ROOT / "windfell" / "demo" / "frames" / "ridge-sweep").glob("*.jpg"))
    for title, name, words in WAYS[:1] + WAYS[2:3] if tiny else WAYS:
        with TemporaryDirectory() as folder:
            out = Path(folder) / name
            seconds, mb = windfell("panorama", *frames, "--size", f"{megapixels}MP", "--out", str(out), *words)
            size = os.path.getsize(out) / 1e6
            if name.endswith(".tif"):
                with tifffile.TiffFile(out) as file:
                    page = file.pages[0]
                    made = page.imagewidth * page.imagelength / 1e6
                    levels = len(file.series[0].levels)
                assert abs(made / megapixels - 1) < 0.02, (made, megapixels)
                assert levels > 1 or "--tiled" not in words
            rate = megapixels / seconds
            good = ""
            if title == "TIFF" and not tiny:
                good = f"  wanted {MP_S} MP/s within {MB} MB: {'met' if rate >= MP_S and mb <= MB else 'NOT MET'}"
            print(f"{title:<24} {megapixels:5.0f} MP in {seconds:6.1f} s: {rate:5.1f} MP/s, {mb:5.0f} MB of memory, "
                  f"{size:7.0f} MB on the disk{good}", flush=True)


if __name__ == "__main__":
    main()
