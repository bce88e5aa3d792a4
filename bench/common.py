"""What the benches share: big demo frames, the yardstick, whole-process timing."""

from __future__ import annotations

import argparse
import os
import resource
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import cv2

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

FOLDER = Path(os.environ.get("WINDFELL_BENCH", Path(tempfile.gettempdir()) / "windfell-bench"))
FULL = 3.75
TINY_LAND = 1600  # px around


def frames_of(name: str, scale: float = FULL) -> list[str]:
    """Frames of a demo set at a scale (3.75 is 24 megapixels), drawn once and kept."""
    from windfell.demo.sets import SETS  # noqa: PLC0415 (the path is set above)
    from windfell.job import Job  # noqa: PLC0415

    folder = FOLDER / f"{name}-{scale:g}"
    if not (folder / "truth.json").exists():
        print(f"drawing {name} at scale {scale:g} in {folder} (once)", flush=True)
        folder.mkdir(parents=True, exist_ok=True)
        SETS[name].write(folder, scale, Job())
    return sorted(str(p) for p in folder.glob("*.jpg"))


def decode_seconds(paths: list[str]) -> float:
    """The yardstick D: one thread decodes all frames at full size, nothing else."""
    cv2.setNumThreads(1)
    begun = time.perf_counter()
    for path in paths:
        assert cv2.imread(path, cv2.IMREAD_COLOR) is not None
    return time.perf_counter() - begun


def windfell(*words: str) -> tuple[float, float]:
    """(seconds, peak MB) of a whole run of the command line with an empty cache."""
    with tempfile.TemporaryDirectory() as home:
        begun = time.perf_counter()
        process = subprocess.Popen(
            [sys.executable, "-m", "windfell", *words], cwd=ROOT, env={**os.environ, "WINDFELL_HOME": home}
        )
        _, status, usage = os.wait4(process.pid, 0)
        seconds = time.perf_counter() - begun
    assert status == 0, f"windfell failed: {words}"
    return seconds, usage.ru_maxrss / 1024


def own_peak_mb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def row(title: str, seconds: float, yardstick: float, more: str = "") -> None:
    print(f"{title:<58} {seconds:7.2f} s  {seconds / yardstick:6.2f} D  {more}", flush=True)


def limited(seconds: int) -> None:
    """End this process with an error if it takes longer: no bench may wait for ever."""
    def end(*_) -> None:
        print(f"ended: it took more than {seconds} s", flush=True)
        os._exit(3)

    signal.signal(signal.SIGALRM, end)
    signal.alarm(seconds)


def backdrops(pictures: str | None, width: int = 6000, tiny: bool = False) -> list:
    """(name, photographer) of the generator's lands, and of a folder of photographs laid around the sphere; of the
    tiny mode one land, painted small.
    """
    from windfell.demo.canvas import Canvas  # noqa: PLC0415 (the path is set above)
    from windfell.demo.photograph import Photographer  # noqa: PLC0415
    from windfell.demo.scenes import paint_ridge  # noqa: PLC0415

    width = min(width, TINY_LAND) if tiny else width
    seeds = (3,) if tiny else (3, 4)
    out = [(f"land {seed}", Photographer(paint_ridge(width, seed))) for seed in seeds]
    for path in sorted(Path(pictures).rglob("*.jpg")) if pictures else ():
        photo = cv2.imread(str(path), cv2.IMREAD_COLOR)[..., ::-1]
        canvas = Canvas(width, -45, 45, 1)
        high = canvas.height
        wide = min(canvas.width // 2, round(photo.shape[1] * high / photo.shape[0]))
        small = cv2.resize(photo, (wide, high), interpolation=cv2.INTER_AREA).astype("float32") / 255
        middle = canvas.width // 2 - wide // 2
        around = cv2.copyMakeBorder(small, 0, 0, middle, canvas.width - wide - middle, cv2.BORDER_REFLECT)
        canvas.colour[:] = around
        out.append((path.stem, Photographer(canvas)))
    return out


def asked(tiny_limit_s: int, limit_s: int) -> tuple[bool, list[int]]:
    """Whether only the tiny mode is asked for, and the numbers on the command line; the time limit is set by that."""
    parser = argparse.ArgumentParser(description=sys.modules["__main__"].__doc__)
    parser.add_argument("numbers", nargs="*", type=int)
    parser.add_argument("--tiny", action="store_true")
    options = parser.parse_args()
    limited(tiny_limit_s if options.tiny else limit_s)
    return options.tiny, options.numbers


def parser_of(about: str, what: str, count: int) -> argparse.ArgumentParser:
    """The options that all benches over drawn cases have: how many, --tiny, --pictures."""
    parser = argparse.ArgumentParser(description=about)
    parser.add_argument(what, nargs="?", type=int, default=count)
    parser.add_argument("--tiny", action="store_true")
    parser.add_argument("--pictures", metavar="DIR", help="photographs to lay around the sphere")
    return parser
