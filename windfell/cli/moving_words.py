"""The options of the commands for what moves."""

from __future__ import annotations

from argparse import ArgumentParser, ArgumentTypeError

from windfell.cli.output_words import add_output
from windfell.recipe.animation import SUFFIXES, Way

WIDEST = 1280
FPS = 10.0


def frames_wanted(text: str) -> tuple[int, ...]:
    """1,3,5 or 2-4."""
    out: list[int] = []
    for part in text.split(","):
        first, _, last = part.partition("-")
        if not (first.strip().isdigit() and (not last or last.strip().isdigit())):
            raise ArgumentTypeError(f"{text} are no frames; write numbers such as 1,3,5 or 2-4")
        out += range(int(first), int(last or first) + 1)
    return tuple(out)


def box(text: str) -> tuple[int, int, int, int]:
    """X,Y,W,H in px."""
    try:
        x, y, w, h = (round(float(v)) for v in text.split(","))
    except ValueError:
        raise ArgumentTypeError(f"{text} is no box such as 100,80,60,200") from None
    if w < 1 or h < 1:
        raise ArgumentTypeError(f"{text} is a box without width or height")
    return x, y, w, h


def rate(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0.1 <= value <= 120:
        raise ArgumentTypeError(f"{text} is not a rate between 0.1 and 120 pictures a second")
    return value


def add_subjects(p: ArgumentParser) -> None:
    p.add_argument("frames", nargs="+", metavar="FRAME|VIDEO")
    p.add_argument("--out", required=True, metavar="FILE", help=".tif, .png, .jpg, .exr or .hdr")
    p.add_argument("--base", metavar="N|FILE", help="the frame that is the background, instead of the clean plate")
    p.add_argument("--keep", type=frames_wanted, metavar="1,3,5",
                   help="the frames whose movers are seen; without it as many as stand together without conflicts")
    p.add_argument("--box", type=box, metavar="X,Y,W,H",
                   help="only what lies in this box, in px of the picture, and follows from there")
    p.add_argument("--shadows", choices=("on", "off"), default="on",
                   help="movers bring their shadows and reflections")
    p.add_argument("--finish", metavar="FILE.json", help="adjustments of the picture (docs/project-file.md)")
    p.add_argument("--masks", metavar="DIR", help="write each mover's mask there, mover-FRAME-TRACK.png")
    add_output(p)
    p.add_argument("--report", metavar="FILE.json", help="what was found, as JSON")


def add_animate(p: ArgumentParser) -> None:
    p.add_argument("frames", nargs="+", metavar="FRAME|VIDEO")
    p.add_argument("--out", required=True, metavar="FILE", help=", ".join(SUFFIXES))
    p.add_argument("--way", choices=[str(w) for w in Way], default="series",
                   help="the frames, aligned; the background with each frame's movers; with those before, fading; "
                        "the light so far gathered")
    p.add_argument("--fps", type=rate, default=None, metavar="N", help=f"pictures a second; {FPS:g} if not given")
    p.add_argument("--trail", type=int, default=4, metavar="N", help="of so many frames before movers are still seen")
    p.add_argument("--width", type=int, default=None, metavar="PX",
                   help=f"width of the picture; that of the frames, at most {WIDEST}, if not given")
