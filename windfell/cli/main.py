"""`windfell`: the window, or one of the headless commands."""

from __future__ import annotations

import argparse
import signal
import sys
import threading
from collections.abc import Sequence

from windfell import __version__
from windfell.cli import applying_words, composing_words, desktop, moving_words, shaping
from windfell.cli.output_words import OUT, add_output
from windfell.cli.progress import ProgressLine
from windfell.demo.names import NAMES
from windfell.errors import CannotJoin, WindfellError
from windfell.job import Cancelled, Job
from windfell.recipe.combining import Display, Floor, Rule
from windfell.recipe.model import Align, Blend, ProjectionChoice

DONE, BAD_INPUT, CANNOT_JOIN, INNER, STOPPED = 0, 2, 3, 70, 130
COMMANDS = ("panorama", "stack", "compose", "apply", "render", "inspect", "frames", "subjects", "animate", "demo",
            "desktop")


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> None:
        raise BadArguments(f"{message} (see {self.prog} --help)")


class BadArguments(WindfellError):
    """The command line cannot be understood."""


def parser() -> argparse.ArgumentParser:
    top = _Parser(prog="windfell", description="One picture out of many frames.", epilog=(
        "Without a command the window opens; FILES or a PROJECT after it are opened in it."))
    top.add_argument("--version", action="version", version=f"windfell {__version__}")
    sub = top.add_subparsers(dest="command", metavar="COMMAND")
    _panorama(sub.add_parser("panorama", help="join frames into a panorama"))
    _stack(sub.add_parser("stack", help="combine frames of one view"))
    composing_words.add_compose(sub.add_parser("compose", help="lay one picture behind another along the skyline"))
    _render(sub.add_parser("render", help="make the picture of a saved project"))
    applying_words.add_apply(sub.add_parser("apply", help="make a whole card by a recipe"))
    _inspect(sub.add_parser("inspect", help="the sets that files form, and what would go wrong"))
    _frames(sub.add_parser("frames", help="write instants of a video as pictures"))
    moving_words.add_subjects(sub.add_parser("subjects", help="one picture of chosen appearances of what moves"))
    moving_words.add_animate(sub.add_parser("animate", help="a moving picture of a series or of what moves in it"))
    desktop.add_desktop(sub.add_parser("desktop", help="a menu entry, icon and file type for this user"))
    _demo(sub.add_parser("demo", help="write the demo sets, drawn anew, with their truth"))
    return top


def _positive(text: str) -> float:
    value = float(text)
    if not 0 < value < 1e7:
        raise ValueError
    return value


def _brackets(text: str) -> str | int:
    if text in ("auto", "off"):
        return text
    if not text.isdigit() or int(text) < 2:
        raise argparse.ArgumentTypeError(f"{text} is not auto, off, or a number of frames from 2 up")
    return int(text)


def _set_key(text: str) -> str:
    """A demo set by its title or its key."""
    return text.lower().replace(" ", "-")


def _pixels(text: str) -> int:
    value = int(text)
    if not 16 <= value <= 300_000:
        raise argparse.ArgumentTypeError(f"{text} is not a width between 16 and 300000 px")
    return value


def _degrees(text: str) -> float:
    value = float(text)
    if not 0.5 <= value <= 170:
        raise argparse.ArgumentTypeError(f"{text} is not a field of view between 0.5 and 170 degrees")
    return value


def _layout(text: str) -> tuple[int, int]:
    rows, _, columns = text.lower().partition("x")
    if not (rows.isdigit() and columns.isdigit() and int(rows) and int(columns)):
        raise argparse.ArgumentTypeError(f"{text} is no layout such as 2x5")
    return int(rows), int(columns)


def _seconds(text: str) -> float:
    value = float(text)
    if not 0 <= value < 1e6:
        raise ValueError
    return value


def _count(text: str) -> int:
    value = int(text)
    if not 1 <= value <= 100_000:
        raise argparse.ArgumentTypeError(f"{text} is not a number of frames from 1 up")
    return value


def _inspect(p: argparse.ArgumentParser) -> None:
    p.add_argument("frames", nargs="+", metavar="FRAME", help="files or folders")
    p.add_argument("--json", action="store_true", help="as JSON")


def _frames(p: argparse.ArgumentParser) -> None:
    p.add_argument("video", metavar="VIDEO")
    p.add_argument("--out", required=True, metavar="DIR", help="a folder; made if it is not there")
    way = p.add_mutually_exclusive_group(required=True)
    way.add_argument("--every", type=_count, metavar="N", help="every N-th frame")
    way.add_argument("--count", type=_count, metavar="N", help="N instants spread evenly")
    way.add_argument("--differing", action="store_true", help="those that differ enough from the one before")
    p.add_argument("--start", type=_seconds, default=0.0, metavar="T", help="in seconds")
    p.add_argument("--end", type=_seconds, default=None, metavar="T", help="in seconds")
    p.add_argument("--format", choices=("png", "tiff", "jpeg"), default="png")


def _prepared(p: argparse.ArgumentParser) -> None:
    add_output(p)
    p.add_argument("--develop", metavar="FILE.json", help="a development for all frames (docs/project-file.md)")
    p.add_argument("--match", action="store_true", help="match exposure, white balance and tone of all frames")
    _finish(p)


def _finish(p: argparse.ArgumentParser) -> None:
    p.add_argument("--finish", metavar="FILE.json", help="adjustments of the picture (docs/project-file.md)")


def _panorama(p: argparse.ArgumentParser) -> None:
    _prepared(p)
    p.add_argument("frames", nargs="+", metavar="FRAME")
    p.add_argument("--out", required=True, metavar="FILE", help=OUT)
    p.add_argument("--brackets", type=_brackets, default="off", metavar="auto|off|N",
                   help="several frames were taken at each position, so many or as is found: they are combined first")
    p.add_argument("--inner-rule", choices=[str(c) for c in Rule], default=None,
                   help="how the frames of a position are combined: exposures, or the mean where they do not differ")
    p.add_argument("--dust", choices=("leave", "even"), default="leave",
                   help="even out specks that are at one place of all frames")
    p.add_argument("--projection", choices=[*(str(c) for c in ProjectionChoice), "flat"], default="auto",
                   help="flat: the camera slid along a flat subject")
    p.add_argument("--full-sphere", action="store_true", help="the whole 360 x 180 degrees")
    p.add_argument("--width", type=_pixels, metavar="PX", help="width of the picture")
    p.add_argument("--level", choices=("auto", "off"), default="auto")
    p.add_argument("--bend-seams", action="store_true",
                   help="bend frames a little along their seams, so that what both show there meets")
    p.add_argument("--parallax", choices=("leave", "even"), default="leave",
                   help="bend frames a little so that near things meet")
    p.add_argument("--blend", choices=[str(c) for c in Blend], default="wide",
                   help="how frames pass into each other at seams")
    p.add_argument("--keep", action="append", default=[], metavar="FRAME:MASK.png",
                   help="where a frame, by its number from 1 or its file's name, must own the picture, white there")
    p.add_argument("--never", action="append", default=[], metavar="FRAME:MASK.png",
                   help="where a frame must not own the picture")
    p.add_argument("--layers", metavar="DIR", nargs="?", const="", default=None,
                   help="each frame in its place, with its own mask: in the file (.ora, .tif, .exr), or 16-bit TIFFs")
    shaping.add_view(p)
    shaping.add_cut(p)
    known = p.add_mutually_exclusive_group()
    known.add_argument("--lens", type=_positive, metavar="FOCAL_PX", help="focal length in px, if known")
    known.add_argument("--fov", type=_degrees, metavar="DEG", help="the first frame's width in degrees, if known")
    p.add_argument("--layout", type=_layout, metavar="ROWSxCOLS", help="frames taken row by row, left to right")
    p.add_argument("--points", metavar="FILE", help="control points made by hand, .json or .csv")
    p.add_argument("--points-out", metavar="FILE", help="write all control points, .json or .csv")
    p.add_argument("--report", metavar="FILE.json", help="what was found, as JSON")


def _stack(p: argparse.ArgumentParser) -> None:
    _prepared(p)
    p.add_argument("frames", nargs="+", metavar="FRAME")
    p.add_argument("--out", required=True, metavar="FILE", help=OUT)
    p.add_argument("--rule", required=True, choices=[str(c) for c in Rule])
    p.add_argument("--kappa", type=shaping.kappa, default=(3.0, 3.0), metavar="LOW,HIGH",
                   help="for the clipped mean: the spreads kept below and above")
    p.add_argument("--weights", metavar="FILE", help="how much each frame counts: numbers in order, or FILE,WEIGHT")
    p.add_argument("--base", metavar="N|FILE", help="the frame that is seen outside the region")
    p.add_argument("--region", metavar="MASK.png", help="where the rule holds: white is inside, the frames' size")
    p.add_argument("--black-floor", type=shaping.floor, default=(Floor.OFF, 0.0), metavar="auto|even|LEVEL",
                   help="what counts as black in each frame: found, just made even, or %% of white")
    p.add_argument("--dark", nargs="+", action="extend", default=[], metavar="FILE", help="frames of no light")
    p.add_argument("--flat", nargs="+", action="extend", default=[], metavar="FILE", help="frames of an even field")
    p.add_argument("--bridge", action="store_true", help="close gaps between lights that move on from frame to frame")
    p.add_argument("--every", type=int, default=1, metavar="N", help="gather light from every N-th frame alone")
    p.add_argument("--fade", type=shaping.fade, default=(0.0, 0.0), metavar="IN,OUT",
                   help="gathered light grows and fades over so many %% of the series")
    p.add_argument("--beyond-noise", action="store_true",
                   help="a maximum shows only what is brighter than the noise lets expect")
    p.add_argument("--map", choices=[str(c) for c in Display], default=None,
                   help="how exposures are shown: linear radiance, by local compression, or fused")
    p.add_argument("--align", choices=["auto", *(str(c) for c in Align)], default=None,
                   help="how the frames are brought together; auto: as their movement asks (none if not given)")
    p.add_argument("--ground", choices=("left", "apart"), default="left",
                   help="with --align stars: leave the ground behind, or bring it together by itself")
    p.add_argument("--reference", default="1", metavar="N|FILE",
                   help="the frame that the others are brought onto: its number from 1, or its file's name")
    p.add_argument("--layers", nargs="?", const="", default=None, metavar="",
                   help="the pile's layers, each with its own mask, in the file (.ora, .tif, .exr)")
    shaping.add_cut(p)
    p.add_argument("--report", metavar="FILE.json", help="what was found, as JSON")


def _render(p: argparse.ArgumentParser) -> None:
    p.add_argument("project", metavar="PROJECT")
    _finish(p)
    add_output(p)
    p.add_argument("--layers", nargs="?", const="", default=None, metavar="DIR",
                   help="each frame or layer in its place, in the file, or a panorama's as TIFFs")
    p.add_argument("--size", type=shaping.size, metavar="SIZE", help="50%%, 4000x, x3000, 24MP, 2400 long or 60cm")
    p.add_argument("--set", metavar="NAME", help="needed if the project has several sets")
    p.add_argument("--out", required=True, metavar="FILE")
    p.add_argument("--report", metavar="FILE.json", help="what was found, as JSON")


def _demo(p: argparse.ArgumentParser) -> None:
    p.add_argument("folder", metavar="DIR")
    p.add_argument("--set", metavar="NAME", choices=NAMES, type=_set_key, help=f"one of {', '.join(NAMES)}")
    p.add_argument("--scale", type=_positive, default=1.0, metavar="S")


def _run(options: argparse.Namespace, job: Job) -> None:
    """Carry a command out. What it needs is loaded only now: help and bad words need not wait for it."""
    from windfell.cli import commands, moving  # noqa: PLC0415
    from windfell.cli.applying import run_apply  # noqa: PLC0415
    from windfell.cli.composing import run_compose  # noqa: PLC0415
    from windfell.cli.inspect import run_inspect  # noqa: PLC0415

    runs = {
        "panorama": commands.run_panorama, "stack": commands.run_stack, "compose": run_compose, "apply": run_apply,
        "render": commands.run_render,
        "inspect": run_inspect, "frames": commands.run_frames, "demo": commands.run_demo,
        "subjects": moving.run_subjects, "animate": moving.run_animate, "desktop": desktop.run_desktop,
    }
    runs[options.command](options, job)


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command line; answers the exit status."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    if not words or (words[0] not in COMMANDS and words[0] not in ("-h", "--help", "--version")):
        return _open_window(words)
    line = ProgressLine(sys.stderr)
    job = Job(line.show)
    _stop_on_interrupt(job)
    try:
        options = parser().parse_args(words)
        _run(options, job)
        status = DONE
    except CannotJoin as error:
        status = _failed(line, str(error), CANNOT_JOIN)
    except WindfellError as error:
        status = _failed(line, str(error), BAD_INPUT)
    except Cancelled:
        status = _failed(line, "Stopped; nothing was written.", STOPPED)
    except MemoryError:
        status = _failed(line, "There is not enough memory for frames of this size.", BAD_INPUT)
    except Exception as error:  # noqa: BLE001 (a defect must be said, not thrown)
        from windfell.engine.inner_errors import noted  # noqa: PLC0415

        status = _failed(line, noted(error), INNER)
    line.clear()
    return status


def _failed(line: ProgressLine, sentence: str, status: int) -> int:
    line.clear()
    print(f"windfell: {sentence}", file=sys.stderr)
    return status


def _stop_on_interrupt(job: Job) -> None:
    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGINT, lambda *_: job.stop())
        signal.signal(signal.SIGTERM, lambda *_: job.stop())


def _open_window(words: list[str]) -> int:
    try:
        from windfell.app.start import run  # noqa: PLC0415 (the headless commands need no Qt)
    except ImportError as error:
        print(f"windfell: the window needs Qt, which cannot be loaded ({error}).", file=sys.stderr)
        return BAD_INPUT
    return run(words)
