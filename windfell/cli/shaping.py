"""The options that shape a picture: where it looks, its outline, its size."""

from __future__ import annotations

import argparse
import re
from argparse import Namespace
from dataclasses import replace

from windfell.errors import BadRequest
from windfell.recipe.combining import Floor
from windfell.recipe.model import FrameSet, ProjectionChoice, View
from windfell.recipe.outline import Crop, Edges, Outline, Ratio, Room
from windfell.recipe.sizes import ratio_from_words, size_from_words


def number(low: float, high: float, what: str):
    """A reader of a number between limits, both included."""
    def read(text: str) -> float:
        try:
            value = float(text)
        except ValueError:
            value = float("nan")
        if not low <= value <= high:
            raise argparse.ArgumentTypeError(f"{text} is not {what} between {low:g} and {high:g}")
        return value

    return read


def ratio(text: str) -> Ratio:
    """W:H, or a paper's name."""
    found = ratio_from_words(text)
    if found is None:
        raise argparse.ArgumentTypeError(f"{text} is no ratio such as 16:9")
    return found


def size(text: str) -> dict[str, float | int | None]:
    """The output's fields that a size stands for: 50%, 4000x, x3000, 24MP."""
    found = size_from_words(text)
    if found is None:
        raise argparse.ArgumentTypeError(f"{text} is no size such as 50%, 4000x, x3000 or 24MP")
    return found


def four(text: str) -> tuple[tuple[float, bool], ...]:
    """Four numbers, each in px or, with a sign for it, in per cent: (value, whether per cent)."""
    found = [re.fullmatch(r"\s*(-?\d+(?:\.\d+)?)\s*(%|px)?\s*", p) for p in text.split(",")]
    if len(found) != 4 or not all(found):
        raise argparse.ArgumentTypeError(f"{text} is not four numbers, such as 10,20,400,300 or 5%,5%,90%,90%")
    return tuple((float(f.group(1)), f.group(2) == "%") for f in found)


def kappa(text: str) -> tuple[float, float]:
    """LOW,HIGH, or one for both."""
    both = text if "," in text else f"{text},{text}"
    return _two(both, 0.5, 20, "two spreads between 0.5 and 20, such as 3,2.5", text)


def floor(text: str) -> tuple[Floor, float]:
    """What counts as black: "auto", "even", or a level in per cent of white."""
    if text in ("auto", "even"):
        return Floor(text), 0.0
    return Floor.LEVEL, number(0, 100, "a level")(text.removesuffix("%"))


def fade(text: str) -> tuple[float, float]:
    """IN,OUT: per cent of a series, with or without the sign."""
    return _two(text.replace("%", ""), 0, 100, "two per cents, such as 20,40", text)


def room(text: str) -> Room:
    """TOP,RIGHT,BOTTOM,LEFT in per cent, with or without the sign."""
    values = [v for v, _ in four(text)]
    if min(values) < 0 or max(values) > 500:
        raise argparse.ArgumentTypeError(f"{text} is not room between 0 and 500 % on each side")
    return Room(*values)


def add_view(p: argparse.ArgumentParser) -> None:
    """The options of a panorama's view and outline."""
    p.add_argument("--yaw", type=number(-180, 180, "an angle"), default=0.0, metavar="DEG", help="turned right")
    p.add_argument("--pitch", type=number(-90, 90, "an angle"), default=0.0, metavar="DEG", help="tilted up")
    p.add_argument("--hfov", type=number(1, 360, "a field of view"), metavar="DEG",
                   help="the picture's width in degrees")
    p.add_argument("--vfov", type=number(1, 360, "a field of view"), metavar="DEG",
                   help="the picture's height in degrees")
    p.add_argument("--pannini", type=_pannini, default=(1.0, 0.0), metavar="DISTANCE,SQUEEZE",
                   help="the two values of that projection, each 0 to 1")
    p.add_argument("--edges", choices=[str(c) for c in Edges], default=None,
                   help="leave the ragged outline, trim it to the largest rectangle, or pull it straight")
    p.add_argument("--pull", type=number(0, 100, "an amount"), metavar="N",
                   help="how far, in per cent; 100 if not given")
    p.add_argument("--room", type=room, default=Room(), metavar="TOP,RIGHT,BOTTOM,LEFT",
                   help="empty room added on the sides, in per cent")


def add_cut(p: argparse.ArgumentParser) -> None:
    """The options that stacks have too."""
    p.add_argument("--roll", type=number(-180, 180, "an angle"), default=0.0, metavar="DEG",
                   help="the camera leant clockwise")
    p.add_argument("--ratio", type=ratio, metavar="W:H", help="the picture's width to its height")
    p.add_argument("--crop", type=four, metavar="LEFT,TOP,WIDTH,HEIGHT",
                   help="the part that is kept, in px of the picture at full size or each with %%")
    p.add_argument("--size", type=size, metavar="50%|WIDTHx|xHEIGHT|MP", help="the size of the file's picture")


def _pannini(text: str) -> tuple[float, float]:
    return _two(text, 0, 1, "two values between 0 and 1, such as 1,0.5", text)


def _two(text: str, low: float, high: float, wanted: str, said: str) -> tuple[float, float]:
    """Two numbers with a comma between, within limits; else an error that `said` is not what is `wanted`."""
    try:
        values = tuple(float(v) for v in text.split(","))
    except ValueError:
        values = ()
    if len(values) != 2 or not all(low <= v <= high for v in values):
        raise argparse.ArgumentTypeError(f"{said} is not {wanted}")
    return values


def shaped(frame_set: FrameSet, options: Namespace) -> FrameSet:
    """The set with the panorama's view and outline; a crop in px waits for the picture's size."""
    flat = options.projection == "flat"
    if options.full_sphere:
        _refuse_cuts(options)
    distance, squeeze = options.pannini
    view = View(
        ProjectionChoice("auto" if flat else options.projection), options.yaw, options.pitch, options.roll,
        options.full_sphere, options.hfov, options.vfov, distance, squeeze)
    edges = options.edges or ("pull" if options.pull is not None else "leave")
    if options.pull is not None and edges != "pull":
        raise BadRequest(f"--pull {options.pull:g} does not go with --edges {edges}; leave one of them out.")
    outline = Outline(
        Edges(edges), 100.0 if options.pull is None else options.pull, ratio=options.ratio, room=options.room)
    return sized(replace(frame_set, view=view, outline=outline), options)


def _refuse_cuts(options: Namespace) -> None:
    """Raises BadRequest for what a whole sphere cannot have."""
    asked = {
        "--edges": options.edges not in (None, "leave", "trim"), "--pull": options.pull is not None,
        "--crop": options.crop, "--ratio": options.ratio, "--room": options.room != Room(),
        "--hfov": options.hfov, "--vfov": options.vfov}
    for name, given in asked.items():
        if given:
            raise BadRequest(f"{name} does not go with --full-sphere, which shows all; leave one of them out.")


def sized(frame_set: FrameSet, options: Namespace) -> FrameSet:
    """The set with the file's size, and the crop if it is in per cent."""
    if options.size:
        if getattr(options, "width", None):
            raise BadRequest("--width and --size both say how large the picture is; leave one of them out.")
        frame_set = replace(frame_set, output=replace(frame_set.output, **options.size))
    if options.crop and all(percent for _, percent in options.crop):
        frame_set = cropped(frame_set, options, (100, 100))
    return frame_set


def waits(options: Namespace) -> bool:
    """Whether a crop is given in px, which takes the picture's size."""
    return bool(getattr(options, "crop", None)) and not all(percent for _, percent in options.crop)


def cropped(frame_set: FrameSet, options: Namespace, whole: tuple[int, int]) -> FrameSet:
    """The set cropped as asked, of a picture so many px wide and high. Raises BadRequest if nothing is left."""
    sides = (whole[0], whole[1], whole[0], whole[1])
    left, top, width, height = (
        v if percent else 100 * v / side for (v, percent), side in zip(options.crop, sides, strict=True))
    if min(width, height) < 0.1 or left >= 100 or top >= 100 or left + width <= 0 or top + height <= 0 or max(
            abs(left), abs(top)) > 500 or max(width, height) > 1000:
        raise BadRequest(f"--crop leaves nothing of the picture, which is {whole[0]} x {whole[1]} px.")
    return replace(frame_set, outline=replace(frame_set.outline, crop=Crop(left, top, width, height)))
