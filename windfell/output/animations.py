"""Moving pictures: GIF and animated WebP, for ever or once, MP4 and WebM. Each format one function, in one table."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from itertools import chain, pairwise
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from windfell.errors import OutputFailed, border
from windfell.later import Later

av = Later("av")
spatial = Later("scipy.spatial")

U8 = NDArray[np.uint8]
MOST_COLOURS = 256
GIF_TICK_MS = 10
PALETTE_FROM = 24
SHADE_BITS, LEAST_SEEN, ROUNDS = 5, 4, 5
VIDEO_QUALITY = {"libx264": {"crf": "18", "preset": "medium"},
                 "libvpx-vp9": {"crf": "28", "b:v": "0", "deadline": "good", "cpu-used": "5"}}


def write_gif(path: Path, pictures: Iterator[U8], fps: float, loops: bool) -> None:
    """One palette of 256 colours for all, found in pictures spread over the whole, dithered by spreading the error
    (Floyd & Steinberg 1976); times are whole hundredths of a second, whose rounding does not add up.
    """
    shown = [Image.fromarray(p) for p in pictures]
    step = max(1, len(shown) // PALETTE_FROM)
    sample = np.concatenate([np.asarray(p)[::2, ::2].reshape(-1, 3) for p in shown[::step]])
    palette = Image.new("P", (1, 1))
    palette.putpalette(palette_of(sample).tobytes())
    paletted = [p.quantize(palette=palette, dither=Image.Dither.FLOYDSTEINBERG) for p in shown]
    _told_apart(paletted)
    first, *others = paletted
    first.save(path, "GIF", save_all=True, append_images=others, duration=durations_ms(len(shown), fps, GIF_TICK_MS),
               optimize=False, disposal=1, **({"loop": 0} if loops else {}))


def palette_of(colours: U8) -> U8:
    """256 colours (256, 3) for px (n, 3): median cut (Heckbert 1982), then each moved to the middle of what it stands
    for (Lloyd 1982). A shade counts by the root of how often it is seen: a red coat on much grass keeps its red.
    """
    red, green, blue = (colours[:, c].astype(np.intp) >> 8 - SHADE_BITS for c in range(3))
    shade = (red << SHADE_BITS | green) << SHADE_BITS | blue
    count = np.bincount(shade, minlength=1 << 3 * SHADE_BITS)
    there = np.flatnonzero(count >= LEAST_SEEN)
    if len(there) < MOST_COLOURS:
        there = np.flatnonzero(count)
    means = np.stack([np.bincount(shade, colours[:, c], len(count))[there] / count[there] for c in range(3)], axis=-1)
    weight = np.sqrt(count[there])
    often = np.repeat(np.rint(means).astype(np.uint8), np.ceil(weight / weight.min()).astype(int), axis=0)
    cut = Image.fromarray(often[None]).quantize(MOST_COLOURS, Image.Quantize.MEDIANCUT).getpalette()
    palette = np.array(cut, np.float64).reshape(-1, 3)
    for _ in range(ROUNDS):
        nearest = spatial.cKDTree(palette).query(means)[1]
        total = np.bincount(nearest, weight, len(palette))
        moved = np.stack([np.bincount(nearest, weight * means[:, c], len(palette)) for c in range(3)], axis=-1)
        palette = np.where(total[:, None] > 0, moved / np.maximum(total, 1e-9)[:, None], palette)
    out = np.zeros((MOST_COLOURS, 3), np.uint8)
    out[: len(palette)] = np.rint(palette)
    return out


def _told_apart(pictures: Sequence[Image.Image]) -> None:
    """Of two pictures that are the same the second gets one px of another colour: the format's writer would make one
    of them.
    """
    for before, after in pairwise(pictures):
        if before.tobytes() == after.tobytes():
            after.putpixel((0, 0), (after.getpixel((0, 0)) + 1) % MOST_COLOURS)


def durations_ms(count: int, fps: float, tick_ms: int = 1) -> list[int]:
    """How long each of so many pictures is shown, in whole ticks that together keep the rate."""
    ends = [round((n + 1) * 1000 / fps / tick_ms) for n in range(count)]
    return [max(1, b - a) * tick_ms for a, b in zip([0, *ends], ends, strict=False)]


def write_webp(path: Path, pictures: Iterator[U8], fps: float, loops: bool) -> None:
    shown = list(pictures)
    for n in range(1, len(shown)):
        if np.array_equal(shown[n], shown[n - 1]):
            shown[n] = shown[n].copy()
            shown[n][0, 0] ^= 8
    first, *others = (Image.fromarray(p) for p in shown)
    first.save(path, "WEBP", save_all=True, append_images=others, duration=durations_ms(len(shown), fps),
               loop=0 if loops else 1, quality=85, method=1)


def write_mp4(path: Path, pictures: Iterator[U8], fps: float, _loops: bool) -> None:
    _write_video(path, pictures, fps, "mp4", "libx264")


def write_webm(path: Path, pictures: Iterator[U8], fps: float, _loops: bool) -> None:
    _write_video(path, pictures, fps, "webm", "libvpx-vp9")


def _write_video(path: Path, pictures: Iterator[U8], fps: float, container: str, codec: str) -> None:
    """Colours by BT.709; sides are made even, as the format wants, by a px repeated."""
    first = next(pictures)
    height, width = first.shape[:2]
    with av.open(str(path), "w", format=container) as out:
        stream = out.add_stream(codec, rate=Fraction(fps).limit_denominator(1001), options=VIDEO_QUALITY[codec])
        stream.width, stream.height, stream.pix_fmt = width + width % 2, height + height % 2, "yuv420p"
        stream.codec_context.color_range = 1
        stream.codec_context.colorspace = 1
        for picture in chain([first], pictures):
            even = np.pad(picture, ((0, height % 2), (0, width % 2), (0, 0)), mode="edge")
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(even), format="rgb24")
            for packet in stream.encode(frame.reformat(format="yuv420p", dst_colorspace=1, dst_color_range=1)):
                out.mux(packet)
        for packet in stream.encode():
            out.mux(packet)


ANIMATIONS: dict[str, Callable[[Path, Iterator[U8], float, bool], None]] = {
    ".gif": write_gif, ".webp": write_webp, ".mp4": write_mp4, ".webm": write_webm}
BYTES_A_PX = {".gif": 0.45, ".webp": 0.10, ".mp4": 0.06, ".webm": 0.04}


def write_animation(path: Path, suffix: str, pictures: Iterator[U8], fps: float, loops: bool = True) -> None:
    """Pictures (h, w, 3) sRGB, all of one size, `fps` a second. `loops`: a GIF or WebP begins again at its end; a
    video leaves that to its player. Raises OutputFailed.
    """
    try:
        with border(path, "it cannot be written"):
            ANIMATIONS[suffix](path, pictures, fps, loops)
    except OSError as error:
        raise OutputFailed(path, f"it cannot be written ({error.strerror or error}).") from error


def foretold_bytes(suffix: str, count: int, width: int, height: int) -> int:
    """About how large the file will be."""
    return round(BYTES_A_PX[suffix] * count * width * height)
