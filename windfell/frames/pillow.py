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
    pixels, bits = np.asarray(found), found.info["bit_depth"]
    return _in_colour(pixels if pixels.dtype == np.uint8 else _in_16_bits(pixels >> (16 - bits), bits))


def avif_pixels(path: str) -> NDArray:
    """Pixels (h, w, 3), uint8, or uint16 where the file holds more than 8 bits, as stored; with alpha (h, w, 4) where
    parts are transparent.
    """
    with open(path, "rb") as file:
        data = file.read()
    bits = _avif_bits(data)
    return library_pixels(path) if bits == 8 else _in_colour(_in_16_bits(imagecodecs.avif_decode(data), bits))


def _avif_bits(data: bytes) -> int:
    """Bits a channel, by the file's AV1 codec configuration (AV1 in ISOBMFF, 2.3.3)."""
    at = data.find(b"av1C")
    flags = data[at + 6] if 0 <= at < len(data) - 6 else 0
    return 8 if not flags & 0x40 else 12 if flags & 0x20 else 10


def _in_16_bits(pixels: NDArray[np.uint16], bits: int) -> NDArray[np.uint16]:
    """Values of so many bits over the whole range of 16."""
    most = 2**bits - 1
    return np.rint(np.arange(most + 1) * (65535 / most)).astype(np.uint16)[np.minimum(pixels, most)]


def _in_colour(pixels: NDArray) -> NDArray:
    if pixels.ndim == 2:
        pixels = pixels[..., None].repeat(3, axis=2)
    if pixels.shape[2] == 2:
        pixels = pixels[..., [0, 0, 0, 1]]
    return np.ascontiguousarray(pixels if pixels.shape[2] == 4 and is_clear(pixels) else pixels[..., :3])


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
