"""Pictures that the imaging library reads: WebP, AVIF, HEIF, and JPEG or TIFF in ink values."""

from __future__ import annotations

import imagecodecs
import numpy as np
import pillow_heif
from numpy.typing import NDArray
from PIL import Image

from windfell.frames.see_through import is_clear
from windfell.pixels.profiles import linear_profile, linearizer


def library_pixels(path: str) -> NDArray:
    """Pixels (h, w, 3) uint8, as stored; with alpha (h, w, 4) where parts are transparent."""
    with Image.open(path) as image:
        image.load()
        whole = np.asarray(image.convert("RGBA")) if image.has_transparency_data else None
        return whole if whole is not None and is_clear(whole) else np.asarray(image.convert("RGB"))


def heif_pixels(path: str) -> NDArray:
    """Pixels (h, w, 3), uint8, or uint16 where the file holds more than 8 bits; upright already. With alpha
    (h, w, 4) where parts are transparent.
    """
    found = pillow_heif.open_heif(path, convert_hdr_to_8bit=False)
    pixels = np.asarray(found)
    if pixels.ndim == 2:
        pixels = pixels[..., None].repeat(3, axis=2)
    if pixels.shape[2] == 4 and is_clear(pixels):
        return np.ascontiguousarray(pixels)
    return np.ascontiguousarray(pixels[..., :3])


def ink_light(inks: NDArray[np.uint8], profile: bytes | None) -> NDArray[np.float32]:
    """Working-space light (h, w, 3) of ink values (h, w, 4), 255 full ink, by their profile.

    Without one the inks are taken for ideal filters: light of sRGB's red is what cyan and black leave, and so on.
    """
    if not profile or profile[16:20] != b"CMYK":
        left = 255 - inks.astype(np.float32)
        return linearizer(None)((left[..., :3] * left[..., 3:] / 255 + 0.5).astype(np.uint8))
    light = imagecodecs.cms_transform(
        np.ascontiguousarray(inks), profile, linear_profile(),
        colorspace="cmyk", outcolorspace="rgb", outdtype="float32",
    )
    return np.ascontiguousarray(light)


def jpeg_inks(path: str) -> NDArray[np.uint8]:
    """Ink values (h, w, 4) of a four-colour JPEG, 255 full ink.

    With an APP14 marker (ITU-T T.872, 6.5.3) the values are stored inverted, which the library undoes. Files without
    one are of either kind: a picture holds less black ink than it lacks.
    """
    with Image.open(path) as image:
        marked = "adobe" in image.info
        inks = np.asarray(image.convert("CMYK"))
    return 255 - inks if not marked and inks[..., 3].mean() > 127.5 else inks
