"""The screen's colour: pictures are sRGB, and are turned into what its profile says only where they are painted."""

from __future__ import annotations

from collections import OrderedDict
from pathlib import Path

from PySide6.QtCore import QRectF
from PySide6.QtGui import QColorSpace, QImage, QPainter

from windfell.errors import BadRequest

KEPT_BYTES = 96 * 2**20
SRGB = QColorSpace(QColorSpace.NamedColorSpace.SRgb)


class Screen:
    """One for all windows. What was turned is kept, the newest last, up to some bytes."""

    def __init__(self) -> None:
        self._space: QColorSpace | None = None
        self._kept: OrderedDict[int, QImage] = OrderedDict()
        self._used = 0

    def use(self, path: str | None) -> None:
        """Honour the ICC profile in a file; None: the screen shows sRGB. Raises BadRequest."""
        space = None
        if path is not None:
            try:
                space = QColorSpace.fromIccProfile(Path(path).read_bytes())
            except OSError as error:
                raise BadRequest(path, f"it could not be read ({error.strerror}); choose another profile.") from error
            if not space.isValidTarget() or space.colorModel() != QColorSpace.ColorModel.Rgb:
                raise BadRequest(path, "it holds no ICC profile of an RGB screen; choose another.")
        self._space = space
        self._kept.clear()
        self._used = 0

    def shown(self, image: QImage) -> QImage:
        """The image as the screen is to be given it."""
        if self._space is None or image.isNull():
            return image
        key = image.cacheKey()
        if key in self._kept:
            self._kept.move_to_end(key)
            return self._kept[key]
        source = QImage(image)
        source.setColorSpace(SRGB)
        turned = source.convertedToColorSpace(self._space)
        if turned.isNull():
            return image
        self._kept[key] = turned
        self._used += turned.sizeInBytes()
        while self._used > KEPT_BYTES and len(self._kept) > 1:
            self._used -= self._kept.popitem(last=False)[1].sizeInBytes()
        return turned


SCREEN = Screen()


def draw_picture(painter: QPainter, where: QRectF, image: QImage) -> None:
    """Paint a picture, in the colours of the screen."""
    painter.drawImage(where, SCREEN.shown(image))
