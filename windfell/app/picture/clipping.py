"""A tick that shows in form where the picture is clipped: stripes over it."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QCheckBox

from windfell.app.picture.sampled import stripes_of
from windfell.app.picture.view import PictureView
from windfell.app.session import Session


class ClippingTick(QCheckBox):
    """Stripes of the picture in `view`, made anew as pictures arrive while it is ticked at its station."""

    def __init__(self, session: Session, view: PictureView, station: str) -> None:
        super().__init__("Clipping")
        self.session, self._view, self._station = session, view, station
        self._stripes: tuple[QImage, QImage] | None = None
        self.setToolTip("Stripes on the picture: rising where a channel is black, falling where it is white")
        self.clicked.connect(lambda: (self._look(), view.update()))
        view.source.arrived.connect(self._look)

    def _look(self) -> None:
        shown = self._view.source.shown
        if not self.isChecked() or self.session.station != self._station or shown is None:
            return
        image = shown.image

        def done(found: QImage) -> None:
            self._stripes = image, found
            self._view.update()

        self.session.desk.follow("clipping", lambda job: stripes_of(image), done, None, None, True)

    def paint_over(self, painter: QPainter, rect: QRectF) -> None:
        """The stripes, if they are those of what is shown."""
        shown = self._view.source.shown
        if self.isChecked() and shown is not None and self._stripes and self._stripes[0] is shown.image:
            painter.drawImage(rect, self._stripes[1])
