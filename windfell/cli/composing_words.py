"""The options of `windfell compose`."""

from __future__ import annotations

from argparse import ArgumentParser, ArgumentTypeError

from windfell.cli.output_words import OUT, add_output


def _pair(text: str) -> tuple[float, float]:
    try:
        across, down = (float(v) for v in text.split(","))
    except ValueError:
        raise ArgumentTypeError(f"{text} are not two numbers such as 120,-40") from None
    return across, down


def _percent(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 300:
        raise ArgumentTypeError(f"{text} is not a share between 0 and 300 %")
    return value


def add_compose(p: ArgumentParser) -> None:
    p.add_argument("back", metavar="BACK", 
                   help="what is seen where the front has its sky: a picture, or a folder of a panorama's frames")
    p.add_argument("front", metavar="FRONT", 
                   help="the picture in front, whose size the result has; a folder if the back is one: the two "
                        "panoramas lie around one place")
    p.add_argument("--out", required=True, metavar="FILE", help=OUT)
    p.add_argument("--skyline", default="auto", metavar="auto|MASK.png",
                   help="the front's sky: found, or a mask, white is sky")
    p.add_argument("--place", choices=("cover", "stars", "land"), default=None,
                   help="lay the back over all of the front, or by the stars that both show; panoramas: by the land "
                        "that both show, or the skyline in front (default for them), or as each lies level (cover)")
    p.add_argument("--shift", type=_pair, default=(0.0, 0.0), metavar="X,Y",
                   help="move the back, px of the front; panoramas: degrees to the right and down")
    p.add_argument("--turn", type=float, default=0.0, metavar="DEG", help="turn the back clockwise")
    p.add_argument("--grow", type=float, default=100.0, metavar="PCT", help="size the back")
    p.add_argument("--room", type=_percent, default=0.0, metavar="PCT",
                   help="room above the front for the back, in %% of its height")
    p.add_argument("--glow", type=float, default=0.0, metavar="PX",
                   help="pass over that softly (px; panoramas: degrees), so that a glow above the roofs is kept")
    p.add_argument("--exposure", type=float, default=0.0, metavar="EV", help="the back's light made more or less")
    p.add_argument("--warmth", type=float, default=0.0, metavar="-100..100", help="the back made warmer or colder")
    p.add_argument("--finish", metavar="FILE.json", help="adjustments of the picture")
    p.add_argument("--layers", nargs="?", const="", default=None, metavar="",
                   help="both in the file (.ora, .tif, .exr)")
    p.add_argument("--report", metavar="FILE.json", help="what was found, as JSON")
    add_output(p)
