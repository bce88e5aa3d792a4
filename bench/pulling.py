"""Ragged outlines pulled to their rectangles, against truth: rows by hand of 3 to 12 frames, two rows, upright
frames, with posts and beams planted in the scene.

Of each: what is kept (a trim beside it), whether all of it is covered, folds, the stretch that 99 % stay below, how
far planted lines are bent away from the form they have unpulled, how far posts lean more, how far the horizon
tilts; the same of a mesh that knows no lines. Where a figure is missed, the same at the amount that is suggested
(the outline is not full there, all else must hold). Times: the pull solved, a change of its amount.
Usage: pulling.py [OUTLINES] [--tiny] [--pictures DIR] [--keep DIR]
"""

from __future__ import annotations

import copy
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

import cv2
import numpy as np
from common import backdrops, limited, parser_of

from windfell.demo.files import exif_bytes, write_jpeg
from windfell.demo.photograph import Photographer, Shot
from windfell.demo.truth import START
from windfell.engine import laid_out
from windfell.engine.core import Engine
from windfell.engine.shape_marks import suggested_pull
from windfell.errors import CannotJoin
from windfell.geometry.camera import Lens
from windfell.geometry.mesh import slopes
from windfell.geometry.rotation import from_yaw_pitch_roll, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path
from windfell.recipe.outline import Edges, Outline
from windfell.shape.edges import arc

SHORT, LONG = 540, 720
WANTED = {"kept": 0.98, "stretch": 1.5, "bend": 0.5, "lean": 2.0, "horizon": 0.3}


def shots_of(rng: np.random.Generator) -> list[Shot]:
    """A row or two by hand, more or less carefully."""
    rows = 2 if rng.random() < 0.3 else 1
    width, height = (SHORT, LONG) if rng.random() < 0.6 else (LONG, SHORT)
    lens = Lens(width, height, rng.uniform(0.95, 1.6) * LONG)
    across, down = (2 * np.degrees(np.arctan(v / 2 / lens.focal_px)) for v in (width, height))
    step = across * rng.uniform(0.6, 0.72)
    count = min(int(rng.integers(3, 13)) // rows, int(280 / step))
    shaky = rng.uniform(0.015, 0.045)
    shots = []
    for r in range(rows):
        for k in range(max(2, count)):
            yaw = (k - (count - 1) / 2) * step + rng.normal(0, shaky * across)
            pitch = (r - (rows - 1) / 2) * 0.68 * down + rng.normal(0, shaky * down)
            turn = from_yaw_pitch_roll(*np.radians([yaw, pitch, rng.normal(0, 1.2)]))
            shots.append(Shot(lens, turn, seed=int(rng.integers(1 << 30))))
    return shots


def lines_of(rng: np.random.Generator, shots: list[Shot]) -> list[tuple[np.ndarray, bool]]:
    """Posts and beams as world rays (n, 3), and whether each stands upright."""
    found = []
    for k in range(26):
        shot = shots[int(rng.integers(len(shots)))]
        yaw = np.arctan2(shot.rotation[0, 2], shot.rotation[2, 2]) + rng.uniform(-0.2, 0.2)
        high = rng.uniform(-0.3, 0.3) - np.arcsin(np.clip(shot.rotation[1, 2], -1, 1)) * 0.5
        long = rng.uniform(0.14, 0.4)
        if k % 2:
            ends = [[np.sin(yaw), t, np.cos(yaw)] for t in (high, high + long)]
        else:
            slant = rng.uniform(-0.1, 0.1)
            ends = [[np.sin(yaw), high, np.cos(yaw)], [np.sin(yaw + long), high + slant, np.cos(yaw + long)]]
        one, other = (np.array(e) / np.linalg.norm(e) for e in ends)
        found.append((arc(one, other, 60), bool(k % 2)))
    return found


def planted(photographer: Photographer, lines, rng: np.random.Generator) -> Photographer:
    """The scene with the lines painted in, each thick enough to be seen."""
    canvas = copy.copy(photographer._canvas)
    canvas.colour = canvas.colour.copy()
    for rays, _ in lines:
        lon, lat = np.degrees(np.arctan2(rays[:, 0], rays[:, 2])), np.degrees(np.arcsin(rays[:, 1]))
        x, y = (lon + 180) * canvas.per_deg - 0.5, (canvas.high + lat) * canvas.per_deg - 0.5
        if np.ptp(x) > canvas.width / 2:
            continue
        tone = rng.uniform(0.02, 0.12) if rng.random() < 0.6 else rng.uniform(0.8, 0.95)
        path = np.rint(np.stack([x, y], -1) * 16).astype(np.int32)
        mask = np.zeros(canvas.colour.shape[:2], np.uint8)
        cv2.polylines(mask, [path], False, 255, 5, cv2.LINE_AA, 4)
        share = mask[..., None] / np.float32(255)
        canvas.colour[:] = canvas.colour * (1 - share) + np.float32(tone) * share
    return Photographer(canvas)


def bow(px: np.ndarray) -> np.ndarray:
    run = px[-1] - px[0]
    length = np.hypot(*run)
    return (px - px[0]) @ (np.array([-run[1], run[0]]) / length) / length


def measured(stages, plain, lines, turn: np.ndarray) -> dict[str, float]:
    """The figures of a pulled picture beside the unpulled one; `turn` takes the true world to the found one."""
    canvas, before = stages.canvas(Job()), plain.canvas(Job())
    bend = lean = 0.0
    for rays, upright in lines:
        here, there = (c.pixels(rays @ turn.T) for c in (canvas, before))
        inside = np.isfinite(here).all(1) & (here > 0).all(1) & (here < [canvas.width, canvas.height]).all(1)
        if inside.sum() < 20 or not inside[np.flatnonzero(inside)[0] : np.flatnonzero(inside)[-1] + 1].all():
            continue
        here, there = here[inside], there[inside]
        bend = max(bend, 100 * float(np.abs(bow(here) - bow(there)).max()))
        if upright:
            ways = [np.arctan2(v[0], v[1]) for v in (here[-1] - here[0], there[-1] - there[0])]
            lean = max(lean, abs(float(np.degrees(ways[0] - ways[1]))))
    lon = np.linspace(-np.pi, np.pi, 721)
    ring = np.stack([np.sin(lon), 0 * lon, np.cos(lon)], -1)
    px, was = (c.pixels(ring @ turn.T) for c in (canvas, before))
    with np.errstate(invalid="ignore"):
        inside = (px > 0).all(1) & (px < [canvas.width, canvas.height]).all(1)
    both = inside[:-6] & inside[6:] & (np.abs(px[6:, 0] - px[:-6, 0]) < canvas.width / 3)
    tilt = [np.degrees(np.arctan2(v[6:, 1] - v[:-6, 1], v[6:, 0] - v[:-6, 0]))[both] for v in (px, was)]
    horizon = float(np.abs(tilt[0] - tilt[1]).max(initial=0.0))
    y, x = np.mgrid[0:80, 0:200]
    spots = canvas.cut(np.stack([(x + 0.5) * canvas.width / 200, (y + 0.5) * canvas.height / 80], -1))
    turned = slopes(canvas.mesh.forth, canvas.mesh.backward(spots))
    sizes = np.linalg.svd(turned, compute_uv=False)
    stretch = np.maximum(sizes[..., 0], 1 / np.maximum(sizes[..., 1], 1e-6))
    return {
        "kept": stages.kept_area(Job()), "stretch": float(np.percentile(stretch, 99)), "bend": bend, "lean": lean,
        "horizon": horizon, "least area": float(np.linalg.det(turned).min())}


def one(rng: np.random.Generator, photographer: Photographer, folder: Path, keep: Path | None):
    shots = shots_of(rng)
    lines = lines_of(rng, shots)
    scene = planted(photographer, lines, rng)
    paths = []
    for n, shot in enumerate(shots):
        paths.append(str(folder / f"pull-{n:02d}.jpg"))
        write_jpeg(Path(paths[-1]), scene.take(shot), exif_bytes(shot, START))
    frames = tuple(frame_from_path(p) for p in paths)

    def stages_of(edges: Edges, amount: float = 100.0):
        own = FrameSet("set", "Pull", Kind.PANORAMA, frames, outline=Outline(edges, amount))
        return engine.stages(Project((own,)), "set"), Project((own,))

    engine = Engine(None, 700 * 2**20)
    plain, _ = stages_of(Edges.LEAVE)
    found = plain.registration(Job()).frames
    placed = plain.registration(Job()).placed
    turn = nearest_rotation(sum(found[n].rotation @ shots[n].rotation.T for n in placed))
    plain.canvas(Job())
    plain.edges(Job())
    pulled, project = stages_of(Edges.PULL)
    begun = time.perf_counter()
    pulled.canvas(Job())
    solved = time.perf_counter() - begun
    begun = time.perf_counter()
    stages_of(Edges.PULL, 63.0)[0].canvas(Job(), fine=False)
    changed = time.perf_counter() - begun
    figures = measured(pulled, plain, lines, turn)
    figures["amount"], suggested, amount = 100.0, figures, suggested_pull(pulled, Job())
    if amount < 100:
        suggested = measured(stages_of(Edges.PULL, amount)[0], plain, lines, turn) | {"amount": amount}
    figures["trim"] = stages_of(Edges.TRIM)[0].kept_area(Job())
    picture = engine.picture(project, "set", 1.0, Job())
    figures["bare"] = float((~picture.covered).sum())
    if keep is not None:
        from windfell.pixels.colour import to_view  # noqa: PLC0415 (only when asked for)

        cv2.imwrite(str(keep), to_view(picture.light)[..., ::-1])
    with patch.object(laid_out, "held_lines", lambda *_: []):
        bare = Engine(None, 400 * 2**20)
        bare.cache = copy.copy(engine.cache)
        bare.cache._kept = type(engine.cache._kept)(
            (k, v) for k, v in engine.cache._kept.items() if not isinstance(v[0], tuple | laid_out.Bent))
        without = measured(bare.stages(project, "set"), plain, lines, turn)
    return figures, without, suggested, solved, changed, len(shots)


def good(f: dict[str, float]) -> bool:
    bounded = all(f[key] <= most for key, most in WANTED.items() if key != "kept")
    full = f["amount"] < 100 or f["bare"] == 0
    return bounded and full and f["kept"] >= WANTED["kept"] and f["least area"] > 0


def words_of(f: dict[str, float]) -> str:
    return (f"kept {f['kept']:.3f} (trim {f['trim']:.3f}) bare {f['bare']:.0f} stretch {f['stretch']:.2f} "
            f"bend {f['bend']:.2f} % lean {f['lean']:.2f} horizon {f['horizon']:.2f} "
            f"least area {f['least area']:.2f}")


def at(full: dict[str, float], f: dict[str, float]) -> str:
    """The suggested amount, and its figures where those of the full pull are missed."""
    said = f"suggested {f['amount']:.0f} % "
    if good(full):
        return said + "| "
    return said + (f"kept {f['kept']:.3f} stretch {f['stretch']:.2f} bend {f['bend']:.2f} lean {f['lean']:.2f} "
                   f"horizon {f['horizon']:.2f}{'' if good(f) else '  <<'} | ")


def main() -> None:
    parser = parser_of(__doc__, "outlines", 60)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--keep", metavar="DIR", help="keep the pictures there")
    options = parser.parse_args()
    limited(300 if options.tiny else 1800)
    lands = backdrops(options.pictures, 3000, options.tiny)
    keep = Path(options.keep) if options.keep else None
    if keep:
        keep.mkdir(parents=True, exist_ok=True)
    rows, plain, fallback, times = [], [], [], []
    for n in range(options.first, options.first + (1 if options.tiny else options.outlines)):
        name, photographer = lands[n % len(lands)]
        try:
            with TemporaryDirectory() as folder:
                f, without, suggested, solved, changed, count = one(
                    np.random.default_rng(n), photographer, Path(folder), keep and keep / f"pull-{n}.jpg")
        except CannotJoin as error:
            print(f"{n}, {name}: {error}", flush=True)
            continue
        rows.append(f)
        plain.append(without)
        fallback.append(good(f) or good(suggested))
        times.append((solved, changed))
        print(f"{n:3d} {count:2d} frames, {name:<12} {words_of(f)}{'' if good(f) else '  <'} | "
              f"{at(f, suggested)}without lines: bend {without['bend']:.2f} lean "
              f"{without['lean']:.2f} horizon {without['horizon']:.2f} | {1e3 * solved:.0f}, "
              f"{1e3 * changed:.0f} ms", flush=True)
    for title, of in (("with lines", rows), ("without", plain)):
        print(f"{title}: " + ", ".join(
            f"{key} median {np.median([r[key] for r in of]):.3f} "
            f"worst {(min if key == 'kept' else max)(r[key] for r in of):.3f}" for key in WANTED))
    middle = 1e3 * np.median(times, axis=0)
    print(f"{sum(map(good, rows))} of {len(rows)} within all figures, {sum(fallback)} there or at the amount "
          f"suggested; solved in {middle[0]:.0f} ms, an amount changed in {middle[1]:.0f} ms (medians)")
    sys.exit(0 if all(f["bare"] == 0 and f["least area"] > 0 for f in rows) else 1)


if __name__ == "__main__":
    main()
