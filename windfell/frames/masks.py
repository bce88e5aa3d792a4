"""Masks given as picture files: white is inside, grey partly."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.errors import BadRequest, border
from windfell.frames.still import StillFrame


def read_mask(path: Path) -> NDArray[np.uint8]:
    """The mask (h, w), 255 inside, of any picture file; colours count by their brightness, as the file has them.

    Raises FrameUnreadable for a file that is no picture, BadRequest for one that is not there.
    """
    if not path.is_file():
        raise BadRequest(f"{path}: there is no such mask; give the path of a picture, white inside.")
    with border(path, "it is not a readable mask"):
        found = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
        if found is None:
            found = StillFrame(str(path)).encoded(8)
        if found.dtype == np.uint16:
            found = (found / 257 + 0.5).astype(np.uint8)
        elif found.dtype != np.uint8:
            share = np.nan_to_num(found.astype(np.float32), posinf=1.0, neginf=0.0)
            found = (255 * np.clip(share, 0, 1) + 0.5).astype(np.uint8)
        if found.ndim == 3:
            found = found[..., 0] if found.shape[2] < 3 else found[..., :3].max(axis=2)
        return np.ascontiguousarray(found)
