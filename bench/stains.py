"""What a thing that was left out leaves behind: rows with things that only one frame of each overlap shows,
joined, beside the same rows without them.

Outside the things that stay in the picture, the mean colour of every 32 px window is held against that of the
clean frames' picture with the seams where they are (burnt-out parts differ from frame to frame), in steps of 255
(wanted: at most 3); beside it the same if every difference of the frames
were heard, as it was before. And: the step of light across seams, its 95th percentile, of rows whose exposures
differ by up to 0.8 EV and whose white balance drifts, matched and unmatched.
Usage: stains.py [ROWS] [--tiny] [--pictures DIR] [--keep DIR]
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

import cv2
import numpy as np
from common import backdrops, limited, parser_of

from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.sets import RowPlan, row_shots
from windfell.demo.truth import START
from windfell.engine.core import Engine
from windfell.engine.surface import owner_at, surface_map
from windfell.errors import CannotJoin
from windfell.job import Job
from windfell.join import agree
from windfell.join.warp import frame_map
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

SCALE, FRAMES, WINDOW, MARGIN = 0.4, 6, 32, 7
WANTED = 3.0
SEAM_PX = 120  # so much of a seam together is nearly free of the frames' noise
CARD_NOISE = 0.0015  # just enough that steps of 8 bits do not show: 0.004 alone would be 0.4 % of a step


@dataclass(frozen=True)
class Thing:
    """An ellipse in one frame: centre and half axes in px, colour (3,) sRGB 0..1, striped or plain."""

    x: float
    y: float
    rx: float
    ry: float
    colour: tuple[float, float, float]
    stripes: float

    def drawn(self, scene: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The scene with it, and its mask."""
        h, w = scene.shape[:2]
        y, x = np.mgrid[0:h, 0:w].astype(np.float32)
        far = np.sqrt(((x - self.x) / self.rx) ** 2 + ((y - self.y) / self.ry) ** 2)
        mask = np.clip((1 - far) * min(self.rx, self.ry) + 0.5, 0, 1)
        shade = 1.0 if not self.stripes else 1 + self.stripes * np.sin(y * (20 / self.ry))
        colour = np.clip(np.array(self.colour, np.float32) * np.asarray(shade)[..., None], 0, 1)
        return scene + mask[..., None] * (colour - scene), mask > 0


def things_of(rng: np.random.Generator, width: int, height: int, overlap: float) -> list[list[Thing]]:
    """For each frame its things: one in every overlap, in the earlier or the later frame of it."""
    out: list[list[Thing]] = [[] for _ in range(FRAMES)]
    for n in range(FRAMES - 1):
        later = rng.random() < 0.5
        tall = float(rng.uniform(0.03, 0.40)) * height / 2
        thin = tall * float(rng.uniform(0.25, 0.6))
        middle = overlap / 2 + rng.uniform(-0.45, 0.45) * overlap  # under, next to and across the best seam
        x = (middle if later else 1 - middle) * width
        hues = ((0.85, 0.08, 0.1), (0.1, 0.15, 0.8), (0.95, 0.85, 0.1), (0.02, 0.02, 0.03), (0.97, 0.97, 0.97))
        colour = hues[rng.integers(5)] if rng.random() < 0.6 else tuple(rng.uniform(0, 1, 3))
        y = rng.uniform(0.35, 0.8) * height
        out[n + later].append(Thing(x, y, thin, tall, colour, float(rng.choice([0.0, 0.0, 0.5]))))
    return out


def written(folder: Path, photographer: Photographer, shots: list[Shot], things: list[list[Thing]]) -> list:
    """Frames with their things on disk; their masks."""
    folder.mkdir(parents=True)
    masks = []
    for n, shot in enumerate(shots):
        scene = photographer.clean(shot)
        mask = np.zeros(scene.shape[:2], bool)
        for thing in things[n]:
            scene, where = thing.drawn(scene)
            mask |= where
        write_jpeg(folder / f"f{n + 1}.jpg", photographer.take(shot, scene), exif_bytes(shot, START))
        masks.append(mask)
    return masks


def stages_of(engine: Engine, folder: Path):
    frames = tuple(frame_from_path(str(p)) for p in sorted(folder.glob("*.jpg")))
    project = Project((FrameSet("s", "S", Kind.PANORAMA, frames),))
    return project, engine.stages(project, "s")


def kept_things(stages, masks: list[np.ndarray]) -> np.ndarray:
    """Where the picture shows a thing, and a little around it (h, w)."""
    job = Job()
    canvas = stages.canvas(job)
    whole = Region(0, 0, canvas.width, canvas.height)
    own = stages.ownership(job)
    owner = owner_at(own, surface_map(own.surface, canvas, whole).dense())
    kept = np.zeros(owner.shape, np.uint8)
    for k, n in enumerate(stages.registration(job).placed):
        where = np.nan_to_num(frame_map(canvas, whole, stages.posed(job)[k]).dense(), nan=-9.0)
        seen = cv2.remap(masks[n].astype(np.uint8), where, None, cv2.INTER_NEAREST)
        near = cv2.dilate((owner == k).astype(np.uint8), np.ones((5, 5), np.uint8))
        kept |= seen & near
    return cv2.dilate(kept, np.ones((2 * MARGIN + 1,) * 2, np.uint8)) > 0


def window_means(picture: np.ndarray, fair: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Mean colour of the fair px around each px, and where at least half are fair."""
    weight = cv2.blur(fair.astype(np.float32), (WINDOW, WINDOW))
    total = cv2.blur(picture.astype(np.float32) * fair[..., None], (WINDOW, WINDOW))
    return total / np.maximum(weight, 1e-6)[..., None], weight >= 0.5


def agreeing_everywhere(ratio, where, rng):
    """As if nothing that one frame shows were left unheard."""
    return np.zeros_like(ratio), where.copy()


def laid_alike(folder: Path, stages):
    """The stages of a folder's frames, on the canvas and places of others: only the light differs."""
    _, other = stages_of(Engine(None, 512 * 2**20), folder)
    for name in ("registration", "posed", "bent True"):
        other._known[name] = stages._known[name]
    return other


def whole_picture(stages):
    canvas = stages.canvas(Job())
    stages.prepare(1.0, Job())
    return stages.render(Region(0, 0, canvas.width, canvas.height), 1.0, Job())


def plan_of(rng: np.random.Generator, drift_ev: float) -> RowPlan:
    return RowPlan(count=FRAMES, overlap=float(rng.uniform(0.22, 0.4)), seed=int(rng.integers(1e6)), jitter_deg=0.8,
                   drift_ev=drift_ev, start_yaw_deg=float(rng.uniform(-110, -60)))


def row_of(rng: np.random.Generator, photographer: Photographer, folder: Path) -> tuple[list[float], np.ndarray]:
    """(worst window now and with everything heard, picture) of one row."""
    plan = plan_of(rng, float(rng.choice([0.0, 0.18, 0.4])))
    shots = row_shots(plan, SCALE)
    things = things_of(rng, shots[0].lens.width, shots[0].lens.height, plan.overlap)
    masks = written(folder / "with", photographer, shots, things)
    written(folder / "clean", photographer, shots, [[]] * FRAMES)
    stages = stages_of(Engine(None, 512 * 2**20), folder / "clean")[1]
    stages.prepare(1.0, Job())
    worst = []
    for heard in (agree._agreeing, agreeing_everywhere):
        with patch.object(agree, "_agreeing", heard):
            dirty = laid_alike(folder / "with", stages)
            picture = whole_picture(dirty)
        alike = laid_alike(folder / "clean", stages)
        alike._known["ownership"] = dirty.ownership(Job())
        clean = whole_picture(alike)
        fair = clean.covered & picture.covered & ~kept_things(dirty, masks)
        seen = [to_view(np.ascontiguousarray(p.light)) for p in (clean, picture)]
        (one, enough), (other, _) = (window_means(p, fair) for p in seen)
        worst.append(float(np.abs(one - other).max(axis=2)[enough].max()))
        if len(worst) == 1:
            shown = np.vstack(seen)
    return worst, shown


def steps_of(rng: np.random.Generator, photographer: Photographer, folder: Path) -> list[float]:
    """The step of light across seams, in %, matched and unmatched: frames of a plain grey card, laid where those of
    a land were found.
    """
    shots = row_shots(plan_of(rng, 0.4), SCALE)
    written(folder / "land", photographer, shots, [[]] * FRAMES)
    card = np.full((shots[0].lens.height, shots[0].lens.width, 3), 0.45, np.float32)
    (folder / "card").mkdir()
    for n, shot in enumerate(shots):
        own = replace(shot, noise=CARD_NOISE)
        write_jpeg(folder / "card" / f"f{n + 1}.jpg", photographer.take(own, card), exif_bytes(own, START))
    stages, out = stages_of(Engine(None, 512 * 2**20), folder / "land")[1], []
    stages.prepare(1.0, Job())
    for matched in (True, False):
        other = laid_alike(folder / "card", stages)
        joining = replace(other.set.joining, match_light=matched)
        other.set = replace(other.set, joining=joining)
        other._known["ownership"] = stages.ownership(Job())
        out.append(step_left(other, whole_picture(other)))
    return out


def step_left(stages, picture) -> float:
    """In % of the light, 95th percentile: what the slopes at both sides of a seam leave between them."""
    canvas = stages.canvas(Job())
    own = stages.ownership(Job())
    whole = Region(0, 0, canvas.width, canvas.height)
    owner = owner_at(own, surface_map(own.surface, canvas, whole).dense())
    ratio, fair = np.log(np.maximum(picture.light, 1e-3)), picture.covered
    enough, means = np.ones(owner.shape, bool), []
    for first in (-12, -6, 2, 8):
        kernel = np.zeros((SEAM_PX, 31), np.float32)
        kernel[:, 15 + first : 15 + first + 5] = 1
        weight = cv2.filter2D(fair.astype(np.float32), -1, kernel)
        total = cv2.filter2D(ratio * fair[..., None], -1, kernel)
        enough &= weight > 0.9 * kernel.sum()
        means.append(total / np.maximum(weight, 1)[..., None])
    seam = np.zeros(owner.shape, bool)
    seam[:, 1:] = owner[:, 1:] != owner[:, :-1]
    seam &= enough
    far_left, left, right, far_right = (m[seam] for m in means)
    left, right = left + 0.67 * (left - far_left), right + 0.67 * (right - far_right)
    return float(100 * np.percentile(np.abs(np.expm1(right - left)), 95)) if seam.any() else 0.0


def main() -> None:
    global SCALE, FRAMES
    parser = parser_of(__doc__, "rows", 60)
    parser.add_argument("--keep", metavar="DIR", help="keep the pictures there: clean above, with things below")
    options = parser.parse_args()
    limited(300 if options.tiny else 1800)
    if options.tiny:
        SCALE, FRAMES = 0.3, 3
    lands = backdrops(options.pictures, 3000, options.tiny)
    worst, steps = [], []
    for n in range(1 if options.tiny else options.rows):
        name, photographer = lands[n % len(lands)]
        try:
            with TemporaryDirectory() as folder:
                both, picture = row_of(np.random.default_rng(n), photographer, Path(folder))
        except CannotJoin as error:
            print(f"row {n}, {name}: {error}", flush=True)
            continue
        worst.append(both)
        words = f"row {n}, {name:<14} worst window {both[0]:5.1f} of 255 (all heard: {both[1]:5.1f})"
        if n % 4 == 0:
            with TemporaryDirectory() as folder:
                steps.append(steps_of(np.random.default_rng(n), photographer, Path(folder)))
            words += f", steps matched {steps[-1][0]:.2f} %, unmatched {steps[-1][1]:.2f} %"
        print(words, flush=True)
        if options.keep:
            Path(options.keep).mkdir(parents=True, exist_ok=True)
            cv2.imwrite(str(Path(options.keep) / f"row-{n}.png"), picture[..., ::-1])
    now, before = np.array(worst).T
    print(f"{len(now)} rows: median {np.median(now):.1f}, worst {max(now):.1f}, {sum(now <= WANTED)} within "
          f"{WANTED:g} (all heard: {np.median(before):.1f}, {max(before):.1f}, {sum(before <= WANTED)}); "
          f"steps at most {np.max(steps, axis=0).round(2).tolist()} %")
    sys.exit(0 if max(now) <= WANTED else 1)


if __name__ == "__main__":
    main()
