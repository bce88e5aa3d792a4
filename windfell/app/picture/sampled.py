"""What an image on the screen holds: its px, the band of hues of a spot, where it is clipped."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QImage

from windfell.finish.histogram import clipped
from windfell.finish.hues import BAND_HUES, polar
from windfell.pixels.colour import SRGB_TO_WORKING, srgb_decoded
from windfell.pixels.oklab import to_oklab

STRIPE_PX = 6


def band_of(image: QImage, spot: QPointF) -> int:
    """The band of hues of an image's colour at a share of it."""
    pixel = image.pixelColor(min(max(int(spot.x() * image.width()), 0), image.width() - 1),
                             min(max(int(spot.y() * image.height()), 0), image.height() - 1))
    light = srgb_decoded(np.array([[pixel.getRgbF()[:3]]])) @ SRGB_TO_WORKING.T
    _, a, b = np.moveaxis(to_oklab(light.astype(np.float32)), 2, 0)
    hue = float(polar(a, b)[1][0, 0])
    return int(np.argmin(np.abs((BAND_HUES - hue + 180) % 360 - 180)))


def pixels_of(image: QImage) -> tuple[np.ndarray, np.ndarray]:
    """sRGB (h, w, 3) and where it is covered."""
    plain = image.convertToFormat(QImage.Format.Format_RGBA8888)
    w, h = plain.width(), plain.height()
    rgba = np.frombuffer(plain.constBits(), np.uint8).reshape(h, plain.bytesPerLine())[:, : 4 * w].reshape(h, w, 4)
    return rgba[..., :3].copy(), rgba[..., 3] > 127


def striped(where: NDArray[np.bool_], colour: str) -> QImage:
    """Stripes where (h, w) something holds."""
    h, w = where.shape
    y, x = np.mgrid[:h, :w]
    tint, out = QColor(colour), np.zeros((h, w, 4), np.uint8)
    out[where] = (0, 0, 0, 150)
    out[where & ((x - y) // STRIPE_PX % 2 == 0)] = (tint.red(), tint.green(), tint.blue(), 255)
    return QImage(out.data, w, h, 4 * w, QImage.Format.Format_RGBA8888).copy()


def stripes_of(image: QImage) -> QImage:
    """Stripes where a channel of an image is black (rising) or white (falling)."""
    pixels, covered = pixels_of(image)
    black, white = (m & covered for m in clipped(pixels))
    h, w = black.shape
    y, x = np.mgrid[:h, :w]
    rising, falling = ((x + y) // STRIPE_PX % 2 == 0), ((x - y) // STRIPE_PX % 2 == 0)
    out = np.zeros((h, w, 4), np.uint8)
    for where, stripe, colour in ((black, rising, QColor("#6fd0ff")), (white, falling, QColor("#d4380d"))):
        out[where] = (0, 0, 0, 150)
        out[where & stripe] = (colour.red(), colour.green(), colour.blue(), 255)
    return QImage(out.data, w, h, 4 * w, QImage.Format.Format_RGBA8888).copy()
