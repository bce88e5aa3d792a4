"""Engine pictures as Qt images."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from windfell.app.screen import draw_picture
from windfell.engine.picture import Picture
from windfell.pixels.colour import to_view


def to_image(picture: Picture) -> QImage:
    """A screen image, sRGB, transparent where no frame covers."""
    rgb = to_view(picture.light)
    height, width = rgb.shape[:2]
    out = np.empty((height, width, 4), np.uint8)
    out[..., :3] = rgb
    out[..., 3] = np.where(picture.covered, 255, 0)
    out[~picture.covered] = 0
    return image_of(out)


def image_of(rgba: NDArray[np.uint8]) -> QImage:
    """A screen image of sRGB and opacity (h, w, 4), where colour is 0 wherever opacity is."""
    height, width = rgba.shape[:2]
    rgba = np.ascontiguousarray(rgba)
    return QImage(rgba.data, width, height, 4 * width, QImage.Format.Format_RGBA8888_Premultiplied).copy()


def image_of_rgb(rgb: NDArray[np.uint8]) -> QImage:
    """A screen image of sRGB (h, w, 3)."""
    height, width = rgb.shape[:2]
    rgb = np.ascontiguousarray(rgb)
    return QImage(rgb.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()


def draw_fitted(painter: QPainter, image: QImage, room: QRectF) -> None:
    """The image as large as the room allows, in its middle."""
    k = min(room.width() / image.width(), room.height() / image.height())
    w, h = image.width() * k, image.height() * k
    draw_picture(painter, QRectF(room.center().x() - w / 2, room.center().y() - h / 2, w, h), image)
