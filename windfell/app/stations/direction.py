"""The direction of the chosen frame: shown, typed, locked."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QWidget

from windfell.align.registration import PanoramaRegistration, Placed
from windfell.app import theme
from windfell.app.registrations import Registrations
from windfell.app.session import Session
from windfell.geometry.rotation import yaw_pitch_roll
from windfell.recipe import edits
from windfell.recipe.model import Frame, HandPose


class Direction(QWidget):
    """A line with the chosen frame's angles, which can be typed, and its lock."""

    def __init__(self, session: Session, found: Registrations) -> None:
        super().__init__()
        self._session, self._found = session, found
        self.of_frame = QLabel("Direction")
        self.angles = QLineEdit()
        self.angles.setFont(theme.numbers_font())
        self.angles.setAccessibleName("Direction of the chosen frame")
        self.angles.setToolTip("Turn right, look up, lean clockwise, in degrees; typing places the frame by hand")
        self.angles.editingFinished.connect(self._angles_typed)
        self.lock = QPushButton("Lock", checkable=True)
        self.lock.setToolTip("Keep the chosen frame where it lies while the others are fitted")
        self.lock.clicked.connect(self._set_locked)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.of_frame)
        row.addWidget(self.angles, 1)
        row.addWidget(self.lock)

    def _chosen(self) -> tuple[int, Frame] | None:
        """The chosen frame, and its number in use."""
        frame_set = self._session.frame_set
        used = frame_set.used if frame_set else ()
        return next(((n, f) for n, f in enumerate(used) if f.id == self._session.frame_id), None)

    def _found_pose(self, n: int) -> HandPose | None:
        found = self._found.found
        if not isinstance(found, PanoramaRegistration) or n >= len(found.frames) or found.flat:
            return None
        place = found.frames[n]
        if not isinstance(place, Placed):
            return None
        return HandPose(*(round(float(v), 3) for v in np.degrees(yaw_pitch_roll(place.rotation))))

    def refresh(self) -> None:
        chosen = self._chosen()
        for part in (self.angles, self.lock):
            part.setEnabled(chosen is not None)
        if chosen is None:
            self.of_frame.setText("Direction")
            self.angles.setText("")
            self.angles.setPlaceholderText("choose a frame")
            self.lock.setChecked(False)
            return
        n, frame = chosen
        number = self._session.frame_set.number_of(frame.id)
        self.of_frame.setText(f"Frame {number}")
        self.lock.setChecked(frame.pose is not None)
        pose = frame.pose or self._found_pose(n)
        self.lock.setEnabled(pose is not None)
        self.angles.setPlaceholderText("turn, up, lean in °")
        if not self.angles.hasFocus():
            self.angles.setText(_pose_words(pose) if pose else "")

    def _angles_typed(self) -> None:
        chosen = self._chosen()
        text = self.angles.text().replace("°", "").strip()
        if chosen is None:
            return
        n, frame = chosen
        now = frame.pose or self._found_pose(n)
        if now is not None and self.angles.text() == _pose_words(now):
            return
        s = self._session
        if not text:
            s.edit(edits.pose_frame(s.project, s.set_id, frame.id, None), True)
            return
        try:
            yaw, pitch, roll = (float(v) for v in text.replace(";", ",").split(","))
            if not (abs(yaw) <= 360 and abs(pitch) <= 90 and abs(roll) <= 180):
                raise ValueError
        except ValueError:
            s.say(f"{text}: not a direction; give turn, look up and lean in degrees, with commas between.", "wrong")
            self.refresh()
            return
        s.edit(edits.pose_frame(s.project, s.set_id, frame.id, HandPose(yaw, pitch, roll)), True)

    def _set_locked(self, on: bool) -> None:
        chosen, s = self._chosen(), self._session
        if chosen is not None:
            n, frame = chosen
            pose = (frame.pose or self._found_pose(n)) if on else None
            s.edit(edits.pose_frame(s.project, s.set_id, frame.id, pose), True)


def _pose_words(pose: HandPose) -> str:
    return f"{pose.yaw_deg:.2f}, {pose.pitch_deg:.2f}, {pose.roll_deg:.2f}"
