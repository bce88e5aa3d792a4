"""What a stroke, a layer and a look through the frames cost at preview scale, against one look at the picture.

A panorama of eight frames (as shipped; 24 megapixels each without --tiny): one stroke more on an area of thirty,
painted for the whole preview; the owners laid anew around it; the draft after it. A stack of twenty frames: the draft
after a layer's change. A stack of fifty: the core of a spot. Medians of five, in ms.

Usage: painting.py [--tiny]
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from common import asked
from PIL import Image

from windfell.demo.canvas import noise
from windfell.demo.sets import RowPlan, write_row
from windfell.engine.area_pictures import area_picture
from windfell.engine.core import Engine
from windfell.engine.stack_core import core_at
from windfell.job import Job
from windfell.recipe.areas import Area, Stroke
from windfell.recipe.combining import Combining, Layer, Rule
from windfell.recipe.giving import with_given
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

VEIL, DRAFT = 1100, 600


def median_ms(times: int, work: Callable[[int], object]) -> float:
    found = []
    for n in range(times):
        begun = time.perf_counter()
        work(n)
        found.append(1000 * (time.perf_counter() - begun))
    return float(np.median(found))


def strokes(count: int, seed: int = 1) -> tuple[Stroke, ...]:
    rng = np.random.default_rng(seed)
    out = []
    for _ in range(count):
        start = rng.uniform([-25, -8], [25, 8])
        walk = start + np.cumsum(rng.normal(0, 0.5, (25, 2)), axis=0)
        out.append(Stroke(tuple((round(float(x), 3), round(float(y), 3)) for x, y in walk), 3.0))
    return tuple(out)


def panorama(engine: Engine, folder: Path, tiny: bool) -> None:
    write_row(folder, RowPlan(), 0.2 if tiny else 3.75, Job())
    frames = tuple(frame_from_path(str(p)) for p in sorted(folder.glob("*.jpg")))
    own = FrameSet("row", "Row", Kind.PANORAMA, frames)
    project = Project((own,))
    stages = engine.stages(project, "row")
    full = stages.canvas(Job())
    engine.draft(project, "row", DRAFT, Job())
    many = strokes(36)

    def veil(n: int) -> None:
        area_picture(stages, Area(many[: 30 + n]), VEIL, Job())

    def given(n: int) -> Project:
        return with_given(project, "row", frames[3].id, True, Area(many[30 + n : 31 + n]))

    engine.stages(given(5), "row").ownership(Job())
    print(f"panorama of {full.width * full.height / 1e6:.0f} megapixels")
    print(f"  a stroke more on thirty, the whole preview  {median_ms(5, veil):7.0f} ms  (wanted 100)")
    print(f"  seams laid anew around a stroke             "
          f"{median_ms(5, lambda n: engine.stages(given(n), 'row').ownership(Job())):7.0f} ms  (wanted 200)")
    print(f"  draft after it                              "
          f"{median_ms(5, lambda n: engine.draft(given(n), 'row', DRAFT, Job())):7.0f} ms")
    print(f"  draft where nothing changed                 "
          f"{median_ms(5, lambda n: engine.draft(project, 'row', DRAFT, Job())):7.0f} ms")


def stack_of(folder: Path, count: int, width: int, height: int) -> tuple[Project, FrameSet]:
    rng = np.random.default_rng(5)
    base = 128 + 40 * np.dstack([noise((height, width), (30, 30), 4, rng) for _ in range(3)])
    paths = []
    for n in range(count):
        pixels = np.clip(base + rng.normal(0, 4, (height, width, 1)), 0, 255).astype(np.uint8)
        paths.append(folder / f"stack-{count}-{n:02d}.jpg")
        Image.fromarray(pixels).save(paths[-1], quality=90)
    own = FrameSet(f"stack{count}", "Stack", Kind.STACK, tuple(frame_from_path(str(p)) for p in paths))
    return Project((own,)), own


def stacks(engine: Engine, folder: Path, tiny: bool) -> None:
    width, height = (480, 320) if tiny else (3000, 2000)
    project, own = stack_of(folder, 20, width, height)
    spot = tuple((float(x), height / 2) for x in np.linspace(0.2 * width, 0.7 * width, 20))
    layer = Layer(Rule.MAXIMUM, area=Area((Stroke(spot, 0.15 * width),)))

    def changed(n: int) -> None:
        combining = Combining(layers=(replace(layer, exposure_ev=0.1 * n),))
        engine.draft(project.with_set(replace(own, combining=combining)), own.id, DRAFT, Job())

    changed(9)
    print(f"stack of 20 frames, {width} x {height}")
    print(f"  draft after a layer's change                {median_ms(5, changed):7.0f} ms  (wanted 100)")
    project, own = stack_of(folder, 50, width // 2, height // 2)
    stages = engine.stages(project, own.id)
    core_at(stages, (0.5, 0.5), Job())
    print(f"  core of a spot through 50 frames            "
          f"{median_ms(5, lambda n: core_at(stages, (0.3 + 0.05 * n, 0.4), Job())):7.1f} ms  (wanted 16)")


def main() -> None:
    tiny, _ = asked(300, 1200)
    engine = Engine(None)
    with TemporaryDirectory() as folder:
        panorama(engine, Path(folder) / "row", tiny)
        stacks(engine, Path(folder), tiny)


if __name__ == "__main__":
    main()
