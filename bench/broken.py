"""Thousands of broken files through every reader: bytes changed, lengths overwritten, cut, pieces moved or doubled.

Each is read or refused by a sentence that names it, within 10 s and 2 GB: a bare exception, a crash of the process
or a hang is counted. Files are read in processes of their own, many each.
Usage: broken.py [FILES] [--tiny] [--seed N]
"""

from __future__ import annotations

import argparse
import json
import multiprocessing
import os
import resource
import struct
import sys
import tempfile
import time
from collections import Counter
from dataclasses import replace
from pathlib import Path

import numpy as np
from common import limited

BATCH, EACH_S, MEMORY = 40, 10.0, 2 * 2**30
CLAIMS = (0, 1, 2**15, 2**16 - 1, 2**31 - 1, 2**31, 2**32 - 1)


def seeds(folder: Path) -> list[Path]:
    """A small good file of every kind that is read."""
    import cv2  # noqa: PLC0415
    import imagecodecs  # noqa: PLC0415
    import OpenEXR  # noqa: PLC0415
    import pillow_heif  # noqa: PLC0415
    import tifffile  # noqa: PLC0415
    from PIL import Image  # noqa: PLC0415

    from windfell.demo.clip import write_video  # noqa: PLC0415
    from windfell.demo.dng import write_dng  # noqa: PLC0415
    from windfell.demo.files import exif_bytes, write_jpeg  # noqa: PLC0415
    from windfell.demo.photograph import Shot  # noqa: PLC0415
    from windfell.demo.truth import START  # noqa: PLC0415
    from windfell.geometry.camera import Lens  # noqa: PLC0415
    from windfell.recipe.model import Development, FrameSet, Kind, Mask, Project, frame_from_path  # noqa: PLC0415
    from windfell.recipe.project_file import mask_name, save_project  # noqa: PLC0415
    from windfell.recipe.words import to_words  # noqa: PLC0415

    rng = np.random.default_rng(1)
    small = cv2.GaussianBlur(rng.integers(0, 255, (90, 120, 3)).astype(np.uint8), (0, 0), 2)
    deep, real = small.astype(np.uint16) * 257, small.astype(np.float32) / 255
    picture = Image.fromarray(small)
    write_jpeg(folder / "plain.jpg", small, exif_bytes(Shot(Lens(120, 90, 100.0), np.eye(3)), START))
    picture.save(folder / "progressive.jpg", progressive=True)
    picture.convert("CMYK").save(folder / "inks.jpg", icc_profile=imagecodecs.cms_profile("srgb"))
    picture.save(folder / "eight.png")
    cv2.imwrite(str(folder / "sixteen.png"), deep)
    tifffile.imwrite(folder / "sixteen.tif", deep, photometric="rgb")
    tifffile.imwrite(folder / "float.tif", real, photometric="rgb", tile=(32, 32))
    tifffile.imwrite(folder / "lzw.tif", small, photometric="rgb", compression="lzw")
    picture.save(folder / "a.webp")
    picture.save(folder / "a.avif")
    pillow_heif.from_pillow(picture).save(folder / "a.heic")
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, {"RGB": real}).write(
        str(folder / "a.exr"))
    (folder / "bare.jxl").write_bytes(imagecodecs.jpegxl_encode(small, level=90))
    (folder / "boxed.jxl").write_bytes(imagecodecs.jpegxl_encode(small, level=90, usecontainer=True))
    cv2.imwrite(str(folder / "a.hdr"), real)
    write_video(folder / "a.mp4", [np.roll(small, n, 1) for n in range(9)], 25)
    write_dng(folder / "a.dng", real, START)
    mask = (small[..., 0] > 128).astype(np.uint8) * 255
    frame = frame_from_path(str(folder / "plain.jpg"))
    named = Mask(mask_name(mask))
    project = Project((FrameSet("s", "S", Kind.PANORAMA, (replace(frame, masks=(named,)),)),))
    save_project(folder / "a.windfell", project, {named.name: mask})
    row = {"a": "plain.jpg", "b": "eight.png", "ax": 1, "ay": 2, "bx": 3, "by": 4}
    (folder / "points.json").write_text(json.dumps({"points": [row] * 20}))
    (folder / "points.csv").write_text("a,b,ax,ay,bx,by\n" + "plain.jpg,eight.png,1,2,3,4\n" * 20)
    (folder / "development.json").write_text(json.dumps(to_words(Development(exposure_ev=1.0))))
    return sorted(folder.iterdir())


def mutated(data: bytes, rng: np.random.Generator) -> bytes:
    """One to a few harms."""
    out = bytearray(data)
    for _ in range(int(rng.integers(1, 4))):
        if len(out) < 8:
            break
        # headers hold what readers trust most
        at = int(rng.integers(0, min(len(out), 400))) if rng.random() < 0.6 else int(rng.integers(0, len(out)))
        way = int(rng.integers(6))
        if way == 0:
            for _ in range(int(rng.integers(1, 9))):
                out[int(rng.integers(len(out)))] = int(rng.integers(256))
        elif way == 1:
            claim = int(rng.choice(CLAIMS))
            kind = str(rng.choice(["<I", ">I", "<H", ">H"]))
            size = struct.calcsize(kind)
            out[at : at + size] = struct.pack(kind, claim % 256**size)
        elif way == 2:
            del out[max(4, at) :]
        elif way == 3:
            length = int(rng.integers(1, 200))
            piece = bytes(out[at : at + length])
            del out[at : at + length]
            put = int(rng.integers(0, len(out) + 1))
            out[put:put] = piece
        elif way == 4:
            out[at:at] = bytes(out[at : at + int(rng.integers(1, 300))])
        else:
            out[at : at + int(rng.integers(1, 64))] = bytes(int(rng.integers(1, 64)))
    return bytes(out)


def look(path: Path) -> str:
    """What reading a file came to: "read", "refused", or what went wrong."""
    from windfell.errors import WindfellError  # noqa: PLC0415
    from windfell.frames.still import StillFrame  # noqa: PLC0415
    from windfell.frames.video import instant, video_facts  # noqa: PLC0415
    from windfell.recipe.developments import read_development  # noqa: PLC0415
    from windfell.recipe.model import frame_from_path  # noqa: PLC0415
    from windfell.recipe.points_file import read_points  # noqa: PLC0415
    from windfell.recipe.project_file import load_project  # noqa: PLC0415

    try:
        if path.suffix == ".windfell":
            load_project(path)
        elif path.suffix == ".csv" or "points" in path.name:
            read_points(path, (frame_from_path("plain.jpg"), frame_from_path("eight.png")))
        elif path.suffix == ".json":
            read_development(path)
        elif path.suffix == ".mp4":
            instant(str(path), video_facts(str(path)).duration_s / 2)
        else:
            still = StillFrame(str(path))
            still.preview()
            width, height = still.size
            if width * height < 30_000_000:
                still.linear(min(width, 64), min(height, 64))
            else:
                still.encoded()
    except WindfellError as error:
        return "refused" if path.name in str(error) else f"a sentence without the name: {error}"
    except BaseException as error:  # noqa: BLE001 (what is looked for)
        return f"bare {type(error).__name__}: {error}"
    return "read"


def work(paths: list[Path], told) -> None:
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY + 6 * 2**30, MEMORY + 6 * 2**30))
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)  # libraries complain there
    for n, path in enumerate(paths):
        told.send((n, None, 0.0, 0))
        begun = time.perf_counter()
        found = look(path)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
        told.send((n, found, time.perf_counter() - begun, peak))
    told.close()


def batch(paths: list[Path], problems: list[str], counts: Counter) -> None:
    """Look at files in a process that may die or hang; goes on with the next file in another."""
    while paths:
        near, far = multiprocessing.Pipe()
        process = multiprocessing.Process(target=work, args=(paths, far))
        process.start()
        far.close()
        at, ended = 0, False
        while not ended:
            if not near.poll(EACH_S + 5):
                problems.append(f"{paths[at].name}: it hung")
                break
            try:
                at, found, seconds, peak = near.recv()
            except EOFError:
                ended = True
                process.join()
                if process.exitcode:
                    problems.append(f"{paths[at].name}: the process died ({process.exitcode})")
                else:
                    at = len(paths) - 1
                break
            if found is None:
                continue
            counts[found if found in ("read", "refused") else "wrong"] += 1
            if found not in ("read", "refused"):
                problems.append(f"{paths[at].name}: {found}")
            if seconds > EACH_S:
                problems.append(f"{paths[at].name}: {seconds:.1f} s")
            if peak > MEMORY:
                problems.append(f"{paths[at].name}: {peak / 2**30:.1f} GB")
                break
        process.kill()
        process.join()
        paths = paths[at + 1 :]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("files", nargs="?", type=int, default=5000)
    parser.add_argument("--tiny", action="store_true")
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    limited(300 if options.tiny else 1700)
    count = 120 if options.tiny else options.files
    rng = np.random.default_rng(options.seed)
    problems: list[str] = []
    counts: Counter = Counter()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "good").mkdir()
        good = seeds(folder / "good")
        contents = {p: p.read_bytes() for p in good}
        batch(good, problems, counts)
        if counts["read"] != len(good):
            problems.append(f"only {counts['read']} of {len(good)} good files were read")
        counts.clear()
        for first in range(0, count, BATCH):
            made = []
            for n in range(first, min(first + BATCH, count)):
                path = good[n % len(good)]
                made.append(folder / f"{n}-{path.name}")
                made[-1].write_bytes(mutated(contents[path], rng))
            before = len(problems)
            batch(made, problems, counts)
            for line in problems[before:]:
                print(line, flush=True)
            for path in made:
                path.unlink()
    print(f"{count} broken files of {len(good)} kinds: {counts['read']} read, {counts['refused']} refused by a "
          f"sentence, {len(problems)} problems", flush=True)
    sys.exit(1 if problems else 0)


if __name__ == "__main__":
    main()
