"""The stack rules against truth, file to file through the command line, with plain versions in the same run.

- plate: passers-by in up to 45 % of the frames at a pixel; the clean plate within 1 % of the truth at 99.9 % of the
  pixels, on a tripod and handheld (wanted of every set).
- noise: what a mean of 16 gains (11.5 dB), a clipped one (0.5 dB less at most, 99 % of hot pixels and streaks gone).
- exposures: five brackets 2 EV apart over 16 EV of scene, from 16 bits (0.04 EV, median) and from JPEG (0.08);
  handheld with people that move: no ghost (px that show neither the land nor a person of any frame).
- floor: bursts over skies whose black differs by 6 %: no edge above 0.2 % of white, the burst's colours within 2 %.
- standout: things that moved shown at 98 % of their pixels, the rest as good as the median.

Usage: rules.py [SETS] [--tiny] [--pictures DIR] [--only KIND]
"""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import cv2
import numpy as np
import tifffile
from common import backdrops, limited, parser_of

from windfell.cli.main import main as command
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.visitors import Visitor, draw_visitor
from windfell.geometry.camera import Lens
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.pixels.colour import luminance, srgb_decoded, srgb_encoded

WIDTH, HEIGHT, FOCAL = 1200, 800, 1400.0
COATS = ((0.70, 0.20, 0.18), (0.16, 0.40, 0.56), (0.86, 0.64, 0.12), (0.90, 0.90, 0.88), (0.08, 0.08, 0.10))


def shots_of(rng: np.random.Generator, count: int, jitter_deg: float = 0.0, noise: float = 0.004) -> list[Shot]:
    """Shots of one view, one after the other, wavering by so many degrees."""
    lens = Lens(WIDTH, HEIGHT, FOCAL)
    yaw, pitch = np.radians([rng.uniform(-60, 60), rng.uniform(-6, 2)])
    out = []
    for _ in range(count):
        turned = np.radians(rng.normal(0, jitter_deg, 3)) if jitter_deg and out else np.zeros(3)
        out.append(Shot(lens, from_yaw_pitch_roll(yaw + turned[0], pitch + turned[1], turned[2]), noise=noise,
                        seed=int(rng.integers(1e9))))
    return out


def saved(folder: Path, pictures: list[np.ndarray], form: str = ".jpg") -> list[str]:
    out = []
    for n, picture in enumerate(pictures):
        path = folder / f"f{n + 1:02d}{form}"
        quality = [cv2.IMWRITE_JPEG_QUALITY, 95] if form == ".jpg" else []
        assert cv2.imwrite(str(path), picture[..., ::-1], quality)
        out.append(str(path))
    return out


def stacked(folder: Path, frames: list[str], *words: str) -> np.ndarray:
    """Linear light (h, w, 3), float32, of what the command line writes."""
    out = folder / "out.tif"
    code = command(["stack", *frames, "--depth", "float", "--out", str(out), *words])
    assert code == 0, f"stack {words} ended with {code}"
    return tifffile.imread(out)[..., :3].astype(np.float32)


def peopled(rng: np.random.Generator, scenes: list[np.ndarray], most: float) -> tuple[list, list]:
    """Scenes (sRGB-encoded float32) with people, at any pixel in at most a share `most` of them; their masks."""
    count, (h, w) = len(scenes), scenes[0].shape[:2]
    busy = np.zeros((h, w), np.int32)
    scenes, masks = [s.copy() for s in scenes], [np.zeros((h, w), np.uint8) for _ in scenes]
    for _ in range(14 * count):
        n = int(rng.integers(count))
        tall = float(rng.uniform(0.15, 0.6)) * h
        # most stand in a few favoured places, so that pixels are covered as often as allowed
        spot = rng.uniform(0.08, 0.92) if rng.random() < 0.3 else rng.choice([0.2, 0.45, 0.7])
        who = Visitor(spot * w + rng.normal(0, 0.02 * w), rng.uniform(0.6, 0.97) * h, tall, float(rng.uniform(-1, 1)),
                      COATS[rng.integers(len(COATS))], COATS[rng.integers(len(COATS))])
        trial, mask = scenes[n].copy(), np.zeros((h, w), np.uint8)
        draw_visitor(trial, mask, who)
        new = (mask > 0) & (masks[n] == 0)
        near = cv2.dilate(new.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        if not new.any() or (busy[near & (masks[n] == 0)].max(initial=0) + 1) > most * count:
            continue
        scenes[n] = trial
        masks[n] |= mask
        busy[new] += 1
    return scenes, masks


def linear(scene: np.ndarray) -> np.ndarray:
    return srgb_decoded(scene).astype(np.float32)


def light_of(paths: list[str]) -> list[np.ndarray]:
    """What a plain reader makes of files: linear light."""
    out = []
    for p in paths:
        raw = cv2.imread(p, cv2.IMREAD_UNCHANGED)[..., ::-1]
        out.append(linear(raw.astype(np.float32) / np.iinfo(raw.dtype).max))
    return out


def gain_db(found: np.ndarray, one: np.ndarray, truth: np.ndarray) -> float:
    return 10 * float(np.log10(np.mean((one - truth) ** 2) / np.mean((found - truth) ** 2)))


def inner(picture: np.ndarray, margin: int = 40) -> np.ndarray:
    return picture[margin:-margin, margin:-margin]


def plate(rng: np.random.Generator, photographer: Photographer, folder: Path) -> list[tuple[str, float, float, bool]]:
    """Light within 1 % of white of the truth, and of what the same rule makes of the same frames without people."""
    out = []
    for title, jitter in (("tripod", 0.0), ("handheld", 0.25)):
        count = int(rng.integers(9, 13))
        shots = shots_of(rng, count, jitter, noise=0.002)
        clean = [photographer.clean(s) for s in shots]
        scenes, _ = peopled(rng, clean, 0.45)
        words = "--rule", "median", "--reference", "1", "--align", "perspective" if jitter else "none"
        made = []
        for of in (clean, scenes):
            frames = saved(folder, [photographer.take(s, c) for s, c in zip(shots, of, strict=True)], ".png")
            made.append(stacked(folder, frames, *words))
        truth, plain = linear(clean[0]), np.median(light_of(frames), axis=0)
        share = lambda a, b: 100 * float((np.abs(inner(a - b)).max(axis=2) <= 0.01).mean())  # noqa: E731
        out.append((f"plate, {title}: px within 1 % of white of the truth, %", share(made[1], truth),
                    share(plain, truth), share(made[1], truth) >= 99.9))
        out.append((f"plate, {title}: the same, of the frames without people, %", share(made[1], made[0]),
                    share(plain, made[0]), share(made[1], made[0]) >= 99.9))
    return out


def noise(rng: np.random.Generator, photographer: Photographer, folder: Path) -> list[tuple[str, float, float, bool]]:
    shots = shots_of(rng, 16, noise=0.02)
    clean = photographer.clean(shots[0])
    truth, pictures, marks = linear(clean), [], []
    for _ in shots:
        light = truth + rng.standard_normal(truth.shape, np.float32) * 0.02 * np.sqrt(np.maximum(truth, 0.02))
        pictures.append(np.rint(srgb_encoded(np.clip(light, 0, 1)) * 65535).astype(np.uint16))
    frames = saved(folder, pictures, ".png")
    first = light_of(frames[:1])[0]
    mean = gain_db(stacked(folder, frames, "--rule", "mean", "--align", "none"), first, truth)
    plain = gain_db(np.mean(light_of(frames), axis=0), first, truth)
    for picture in pictures:
        mark = rng.random(truth.shape[:2]) < 0.0005
        streak = np.zeros(mark.shape, np.uint8)
        a, b = rng.integers(0, WIDTH, 2), rng.integers(0, HEIGHT, 2)
        cv2.line(streak, (int(a[0]), int(b[0])), (int(a[1]), int(b[1])), 255, 2)
        mark |= streak > 0
        mark &= srgb_encoded(truth).max(axis=2) < 0.8
        picture[mark] = 62000
        marks.append(mark)
    spoilt = stacked(folder, saved(folder, pictures, ".png"), "--rule", "clipped-mean", "--align", "none")
    where = np.any(marks, axis=0)
    clipped = 10 * float(np.log10(np.mean((first - truth)[~where] ** 2) / np.mean((spoilt - truth)[~where] ** 2)))
    spread = 0.02 * np.sqrt(np.maximum(truth, 0.02)) / 4
    gone = 100 * float((np.abs(spoilt - truth)[where] < 5 * spread[where]).all(axis=1).mean())
    lights = np.stack(light_of(frames))
    middle, sigma = lights.mean(axis=0), lights.std(axis=0)
    kept = np.abs(lights - middle) <= 3 * sigma
    by_sigma = (lights * kept).sum(axis=0) / np.maximum(kept.sum(axis=0), 1)
    theirs = 100 * float((np.abs(by_sigma - truth)[where] < 5 * spread[where]).all(axis=1).mean())
    return [("noise: a mean of 16 gains, dB", mean, plain, mean >= 11.5),
            ("noise: a clipped mean gains, dB", clipped, mean, clipped >= mean - 0.5),
            ("noise: hot pixels and streaks gone, %", gone, theirs, gone >= 99)]


def exposures(rng: np.random.Generator, photographer: Photographer, folder: Path) -> list:
    out = []
    for title, form, bound, jitter in (
            ("16 bits", ".png", 0.04, 0.0), ("JPEG", ".jpg", 0.08, 0.0), ("handheld, people", ".jpg", 0.08, 0.2)):
        shots = shots_of(rng, 5, jitter)
        radiance, clean = [], photographer.clean(shots[0])
        wide = deep_light(rng, clean)
        for shot in shots:
            scene = photographer.clean(shot)
            radiance.append(linear(scene) * (wide if not jitter else 12.0))
        moved = np.zeros(clean.shape[:2], bool)
        if jitter:
            scenes, masks = peopled(rng, [photographer.clean(s) for s in shots], 0.3)
            radiance = [linear(s) * 12.0 for s in scenes]
            moved = np.any([brought(m, s, shots[0]) for m, s in zip(masks, shots, strict=True)], axis=0)
        truth, exposed = radiance[0], [4.0 ** (n - 2) for n in range(5)]
        if jitter:
            truth = linear(clean) * 12.0
            exposed = [1 / 64, 1 / 32, 1 / 16, 1 / 8, 1 / 4]
        pictures = [exposed_picture(rng, r, t, form) for r, t in zip(radiance, exposed, strict=True)]
        frames = saved(folder, pictures, form)
        found = stacked(folder, frames, "--rule", "exposures", "--map", "none",
                        "--reference", "1", "--align", "perspective" if jitter else "none")
        off = inner(off_ev(found, truth))
        theirs = inner(off_ev(plain_merge(light_of(frames), exposed), truth))
        out.append((f"exposures, {title}: radiance off, EV (median)", float(np.median(off)), float(np.median(theirs)),
                    float(np.median(off)) <= bound))
        if jitter:
            lights = [brought(r, s, shots[0]) for r, s in zip(radiance, shots, strict=True)]
            ghosts = half_seen(inner(found) / 2.0 ** scale_ev(found, truth), inner(truth), inner(moved), lights)
            out.append(("exposures, handheld, people: px neither land nor person, %", ghosts, float("nan"),
                        ghosts <= 0.1))
    return out


def brought(picture: np.ndarray, shot: Shot, onto: Shot) -> np.ndarray:
    """A shot's picture where another shot of the same place shows it."""
    k = np.array([[FOCAL, 0, (WIDTH - 1) / 2], [0, FOCAL, (HEIGHT - 1) / 2], [0, 0, 1]])
    there = k @ onto.rotation.T @ shot.rotation @ np.linalg.inv(k)
    return cv2.warpPerspective(picture, there, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)


def scale_ev(found: np.ndarray, truth: np.ndarray) -> float:
    """How much brighter one light is as a whole, which is free: most px show what did not move."""
    return float(np.median(np.log2(np.maximum(luminance(inner(found)), 1e-9))
                           - np.log2(np.maximum(luminance(inner(truth)), 1e-9))))


def off_ev(found: np.ndarray, truth: np.ndarray) -> np.ndarray:
    """How far light is off at each px (h, w), in EV."""
    ratio = np.log2(np.maximum(luminance(found), 1e-9)) - np.log2(np.maximum(luminance(truth), 1e-9))
    return np.abs(ratio - scale_ev(found, truth))


def half_seen(found: np.ndarray, truth: np.ndarray, moved: np.ndarray, radiance: list[np.ndarray]) -> float:
    """Of the px over which people moved, % that show neither the land nor any frame's light (within 12 % and a
    neighbour's px): a ghost.
    """
    wrong = np.ones(found.shape[:2], bool)
    for r in (truth, *(inner(v) for v in radiance)):
        low = cv2.erode(r, np.ones((5, 5), np.uint8)) * 0.88 - 0.02
        high = cv2.dilate(r, np.ones((5, 5), np.uint8)) * 1.12 + 0.02
        wrong &= ~((found >= low) & (found <= high)).all(axis=2)
    return 100 * float(wrong[moved].mean())


def deep_light(rng: np.random.Generator, scene: np.ndarray) -> np.ndarray:
    """A factor (h, w, 1) that spreads a scene's light over 16 EV: bright windows, dark corners."""
    slow = cv2.resize(rng.uniform(-1, 1, (5, 7)).astype(np.float32), (WIDTH, HEIGHT), interpolation=cv2.INTER_CUBIC)
    slow = (slow - slow.min()) / np.ptp(slow)
    return np.exp2(-5.5 + 10.5 * slow)[..., None].astype(np.float32)


def exposed_picture(rng: np.random.Generator, radiance: np.ndarray, exposure: float, form: str) -> np.ndarray:
    light = np.minimum(radiance * exposure, 1.2)
    light = light + rng.standard_normal(light.shape, np.float32) * np.sqrt(4e-5 * light + 1.2e-6)
    code = srgb_encoded(np.clip(light, 0, 1))
    if form == ".png":
        return np.rint(code * 65535).astype(np.uint16)
    return np.clip(np.rint(code * 255 + rng.random(code.shape, np.float32) - 0.5), 0, 255).astype(np.uint8)


def plain_merge(lights: list[np.ndarray], exposed: list[float]) -> np.ndarray:
    """Debevec & Malik's mean by a hat over the values, of linear light."""
    total = weights = 0.0
    for light, t in zip(lights, exposed, strict=True):
        code = srgb_encoded(np.clip(light, 0, 1))
        hat = np.minimum(code, 1 - code) + 1e-4
        total, weights = total + hat * light / t, weights + hat
    return (total / weights).astype(np.float32)


def floor(rng: np.random.Generator, photographer: Photographer, folder: Path) -> list[tuple[str, float, float, bool]]:
    """Bursts of light in frames whose black is off by up to 6 % of white and slopes; added, the first as base."""
    x, y = np.meshgrid(np.linspace(-1, 1, WIDTH), np.linspace(-1, 1, HEIGHT))
    pictures, truth, burst_all = [], np.zeros((HEIGHT, WIDTH, 3)), np.zeros((HEIGHT, WIDTH), bool)
    colours = []
    for _ in range(5):
        light = np.zeros((HEIGHT, WIDTH, 3))
        colour = rng.uniform(0.15, 1, 3)
        cx, cy = rng.uniform(0.15, 0.85) * WIDTH, rng.uniform(0.15, 0.7) * HEIGHT
        for _ray in range(60):
            a, r = rng.uniform(0, 2 * np.pi), rng.uniform(40, 130)
            ray = np.zeros((HEIGHT, WIDTH), np.float32)
            cv2.line(ray, (int(cx), int(cy)), (int(cx + r * np.cos(a)), int(cy + r * np.sin(a))), 1.0, 2, cv2.LINE_AA)
            light += cv2.GaussianBlur(ray, (0, 0), 1.2)[..., None] * colour * 0.16
        light = np.minimum(light, 0.85)
        truth += light
        burst_all |= light.max(axis=2) > 0.02
        colours.append(light)
        slope = 1 + 0.15 * rng.uniform(-1, 1) * x + 0.15 * rng.uniform(-1, 1) * y
        black = 0.02 + 0.06 * rng.uniform(0, 1, 3) * slope[..., None]
        seen = light + black + rng.standard_normal(light.shape) * 0.0015
        pictures.append(np.clip(np.rint(srgb_encoded(np.clip(seen, 0, 1).astype(np.float32)) * 65535), 0, 65535)
                        .astype(np.uint16))
    frames = saved(folder, pictures, ".png")
    found = stacked(folder, frames, "--rule", "sum", "--black-floor", "auto", "--align", "none")
    empty = cv2.dilate(burst_all.astype(np.uint8), np.ones((61, 61), np.uint8)) == 0
    left = cv2.blur((found - truth).astype(np.float32), (25, 25))[empty]
    edge = 100 * float(np.abs(left).max())
    bright = (truth.max(axis=2) > 0.2) & (truth.max(axis=2) < 0.8)
    off = np.abs(cv2.blur(found, (3, 3)) - cv2.blur(truth.astype(np.float32), (3, 3)))[bright]
    colour = 100 * float(np.percentile(off.max(axis=1) / truth[bright].max(axis=1), 90))
    plain = np.sum([v - np.median(v.reshape(-1, 3), axis=0) for v in light_of(frames)], axis=0)
    theirs = 100 * float(np.abs(cv2.blur((plain - truth).astype(np.float32), (25, 25))[empty]).max())
    return [("floor: veil or edge left in the empty sky, % of white", edge, theirs, edge <= 0.2),
            ("floor: the bursts' colours off, % (90 of 100 px)", colour, float("nan"), colour <= 2)]


def standout(rng: np.random.Generator, photographer: Photographer, folder: Path) -> list:
    count = 10
    shots = shots_of(rng, count, noise=0.003)
    clean = photographer.clean(shots[0])
    scenes, masks = [clean.copy() for _ in shots], [np.zeros(clean.shape[:2], np.uint8) for _ in shots]
    for n in range(count):
        who = Visitor((0.07 + 0.095 * n) * WIDTH, rng.uniform(0.75, 0.95) * HEIGHT, rng.uniform(0.2, 0.45) * HEIGHT,
                      float(rng.uniform(-1, 1)), COATS[rng.integers(5)], COATS[rng.integers(5)])
        draw_visitor(scenes[n], masks[n], who)
    frames = saved(folder, [photographer.take(s, c) for s, c in zip(shots, scenes, strict=True)], ".png")
    found = stacked(folder, frames, "--rule", "standout", "--align", "none")
    middle = stacked(folder, frames, "--rule", "median", "--align", "none")
    truth = linear(clean)
    there = np.zeros(clean.shape[:2], bool)
    shown = np.zeros_like(there)
    for scene, mask in zip(scenes, masks, strict=True):
        alone = (mask > 0) & (sum((m > 0).astype(int) for m in masks) == 1)
        differs = alone & (np.abs(scene - clean).max(axis=2) > 0.08)  # what can be told from the land at all
        there |= differs
        near = np.abs(found - linear(scene)).max(axis=2) < np.abs(found - truth).max(axis=2) + 1e-6
        shown |= differs & near
    share = 100 * float(shown[there].mean())
    rest = ~(cv2.dilate(np.any(masks, axis=0).astype(np.uint8), np.ones((49, 49), np.uint8)) > 0)
    worse = 10 * float(np.log10(np.mean((found - truth)[rest] ** 2) / np.mean((middle - truth)[rest] ** 2)))
    return [("standout: of what moved shown, % of px", share, float("nan"), share >= 98),
            ("standout: the rest noisier than the median, dB", worse, 0.0, worse <= 0.1)]


KINDS = {f.__name__: f for f in (plate, noise, exposures, floor, standout)}


def main() -> None:
    global WIDTH, HEIGHT, FOCAL
    parser = parser_of(__doc__, "sets", 12)
    parser.add_argument("--only", choices=list(KINDS))
    options = parser.parse_args()
    limited(300 if options.tiny else 3000)
    if options.tiny:
        WIDTH, HEIGHT, FOCAL = 360, 240, 420.0
    lands = backdrops(options.pictures, 6000, options.tiny)
    rows: dict[str, list] = {}
    for n in range(1 if options.tiny else options.sets):
        name, photographer = lands[n % len(lands)]
        for kind in [options.only] if options.only else list(KINDS):
            if options.tiny and kind != ("plate", "noise", "floor", "standout")[n % 4]:
                continue
            with TemporaryDirectory() as folder:
                for title, ours, theirs, good in KINDS[kind](np.random.default_rng(n), photographer, Path(folder)):
                    print(f"set {n}, {name:<14} {title:<66} {ours:8.3f}  plainly {theirs:8.3f}  "
                          f"{'' if good else 'MISSED'}", flush=True)
                    rows.setdefault(title, []).append((ours, theirs, good))
    for title, found in rows.items():
        ours, theirs, good = zip(*found, strict=True)
        print(f"{title:<68} median {np.median(ours):8.3f}, from {min(ours):.3f} to {max(ours):.3f}; plainly "
              f"{np.median(theirs):.3f}; reached in {sum(good)} of {len(good)}")
    sys.exit(0 if all(g for found in rows.values() for *_, g in found) or options.tiny else 1)


if __name__ == "__main__":
    main()
