"""Linear light beyond white: OpenEXR and Radiance."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.later import Later
from windfell.output.metadata import SOFTWARE
from windfell.output.sheet import LINEAR, Sheet, gathered
from windfell.output.xmp import xmp_of

OpenEXR = Later("OpenEXR")

HALF_MOST = 65504.0


class ExrWriter:
    """OpenEXR, float or half (16 bit), linear light with BT.709 primaries: R, G, B, and A, 0 where no frame covers.
    Layers are parts of their own behind the whole.
    """

    title, suffix, depths, alpha, linear = "EXR", ".exr", (LINEAR, 16), True, (LINEAR, 16)

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray],
              layers: Sequence[tuple[str, Iterator[NDArray]]] = ()) -> None:
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, "software": SOFTWARE}
        xmp = xmp_of(sheet.carried)
        if xmp:
            header["xmp"] = xmp.decode()
        planes = _planes(gathered(sheet, strips, np.float32), sheet.depth)
        # the library tells the kind of file by its name
        named = path.with_name(path.name + ".exr")
        try:
            # the library has no errors of its own for what the file system refuses
            with _as_refused():
                self._written(named, sheet, header, planes, layers)
            os.replace(named, path)
        finally:
            named.unlink(missing_ok=True)

    @staticmethod
    def _written(named: Path, sheet: Sheet, header: dict, planes: dict, layers: Sequence) -> None:
        if layers:
            parts = [OpenEXR.Part({**header, "name": "picture"}, planes, "picture")]
            plain = {k: header[k] for k in ("compression", "type")}
            for n, (name, part) in enumerate(layers, 1):
                own = f"{n:02d} {name}"
                # layers are whole to the last px; strips of them have four channels
                whole = np.concatenate(list(part)).astype(np.float32)
                parts.append(OpenEXR.Part({**plain, "name": own}, _planes(whole, sheet.depth), own))
            OpenEXR.File(parts).write(str(named))
        else:
            OpenEXR.File(header, planes).write(str(named))


@contextmanager
def _as_refused() -> Iterator[None]:
    try:
        yield
    except RuntimeError as error:
        raise OSError(str(error).rpartition('". ')[2].rstrip(".") or "the file could not be written") from error


def _planes(whole: NDArray[np.float32], depth: int) -> dict[str, NDArray]:
    kind = np.float32 if depth == LINEAR else np.float16
    if depth != LINEAR:
        whole = np.clip(whole, -HALF_MOST, HALF_MOST)
    planes = {"RGBA"[n]: np.ascontiguousarray(whole[..., n], kind) for n in range(whole.shape[2])}
    planes.setdefault("A", np.ones(whole.shape[:2], kind))
    return planes


class HdrWriter:
    """Radiance RGBE (Ward 1991), linear light with BT.709 primaries, run lengths as its readers expect them."""

    title, suffix, depths, alpha, linear = "HDR", ".hdr", (LINEAR,), False, (LINEAR,)

    def write(self, path: Path, sheet: Sheet, strips: Iterator[NDArray]) -> None:
        whole = np.maximum(gathered(sheet, strips)[..., :3], 0)
        named = path.with_name(path.name + ".hdr")
        # what the library would say on the terminal is said below
        before = cv2.utils.logging.setLogLevel(cv2.utils.logging.LOG_LEVEL_SILENT)
        try:
            if not cv2.imwrite(str(named), np.ascontiguousarray(whole[..., ::-1])):
                raise OSError("the disk is full or the file too large")
            os.replace(named, path)
        finally:
            cv2.utils.logging.setLogLevel(before)
            named.unlink(missing_ok=True)
