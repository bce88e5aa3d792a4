"""One HTML file that needs nothing else: a sphere to look around in, a wide picture to move over, as JPEG tiles."""

from __future__ import annotations

import base64
import html
import json
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import cv2
import imagecodecs
import numpy as np
from numpy.typing import NDArray

from windfell.errors import OutputFailed
from windfell.job import CORES
from windfell.output.metadata import SOFTWARE, Pano
from windfell.output.sheet import Sheet, gathered
from windfell.recipe.output import ColourSpace

TILE, MOST_SIDE = 512, 32_000
# the longest side of a page whose size was not asked for
PAGE_SIDE = 12_000
FACES = {  # middle, right and down of each face: x right, y down, z ahead
    "f": ((0, 0, 1), (1, 0, 0), (0, 1, 0)), "r": ((1, 0, 0), (0, 0, -1), (0, 1, 0)),
    "b": ((0, 0, -1), (-1, 0, 0), (0, 1, 0)), "l": ((-1, 0, 0), (0, 0, 1), (0, 1, 0)),
    "u": ((0, -1, 0), (1, 0, 0), (0, 0, 1)), "d": ((0, 1, 0), (1, 0, 0), (0, 0, -1))}
TEMPLATE = Path(__file__).with_name("page.html")
BYTES = NDArray[np.uint8]


class PageWriter:
    """A page with the picture in it, sRGB, 8 bits: the cube around a sphere, or the flat picture, as a pyramid."""

    title, suffix, depths, alpha, linear = "Page", ".html", (8,), False, ()

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        if max(sheet.width, sheet.height) > MOST_SIDE:
            raise OutputFailed(path, f"a page holds {MOST_SIDE} px at most; choose a smaller size.")
        if sheet.output.space is not ColourSpace.SRGB or sheet.output.profile:
            raise OutputFailed(path, "a page is written in sRGB alone; choose that space.")
        whole = gathered(sheet, strips)
        pano, quality = sheet.carried.pano, min(sheet.output.quality, 95)
        data = flat_pyramid(whole, quality) if pano is None else sphere_pyramid(whole, pano, quality)
        words = sheet.carried.words
        text = TEMPLATE.read_text(encoding="utf-8")
        for name, value in (("program", SOFTWARE), ("title", words.title or path.stem.split(".")[0] or "Picture"),
                            ("caption", words.caption), ("rights", words.rights)):
            text = text.replace("{{" + name + "}}", html.escape(value))
        with open(path, "w", encoding="utf-8") as file:
            # the data may hold nothing that ends its element: base64 and numbers cannot
            head, tail = text.split("{{data}}")
            file.write(head + json.dumps(data, separators=(",", ":")) + tail)


def sphere_pyramid(whole: BYTES, pano: Pano, quality: int) -> dict[str, Any]:
    """The cube around a sphere, of which `whole` (h, w, 3) shows the part that `pano` says."""
    top = TILE
    while top < pano.full_width / np.pi * 0.9:
        top *= 2
    sizes = [top]
    while sizes[0] > TILE:
        sizes.insert(0, sizes[0] // 2)
    tiles: dict[int, list] = {s: [] for s in sizes}
    for name in FACES:
        face = cube_face(whole, pano, name, top)
        if face is None:
            continue
        for size in reversed(sizes):
            if face.shape[0] != size:
                face = cv2.resize(face, (size, size), interpolation=cv2.INTER_AREA)
            tiles[size] += _tiles(face, quality, name)
    levels = [{"size": s, "tiles": tiles[s]} for s in sizes]
    h, w = whole.shape[:2]
    limits = {"left": 360 * pano.left / pano.full_width - 180,
              "right": 360 * (pano.left + w) / pano.full_width - 180,
              "up": 90 - 180 * pano.top / pano.full_height, "down": 90 - 180 * (pano.top + h) / pano.full_height}
    round_about = limits["right"] - limits["left"] > 359.9
    start = {"yaw": 0.0 if round_about else (limits["left"] + limits["right"]) / 2,
             "pitch": float(np.clip(0.0, limits["down"], limits["up"])),
             "fov": 90.0 if round_about else min(90.0, limits["right"] - limits["left"])}
    return {"kind": "sphere", "top": top, "levels": levels, "limits": limits, "start": start}


def cube_face(whole: BYTES, pano: Pano, name: str, size: int) -> BYTES | None:
    """A face of the cube (size, size, 3), black where the picture is not; None where nothing of it is seen."""
    middle, right, down = (np.array(v, float) for v in FACES[name])
    out = np.zeros((size, size, 3), np.uint8)
    grid = (np.arange(size) + 0.5) / size * 2 - 1
    around = whole.shape[1] >= pano.full_width - 1
    any_seen = False
    for top in range(0, size, TILE):
        v = grid[top : top + TILE]
        rays = middle + grid[None, :, None] * right + v[:, None, None] * down
        lon = np.arctan2(rays[..., 0], rays[..., 2])
        lat = np.arctan2(rays[..., 1], np.hypot(rays[..., 0], rays[..., 2]))
        x = (lon / np.pi + 1) / 2 * pano.full_width - 0.5 - pano.left
        y = (lat / np.pi + 0.5) * pano.full_height - 0.5 - pano.top
        seen = (y > -1) & (y < whole.shape[0]) & (around | ((x > -1) & (x < whole.shape[1])))
        if not seen.any():
            continue
        any_seen = True
        part = cv2.remap(whole, x.astype(np.float32), np.clip(y, 0, whole.shape[0] - 1).astype(np.float32),
                         cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP if around else cv2.BORDER_REPLICATE)
        out[top : top + TILE] = np.where(seen[..., None], part, 0)
    return out if any_seen else None


def flat_pyramid(whole: BYTES, quality: int) -> dict[str, Any]:
    """A flat picture, half as large at each lower level."""
    levels = []
    picture = whole
    while True:
        h, w = picture.shape[:2]
        levels.insert(0, {"width": w, "height": h, "size": w, "tiles": _tiles(picture, quality, "")})
        if max(w, h) <= 2 * TILE:
            break
        picture = cv2.resize(picture, ((w + 1) // 2, (h + 1) // 2), interpolation=cv2.INTER_AREA)
    return {"kind": "flat", "top": whole.shape[1], "levels": levels, "start": {"zoom": 1.0, "x": 0.5, "y": 0.5}}


def _tiles(picture: BYTES, quality: int, face: str) -> list[dict[str, Any]]:
    """JPEG tiles of a picture; those that show nothing are left out."""
    h, w = picture.shape[:2]
    places = [(x, y) for y in range(0, h, TILE) for x in range(0, w, TILE)]

    def one(place: tuple[int, int]) -> dict[str, Any] | None:
        x, y = place
        part = np.ascontiguousarray(picture[y : y + TILE + 1, x : x + TILE + 1])
        if not part.any():
            return None
        data = imagecodecs.jpeg8_encode(part, level=quality, subsampling="444" if quality >= 90 else "420")
        return {"face": face, "x": x, "y": y, "w": part.shape[1], "h": part.shape[0],
                "jpeg": base64.b64encode(data).decode()}

    with ThreadPoolExecutor(CORES) as pool:
        return [t for t in pool.map(one, places) if t]
