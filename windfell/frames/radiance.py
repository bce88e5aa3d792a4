"""Radiance HDR files (Ward, Graphics Gems II, 1991): size, and their linear light."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.pixels.sheet import real_light

HEAD_BYTES = 64 * 1024


def hdr_size(path: str) -> tuple[int, int]:
    """(width, height). Raises ValueError in words for rows that do not run from the top left."""
    with open(path, "rb") as file:
        head = file.read(HEAD_BYTES)
    words = head.partition(b"\n\n")[2].partition(b"\n")[0].split()
    if len(words) != 4 or words[0] != b"-Y" or words[2] != b"+X":
        raise ValueError("its rows do not run from the top left")
    return int(words[3]), int(words[1])


def hdr_pixels(path: str) -> NDArray[np.float32]:
    """Linear light (h, w, 3), float32."""
    with open(path, "rb") as file:
        light = cv2.imdecode(np.frombuffer(file.read(), np.uint8), cv2.IMREAD_UNCHANGED)
    if light is None or light.ndim != 3 or light.dtype != np.float32:
        raise ValueError("its content is damaged")
    return cv2.cvtColor(real_light(light), cv2.COLOR_BGR2RGB)
