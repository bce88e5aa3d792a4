"""How a picture will look in the colours of its file, on this screen, and what lies beyond them."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.output_pixels import chosen_profile
from windfell.pixels.colour import SPACES, WORKING, to_view
from windfell.pixels.profiles import into_profile, linearizer
from windfell.recipe.output import Output

F32 = NDArray[np.float32]

# how far, in encoded values, a colour may be off and count as held
BEYOND, BEYOND_PROFILE = 0.002, 0.02


def soft_proof(light: F32, output: Output) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """(sRGB (h, w, 3) as the file's colours look, where (h, w) colours lie beyond its gamut) of working light."""
    if output.profile is None:
        space = SPACES[str(output.space)]
        own = cv2.transform(light, space.matrix_from(WORKING).astype(np.float32))
        beyond = (own.min(axis=2) < -BEYOND) | (own.max(axis=2) > 1 + BEYOND)
        back = np.linalg.inv(space.matrix_from(WORKING)).astype(np.float32)
        return to_view(cv2.transform(np.clip(own, 0, 1), back)), beyond
    profile = chosen_profile(output.profile)
    held = linearizer(profile)(into_profile(light, profile, str(output.intent), 16))
    told = np.clip(light, 0, 1)
    beyond = np.abs(np.sqrt(np.maximum(held, 0)) - np.sqrt(told)).max(axis=2) > BEYOND_PROFILE
    return to_view(np.ascontiguousarray(held)), beyond
