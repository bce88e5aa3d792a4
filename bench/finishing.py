"""What finishing costs, and what it is worth.

- noise: three strengths, against the vision library's non-local means at its best strength (PSNR, SSIM, seconds).
- fill: holes against its two ways of inpainting: SSIM against the truth, the variance that is kept (80 % wanted).
- stars: the share of their light that is taken of what was asked (5 % off at most), the nebula (1 %).
- drag: a picture of so many megapixels with ten adjustments: drafts a second while a ruler moves (15 wanted).
- stroke: a heal 200 px wide (0.5 s), a texture of 400 x 400 px (3 s).
- file: written with ten adjustments and ten repairs, against without (1.6 times).

Usage: finishing.py [SETS] [--tiny] [--pictures DIR] [--megapixels 60] [--only NAME]
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from common import backdrops, limited, own_peak_mb, parser_of
from rules import shots_of

from windfell.engine.core import Engine
from windfell.engine.export import export
from windfell.finish.kinds import adjusted
from windfell.finish.patch_fill import patch_filled
from windfell.finish.scene import Scene
from windfell.job import Job
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_decoded, to_view
from windfell.pixels.tiles import Region
from windfell.recipe import finishing as f
from windfell.recipe.areas import Area, Ellipse
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.output import Output
from windfell.recipe.repairs import Mend, Repair

WIDE = 6000
TEN = tuple(f.Adjustment(v, str(n)) for n, v in enumerate((
    f.Light(0.3, 20.0, -40.0, 30.0), f.Colour(5600.0, 5.0, 10.0, 30.0),
    f.Curve(((0.0, 0.0), (0.3, 0.25), (0.7, 0.76), (1.0, 1.0))), f.Hues(saturation_pct=(10.0,) * 8),
    f.Tinting(shadows_pct=20.0), f.Detail(local_pct=20.0), f.Detail(sharpen_pct=40.0), f.Light(contrast_pct=10.0),
    f.Vignette(-0.8), f.Colour(saturation_pct=5.0))))


def ssim(a: np.ndarray, b: np.ndarray) -> float:
    """The structural similarity of two 8-bit pictures' luma (Wang et al. 2004)."""
    x, y = (cv2.cvtColor(v, cv2.COLOR_RGB2GRAY).astype(np.float64) for v in (a, b))
    blur = lambda v: cv2.GaussianBlur(v, (11, 11), 1.5)  # noqa: E731
    mx, my = blur(x), blur(y)
    vx, vy, cov = blur(x * x) - mx * mx, blur(y * y) - my * my, blur(x * y) - mx * my
    c1, c2 = (0.01 * 255) ** 2, (0.03 * 255) ** 2
    return float((((2 * mx * my + c1) * (2 * cov + c2)) / ((mx * mx + my * my + c1) * (vx + vy + c2))).mean())


def psnr(a: np.ndarray, b: np.ndarray) -> float:
    return float(10 * np.log10(255**2 / np.mean((a.astype(float) - b) ** 2)))


def made(light: np.ndarray, values: object) -> np.ndarray:
    """A whole picture adjusted."""
    h, w = light.shape[:2]
    scene = Scene(Region(0, 0, w, h), 1.0, (w, h), lambda: light, lambda: light[:384, :384], lambda _, make: make())
    return adjusted(light, f.Adjustment(values), None, scene)


def pictures(options, count: int) -> Iterator[np.ndarray]:
    """Clean pictures, light."""
    lands = lands_of(options.pictures, WIDE, options.tiny)
    for n in range(count):
        yield picture(lands[n % len(lands)], n)


@lru_cache(maxsize=1)
def lands_of(pictures: str | None, width: int, tiny: bool) -> list:
    return [photographer for _, photographer in backdrops(pictures, width, tiny)]


def picture(photographer, seed: int) -> np.ndarray:
    """One clean picture, working light."""
    shot = replace(shots_of(np.random.default_rng(seed), 1)[0], noise=0.0)
    return (srgb_decoded(photographer.clean(shot)) @ SRGB_TO_WORKING.T).astype(np.float32)


def noise(options, count: int) -> None:
    strengths, filters = ((0.03,), (6,)) if options.tiny else ((0.015, 0.03, 0.06), (3, 6, 12))
    for strength in strengths:
        rows = []
        for n, clean in enumerate(pictures(options, count)):
            grain = np.random.default_rng(n).standard_normal(clean.shape).astype(np.float32)
            noisy = clean + strength * np.sqrt(np.maximum(clean, 0)) * grain
            truth, seen = to_view(clean), to_view(noisy)
            begun = time.perf_counter()
            ours = to_view(made(noisy, f.Detail(noise_pct=50.0, colour_noise_pct=50.0)))
            mine = time.perf_counter() - begun
            theirs, longest = [], 0.0
            for h in filters:
                begun = time.perf_counter()
                plain = cv2.fastNlMeansDenoisingColored(seen, None, h, h, 7, 21)
                longest = time.perf_counter() - begun
                theirs.append((psnr(plain, truth), ssim(plain, truth)))
            rows.append((psnr(seen, truth), psnr(ours, truth), ssim(ours, truth), mine, *max(theirs), longest))
        m = np.mean(rows, axis=0)
        print(f"noise {strength:5.3f}: {m[0]:5.2f} dB -> {m[1]:5.2f} dB, SSIM {m[2]:.3f}, {m[3]:.2f} s; "
              f"non-local means {m[4]:5.2f} dB, {m[5]:.3f}, {m[6]:.2f} s; better in "
              f"{sum(r[1] >= r[4] and r[2] >= r[5] for r in rows)} of {len(rows)}", flush=True)


def fine(seen: np.ndarray) -> np.ndarray:
    """The fine texture of an 8-bit picture's luma."""
    grey = cv2.cvtColor(seen, cv2.COLOR_RGB2GRAY).astype(float)
    return grey - cv2.GaussianBlur(grey, (0, 0), 3)


def fill(options, count: int) -> None:
    rows = []
    for n, light in enumerate(pictures(options, count)):
        rng = np.random.default_rng(100 + n)
        h, w = light.shape[:2]
        side = int(rng.integers(40, 110))
        x, y = int(rng.integers(side, w - 2 * side)), int(rng.integers(side, h - 2 * side))
        at = np.s_[y - side : y + 2 * side, x - side : x + 2 * side]
        part = light[at]
        hole = np.zeros(part.shape[:2], bool)
        drawn = hole.astype(np.uint8)
        cv2.circle(drawn, (3 * side // 2, 3 * side // 2), side // 2, 1, -1)
        hole = drawn > 0
        truth, bare = to_view(part), to_view(np.where(hole[..., None], 0, part).astype(np.float32))
        ours = to_view(patch_filled(part, hole))
        ring = (cv2.dilate(drawn, np.ones((side, side))) > 0) & ~hole
        own, around = fine(ours)[hole].var(), fine(truth)[ring].var()
        smooth = [cv2.inpaint(bare, drawn, 5, way) for way in (cv2.INPAINT_TELEA, cv2.INPAINT_NS)]
        rows.append((ssim(ours, truth), max(ssim(s, truth) for s in smooth), own / max(around, 1e-9),
                     max(fine(s)[hole].var() for s in smooth) / max(around, 1e-9)))
    m = np.array(rows)
    print(f"fill: SSIM {m[:, 0].mean():.3f} (inpainting {m[:, 1].mean():.3f}), variance kept median "
          f"{100 * np.median(m[:, 2]):.0f} % (inpainting {100 * np.median(m[:, 3]):.0f} %), at least 80 % in "
          f"{(m[:, 2] >= 0.8).sum()} of {len(m)}", flush=True)


def stars(count: int) -> None:
    off, nebulae = [], []
    for n in range(count):
        rng = np.random.default_rng(n)
        h, w = 400, 600
        y, x = np.mgrid[:h, :w].astype(np.float32)
        nebula = 0.015 + sum(rng.uniform(0.02, 0.12) * np.exp(
            -((x - rng.uniform(0, w)) ** 2 + (y - rng.uniform(0, h)) ** 2) / rng.uniform(4e3, 3e4)) for _ in range(3))
        nebula = nebula[..., None] * np.array([1, 0.7, 0.6], np.float32)
        spots = np.zeros_like(nebula)
        for _ in range(150):
            sx, sy, flux = rng.uniform(8, w - 8), rng.uniform(8, h - 8), np.exp(rng.uniform(-1.5, 2))
            spots += (flux * np.exp(-((x - sx) ** 2 + (y - sy) ** 2) / (2 * rng.uniform(1, 1.8) ** 2)))[..., None]
        light = (nebula + spots + 0.0015 * rng.standard_normal(nebula.shape)).astype(np.float32)
        asked = float(rng.choice([30, 60, 100]))
        out = made(light, f.Stars(asked, 12.0))
        off.append(abs((light - out).sum() / spots.sum() - asked / 100))
        free = spots.max(axis=2) < 1e-4
        nebulae.append(abs(out[free].sum() / light[free].sum() - 1))
    print(f"stars: taken within {100 * max(off):.1f} % of what was asked, nebula within {100 * max(nebulae):.2f} %",
          flush=True)


def large(folder: Path, lands: list, megapixels: float) -> Project:
    """A stack of one large frame."""
    light = picture(lands[0], 1)
    k = np.sqrt(megapixels * 1e6 / (light.shape[0] * light.shape[1]))
    seen = cv2.resize(to_view(light), None, fx=k, fy=k, interpolation=cv2.INTER_CUBIC)
    cv2.imwrite(str(folder / "large.jpg"), seen[..., ::-1])
    own = FrameSet("s", "Large", Kind.STACK, (frame_from_path(str(folder / "large.jpg")),),
                   combining=Combining(Rule.MEAN), output=Output(depth=8))
    return Project((own,))


def costs(lands: list, megapixels: float, drafts: int, texture: float) -> None:
    with tempfile.TemporaryDirectory() as place:
        project = large(Path(place), lands, megapixels)
        own, engine = project.sets[0], Engine(None)
        w, h = engine.size(project, "s", Job())
        finish = f.Finish(TEN)

        def with_ev(n: int) -> Project:
            lit = replace(TEN[0], values=replace(TEN[0].values, exposure_ev=0.01 * n))
            return project.with_set(replace(own, finish=replace(finish, adjustments=(lit, *TEN[1:]))))

        engine.draft(with_ev(0), "s", 600, Job())
        begun = time.perf_counter()
        for n in range(1, drafts + 1):
            engine.draft(with_ev(n), "s", 600, Job())
        rate = drafts / (time.perf_counter() - begun)
        begun = time.perf_counter()
        engine.picture(with_ev(drafts + 1), "s", 1600 / w, Job())
        sharp = time.perf_counter() - begun
        print(f"drag: {w} x {h} px, ten adjustments: {rate:.1f} drafts a second, sharp at 1600 px in {sharp:.2f} s",
              flush=True)
        spot = lambda side: Area((Ellipse((w / 2, h / 2), side, side),))  # noqa: E731
        for name, repair in (("heal of 200 px", Repair(Mend.HEAL, spot(200.0), (w / 2 + 300, h / 2), (w / 2, h / 2))),
                             (f"texture of {texture:.0f} px", Repair(Mend.TEXTURE, spot(texture)))):
            with_it = project.with_set(replace(own, repairs=(repair,)))
            region = Region(w // 2 - 300, h // 2 - 300, 600, 600)
            begun = time.perf_counter()
            engine.picture(with_it, "s", 1.0, Job(), region)
            print(f"stroke: {name}: {time.perf_counter() - begun:.2f} s", flush=True)
        rng = np.random.default_rng(3)
        ten = tuple(Repair(Mend.HEAL, Area((Ellipse((x, y), 120.0, 120.0),)), (x + 200, y), (x, y))
                    for x, y in (rng.uniform([300, 300], [w - 600, h - 300]) for _ in range(10)))
        seconds = []
        for changed in (own, replace(own, finish=finish, repairs=ten)):
            begun = time.perf_counter()
            export(Engine(None), project.with_set(changed), "s", Path(place) / "out.tif", Job())
            seconds.append(time.perf_counter() - begun)
        print(f"file: {seconds[0]:.1f} s without, {seconds[1]:.1f} s with ten adjustments and ten repairs: "
              f"{seconds[1] / seconds[0]:.2f} times; peak {own_peak_mb():.0f} MB", flush=True)


def main() -> None:
    parser = parser_of(__doc__, "sets", 12)
    parser.add_argument("--megapixels", type=float, default=60.0)
    parser.add_argument("--only", default="")
    options = parser.parse_args()
    limited(300 if options.tiny else 2400)
    parts = {"noise": lambda: noise(options, 1 if options.tiny else options.sets),
             "fill": lambda: fill(options, 1 if options.tiny else 4 * options.sets),
             "stars": lambda: stars(1 if options.tiny else options.sets),
             "costs": lambda: costs(lands_of(options.pictures, WIDE, options.tiny),
                                    *((0.7, 3, 100.0) if options.tiny else (options.megapixels, 30, 400.0)))}
    for name, part in parts.items():
        if not options.only or options.only == name:
            part()


if __name__ == "__main__":
    main()
