"""The options of the file that a command writes."""

from __future__ import annotations

from argparse import ArgumentParser

from windfell.recipe.output import ColourSpace, Compression, Intent

OUT = ".tif, .png, .jpg, .jxl, .webp, .avif, .heic, .exr, .hdr, .dng, .ora or .html"


def add_output(p: ArgumentParser) -> None:
    """The options of the file to be written."""
    g = p.add_argument_group("the file")
    g.add_argument("--depth", choices=("8", "16", "float"), default=None,
                   help="bits a channel; float is linear light (16 of .exr is half float)")
    g.add_argument("--quality", type=_share, default=None, metavar="1-100", help="of what packs with loss")
    g.add_argument("--colour", default=None, metavar="SPACE|FILE.icc",
                   help=f"the colour space: {', '.join(ColourSpace)}, or an ICC profile")
    g.add_argument("--intent", choices=[str(i) for i in Intent], default=None,
                   help="how colours beyond a profile's gamut are brought into it")
    g.add_argument("--compression", choices=[str(c) for c in Compression], default=None, help="of a TIFF")
    g.add_argument("--tiled", action="store_true", help="a TIFF in tiles, with smaller copies inside")
    g.add_argument("--progressive", action="store_true", help="a JPEG that appears coarse first")
    g.add_argument("--most-kb", dest="most_kb", type=int, default=None, metavar="KB",
                   help="lower the quality until the file is not larger")
    g.add_argument("--dither", action="store_true", help="spread 8-bit values so that soft slopes show no bands")
    g.add_argument("--dpi", type=float, default=None, help="px per inch, said in the file")
    g.add_argument("--sharpen", dest="sharpen_pct", type=float, default=None, metavar="PCT",
                   help="sharpen for the size at which it is written")
    g.add_argument("--title", default=None)
    g.add_argument("--caption", default=None)
    g.add_argument("--keywords", default=None, metavar="A,B,...")
    g.add_argument("--creator", default=None)
    g.add_argument("--rights", default=None)
    g.add_argument("--location", action="store_true", help="keep where the frames were taken; left out otherwise")


def _share(text: str) -> int:
    value = int(text)
    if not 1 <= value <= 100:
        raise ValueError
    return value
