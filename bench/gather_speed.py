"""200 JPEGs of 24 megapixels: how soon lanes, first thumbnails and Readiness are there, and the memory.

python bench/gather_speed.py [COUNT] [--tiny]
"""

from __future__ import annotations

import tempfile
import time
from datetime import datetime, timedelta
from pathlib import Path

from common import FULL, asked, frames_of, own_peak_mb

from windfell.demo.files import with_thumbnail
from windfell.engine.core import Engine
from windfell.engine.proposals import propose
from windfell.engine.survey import readiness
from windfell.frames.still import StillFrame, exif_segment
from windfell.job import Job
from windfell.recipe.model import Project


def card(folder: Path, count: int, scale: float) -> list[str]:
    """The demo's sets again and again, each half an hour later, by other times in their EXIF."""
    sets = [[with_preview(p, folder) for p in frames_of(name, scale)] for name in ("ridge-sweep", "village-green")]
    out: list[str] = []
    turn = 0
    while len(out) < count:
        for path in sets[turn % 2]:
            taken = StillFrame(path).metadata.taken
            later = (taken + timedelta(minutes=30 * turn)).strftime("%Y:%m:%d %H:%M:%S").encode()
            data = Path(path).read_bytes().replace(stamp(taken), later)
            place = folder / f"fell{len(out):04d}.jpg"
            place.write_bytes(data)
            out.append(str(place))
        turn += 1
    return out[:count]


def with_preview(path: str, folder: Path) -> str:
    """The frame with a thumbnail in its EXIF, as cameras write it."""
    if StillFrame(path).preview() is not None:
        return path
    data = Path(path).read_bytes()
    first, past = exif_segment(data)
    exif = with_thumbnail(data[first:past], StillFrame(path).encoded(8))
    place = folder / f"source-{Path(path).name}"
    place.write_bytes(data[: first - 2] + (len(exif) + 2).to_bytes(2, "big") + exif + data[past:])
    return str(place)


def stamp(taken: datetime) -> bytes:
    return taken.strftime("%Y:%m:%d %H:%M:%S").encode()


def main(count: int = 200, scale: float = FULL) -> None:
    with tempfile.TemporaryDirectory(dir=Path(frames_of("ridge-sweep", scale)[0]).parent.parent) as name:
        folder = Path(name)
        paths = card(folder, count, scale)
        begun = time.perf_counter()
        proposal = propose(Engine(folder / "cache"), paths, Job())
        lanes = time.perf_counter() - begun
        Job().map(lambda p: StillFrame(p).preview(), paths[:40], "first thumbnails")
        first = time.perf_counter() - begun
        assert StillFrame(paths[0]).preview() is not None
        print(f"{len(paths)} frames, {len(proposal.sets)} lanes")
        print(f"lanes {lanes:6.2f} s   first thumbnails {first:6.2f} s   (wanted 5 s)")
        engine = Engine(folder / "cache")
        project = Project(proposal.sets)
        begun = time.perf_counter()
        found = [f for s in project.sets for f in readiness(engine, project, s.id, Job())]
        print(f"Readiness of all {time.perf_counter() - begun:6.1f} s   (wanted 60 s)   {len(found)} findings   "
              f"peak {own_peak_mb():.0f} MB (wanted 1500)")


if __name__ == "__main__":
    tiny, numbers = asked(300, 900)
    main(*([8, 0.2] if tiny else numbers))
