"""OpenRaster (.ora, freedesktop.org 0.0.5): layers that editors open, each a PNG in a zip, the whole beside them."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.output.png import PngWriter
from windfell.output.sheet import Sheet
from windfell.recipe.written import folder_beside

THUMBNAIL = 256


class OraWriter:
    """OpenRaster with 8 or 16 bits a channel: the layers, and the picture that they make."""

    title, suffix, depths, alpha, linear = "OpenRaster", ".ora", (16, 8), True, ()

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray],
              layers: Sequence[tuple[str, Iterator[NDArray]]] = ()) -> None:
        """`layers`: (name, strips with alpha), the lowest first; without any the picture is the only one."""
        with folder_beside(path) as folder:
            small: list[NDArray] = []
            PngWriter().write(folder / "whole.png", sheet, _watched(strips, sheet, small))
            self._zipped(path, sheet, folder, layers, small)

    def _zipped(self, path: Path, sheet: Sheet, folder: Path, layers: Sequence, small: list[NDArray]) -> None:
        names = []
        with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as file:
            # the kind of file stands first, so that it is known without reading on
            file.writestr("mimetype", "image/openraster")
            file.write(folder / "whole.png", "mergedimage.png")
            for n, (name, part) in enumerate(layers, 1):
                own = folder / "layer.png"
                PngWriter().write(own, replace(sheet, channels=4), part)
                file.write(own, f"data/layer{n:03d}.png")
                names.append((name, f"data/layer{n:03d}.png"))
            if not names:
                file.write(folder / "whole.png", "data/layer001.png")
                names.append(("picture", "data/layer001.png"))
            done, data = cv2.imencode(".png", _thumbnail(small))
            assert done
            file.writestr("Thumbnails/thumbnail.png", data.tobytes())
            file.writestr("stack.xml", _stack(sheet, names))


def _watched(strips: Iterator[NDArray], sheet: Sheet, small: list[NDArray]) -> Iterator[NDArray]:
    """The strips as they come; what a thumbnail needs of them is put aside."""
    step = max(1, max(sheet.width, sheet.height) // (2 * THUMBNAIL))
    at = 0
    for strip in strips:
        small.append(strip[(-at) % step :: step, ::step])
        at += len(strip)
        yield strip


def _thumbnail(small: list[NDArray]) -> NDArray[np.uint8]:
    whole = np.concatenate(small)
    whole = (whole >> 8).astype(np.uint8) if whole.dtype == np.uint16 else whole
    k = min(1.0, THUMBNAIL / max(whole.shape[:2]))
    size = max(1, round(whole.shape[1] * k)), max(1, round(whole.shape[0] * k))
    whole = cv2.resize(whole, size, interpolation=cv2.INTER_AREA)
    return cv2.cvtColor(whole, cv2.COLOR_RGBA2BGRA if whole.shape[2] == 4 else cv2.COLOR_RGB2BGR)


def _stack(sheet: Sheet, names: Sequence[tuple[str, str]]) -> bytes:
    """The list of layers; the highest stands first."""
    image = ElementTree.Element("image", version="0.0.5", w=str(sheet.width), h=str(sheet.height))
    if sheet.output.dpi:
        image.set("xres", str(round(sheet.output.dpi)))
        image.set("yres", str(round(sheet.output.dpi)))
    stack = ElementTree.SubElement(image, "stack")
    for name, place in reversed(names):
        ElementTree.SubElement(stack, "layer", {"name": name, "src": place, "x": "0", "y": "0", "opacity": "1.0",
                                               "visibility": "visible", "composite-op": "svg:src-over"})
    return ElementTree.tostring(image, "UTF-8", xml_declaration=True)
