"""What turns pieces of the picture into a file's pixels: a space's curve, a profile, linear light, a camera's."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.engine.picture import Picture
from windfell.errors import BadRequest
from windfell.output.sheet import Sheet
from windfell.output.writers import WRITERS
from windfell.pixels.colour import SPACES, SRGB, WORKING, Encoder
from windfell.pixels.profiles import icc_of, into_profile, linear_icc_of, profile_of
from windfell.recipe.output import Format, Output

Finisher = Callable[[Picture], NDArray]


def is_linear(output: Output, depth: int) -> bool:
    """Whether a file of this format and depth holds linear light."""
    return depth in WRITERS[str(output.format)].linear


def icc_for(output: Output, depth: int) -> bytes:
    """The ICC profile that goes into the file. Raises BadRequest for a profile that cannot be used."""
    space = SPACES[str(output.space)]
    if is_linear(output, depth):
        return linear_icc_of(space)
    return icc_of(space) if output.profile is None else chosen_profile(output.profile)


def chosen_profile(path: str) -> bytes:
    """An ICC profile by its path. Raises BadRequest."""
    try:
        return profile_of(path)
    except ValueError as error:
        raise BadRequest(f"{path}: {error}; choose another profile.") from error


def finisher(sheet: Sheet) -> Finisher:
    """What turns a piece of the picture into the file's pixels."""
    output = sheet.output
    if output.format is Format.DNG:
        matrix = sheet.raw.from_working()
        return lambda picture: cv2.transform(picture.light, matrix)
    encode = encoder(output, sheet.depth)
    top = 1.0 if is_linear(output, sheet.depth) else 2**sheet.depth - 1

    def finish(picture: Picture) -> NDArray:
        pixels = encode(picture.light)
        if sheet.channels == 3:
            return pixels
        out = np.empty((*pixels.shape[:2], 4), pixels.dtype)
        out[..., :3] = pixels
        out[..., 3] = np.where(picture.covered, pixels.dtype.type(top), pixels.dtype.type(0))
        return out

    return finish


def encoder(output: Output, depth: int) -> Callable[[NDArray], NDArray]:
    """From working light (h, w, 3) to the file's values: of the output's space or profile, uint8 or uint16; linear,
    float32, where a file of that depth holds light.
    """
    if is_linear(output, depth):
        # EXR and HDR are read as BT.709's primaries
        space = SPACES[str(output.space)] if output.format is Format.TIFF else SRGB
        matrix = space.matrix_from(WORKING).astype(np.float32)
        return lambda light: cv2.transform(light, matrix)
    if output.profile is None:
        return Encoder(SPACES[str(output.space)], depth, output.dither)
    profile, intent = chosen_profile(output.profile), str(output.intent)
    return lambda light: into_profile(light, profile, intent, depth)
