"""Whole jobs in the real window: mouse and keys alone, from frames in a folder to the written file.

Presses are counted: a press, a key, a drag, a number typed, a name chosen in a list (two). `WINDFELL_JOBS` names a
file that gets a line for each job; `tools/jobs` makes the table of docs/jobs.md of them.
"""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from unittest.mock import patch

import cv2
import numpy as np
import tifffile
from PIL import Image
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QComboBox, QFileDialog, QLineEdit, QMenu, QWidget

from tests.app.support import WindowTest
from tests.support import drawn
from windfell.app.stations.station import Station
from windfell.app.widgets.choice import Choice
from windfell.app.widgets.ruler import Ruler
from windfell.demo.dng import write_dng
from windfell.pixels.colour import srgb_decoded

SHIPPED = Path(__file__).resolve().parents[2] / "windfell" / "demo" / "frames"
SCALE = 0.32


def shrunk_demo(name: str, scale: float = SCALE) -> Path:
    """A folder with the frames of a shipped set, smaller, with what their files say."""
    def draw(folder: Path) -> None:
        folder.mkdir(parents=True)
        for path in sorted((SHIPPED / name).glob("*.jpg")):
            with Image.open(path) as full:
                size = round(full.width * scale), round(full.height * scale)
                full.resize(size, Image.Resampling.LANCZOS).save(folder / path.name, quality=95, exif=full.getexif())
        truth = json.loads((SHIPPED / name / "truth.json").read_text())
        (folder / "truth.json").write_text(json.dumps(truth))

    return drawn(f"job-{name}-{scale}", draw)


def truth_of(folder: Path) -> dict:
    return json.loads((folder / "truth.json").read_text())


def read_tiff(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """(sRGB 0..1 (h, w, 3), where it is covered (h, w)) of a TIFF."""
    pixels = tifffile.imread(path)
    full = np.iinfo(pixels.dtype).max
    covered = pixels[..., 3] > full // 2 if pixels.shape[2] == 4 else np.ones(pixels.shape[:2], bool)
    return pixels[..., :3].astype(np.float32) / full, covered


def light_of(encoded: np.ndarray) -> np.ndarray:
    return srgb_decoded(encoded).astype(np.float32)


def raw_of(path: Path, target: Path, noise: float, seed: int, taken: datetime) -> None:
    """A raw file of what a picture shows, with noise of that deviation at white."""
    light = light_of(np.asarray(Image.open(path), np.float32) / 255)
    light = light[: light.shape[0] // 2 * 2, : light.shape[1] // 2 * 2]
    rng = np.random.default_rng(seed)
    noisy = light + noise * np.sqrt(np.maximum(light, 0)) * rng.standard_normal(light.shape).astype(np.float32)
    write_dng(target, np.clip(noisy, 0, 1).astype(np.float32), taken)


class JobTest(WindowTest):
    """`number` and `title` of the job; `doubt`: where a person looks first and what it expects; `changed`: what was
    changed for it.
    """

    number, title, doubt, changed = 0, "", "", ""

    def setUp(self):
        super().setUp()
        self.presses, self.waited = 0, 0.0
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.window.activateWindow()

    def tearDown(self):
        place = os.environ.get("WINDFELL_JOBS")
        failed = any(error for _, error in getattr(self._outcome, "errors", ()) or ())
        if place and self.number and not failed:
            with open(place, "a") as file:
                file.write(json.dumps({
                    "number": self.number, "title": self.title, "presses": self.presses,
                    "waited": round(self.waited, 1), "doubt": self.doubt, "changed": self.changed}) + "\n")
        super().tearDown()

    # -- hands

    def card(self, *paths: Path) -> Path:
        """The frames copied into a folder of one's own."""
        card = self.folder / "card"
        card.mkdir(exist_ok=True)
        for path in paths:
            for one in sorted(path.iterdir()) if path.is_dir() else [path]:
                if one.suffix not in (".json", ".part"):
                    shutil.copy2(one, card / one.name)
        return card

    def drop(self, place: Path) -> None:
        """A folder or a file is dropped on the window, and becomes sets."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(place))])
        event = QDropEvent(QPointF(600, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                           Qt.KeyboardModifier.NoModifier)
        self.presses += 1
        self.window.dropEvent(event)
        self.until(lambda: self.session.frame_set is not None)
        self.wait()

    def press(self, widget: QWidget, at: QPoint | None = None) -> None:
        self.app.processEvents()
        self.assertTrue(widget.isVisible(), f"{name_of(widget)} is not to be seen")
        self.assertTrue(widget.isEnabled(), f"{name_of(widget)} cannot be pressed: {widget.toolTip()}")
        self.presses += 1
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or self._middle(widget))
        self.app.processEvents()

    @staticmethod
    def _middle(widget: QWidget) -> QPoint:
        # the mark of a check box, not the empty room behind its words
        return QPoint(12, widget.height() // 2) if hasattr(widget, "isTristate") else widget.rect().center()

    def choose(self, choice: Choice, value: str) -> None:
        self.press(choice._buttons[value])

    def pick(self, box: QComboBox, words: str) -> None:
        """A line of a list that opens: two presses."""
        self.assertTrue(box.isVisible() and box.isEnabled(), box.accessibleName())
        n = next(n for n in range(box.count()) if words.lower() in box.itemText(n).lower())
        self.presses += 2
        box.setCurrentIndex(n)
        box.activated.emit(n)
        self.app.processEvents()

    def menu(self, button: QAbstractButton, words: str) -> None:
        """A line of a button's menu: two presses."""
        self.assertTrue(button.isVisible() and button.isEnabled(), button.text())
        menu: QMenu = button.menu()
        menu.aboutToShow.emit()
        action = next(a for a in menu.actions() if words.lower() in a.text().lower())
        self.assertTrue(action.isEnabled(), words)
        self.presses += 2
        action.trigger()
        self.app.processEvents()

    def tap(self, key: Qt.Key, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
        self.presses += 1
        self.window.view.setFocus() if self.window.view.isVisible() else self.window.setFocus()
        QTest.keyClick(self.window, key, modifiers)
        self.app.processEvents()

    def go(self, station: str) -> Station:
        """To a station, by its number key."""
        n = self.session.stations.index(station)
        self.tap(Qt.Key(Qt.Key.Key_1.value + n))
        self.assertEqual(self.session.station, station)
        return self.window.stations[station]

    def type_in(self, field: QLineEdit | Ruler, words: object) -> None:
        """A number or a name typed into a field."""
        line = field._field if isinstance(field, Ruler) else field
        self.assertTrue(line.isVisible() and line.isEnabled(), line.accessibleName())
        self.presses += 1
        line.setFocus()
        line.selectAll()
        QTest.keyClicks(line, f"{words:g}" if isinstance(words, float) else str(words))
        QTest.keyClick(line, Qt.Key.Key_Return)
        self.app.processEvents()

    def pull(self, ruler: Ruler, value: float) -> None:
        """The ruler's mark dragged to a value."""
        line = ruler._line
        self.assertTrue(line.isVisible() and line.isEnabled(), line.accessibleName())
        self.presses += 1
        spot = QPointF(line._x(value), line.height() / 2)
        QTest.mousePress(line, Qt.MouseButton.LeftButton, pos=QPoint(round(line._x(line.value)), round(spot.y())))
        for k in (0.5, 1.0):
            QTest.mouseMove(line, QPoint(round(line._x(line.value) * (1 - k) + spot.x() * k), round(spot.y())))
            self.app.processEvents()
        QTest.mouseRelease(line, Qt.MouseButton.LeftButton, pos=spot.toPoint())
        self.app.processEvents()

    def spot(self, x: float, y: float) -> QPoint:
        r = self.window.view.picture_rect()
        return QPoint(round(r.x() + x * r.width()), round(r.y() + y * r.height()))

    def _look(self) -> None:
        """Nobody draws before the picture is there."""
        begun = time.monotonic()
        self.until(lambda: self.window.source.shown is not None)
        self.waited += time.monotonic() - begun

    def draw(self, *shares: tuple[float, float]) -> None:
        """A stroke over shares of the picture; it is in the recipe afterwards."""
        self._look()
        view, before, points = self.window.view, self.session.project, [self.spot(*p) for p in shares]
        self.presses += 1
        QTest.mouseMove(view, points[0])
        QTest.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, points[0])
        for p in points[1:]:
            QTest.mouseMove(view, p)
            self.app.processEvents()
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, points[-1])
        begun = time.monotonic()
        self.until(lambda: self.session.project is not before, 15)
        self.waited += time.monotonic() - begun

    def drag_picture(self, start: tuple[float, float], end: tuple[float, float]) -> None:
        """A drag over the picture whose tool may change only what is seen."""
        self._look()
        view, a, b = self.window.view, self.spot(*start), self.spot(*end)
        self.presses += 1
        QTest.mouseMove(view, a)
        QTest.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, a)
        for k in (0.5, 1.0):
            QTest.mouseMove(view, QPoint(round(a.x() + k * (b.x() - a.x())), round(a.y() + k * (b.y() - a.y()))))
            self.app.processEvents()
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, b)
        self.app.processEvents()

    def press_picture(self, x: float, y: float) -> None:
        self.presses += 1
        QTest.mouseClick(self.window.view, Qt.MouseButton.LeftButton, pos=self.spot(x, y))
        self.app.processEvents()

    def choose_frame(self, n: int) -> None:
        """The n-th frame, from 1, in the column at the left."""
        self.presses += 1
        tick = next(t for t in self.window.frames._ticks if t.number == n)
        QTest.mouseClick(tick, Qt.MouseButton.LeftButton, pos=tick.rect().center())
        self.app.processEvents()
        self.assertEqual(self.session.frame_id, self.session.frame_set.frames[n - 1].id)

    def in_dialog(self, path: Path, deed: Callable[[], None]) -> None:
        """The desktop's file dialog, in which a path is typed: two presses."""
        self.presses += 2
        answers = {"getSaveFileName": (str(path), ""), "getOpenFileName": (str(path), ""),
                   "getExistingDirectory": str(path), "getOpenFileNames": ([str(path)], "")}
        with patch.multiple(QFileDialog, **{n: staticmethod(lambda *_a, _v=v, **_k: _v) for n, v in answers.items()}):
            deed()
        self.app.processEvents()

    def wait(self) -> None:
        """Until all that is on the screen has come."""
        begun = time.monotonic()
        self.settle()
        self.waited += time.monotonic() - begun

    def select(self, name: str) -> None:
        """Another set, in the chooser at the upper left."""
        self.pick(self.window.chooser, name)
        self.wait()

    # -- files

    def write(self, name: str, wait: bool = True) -> Path:
        """To Export, a name typed, the picture written."""
        export = self.go("export") if self.session.station != "export" else self.window.stations["export"]
        self.wait()
        path = self.folder / name
        self.type_in(export.place, path)
        before = path.stat().st_mtime_ns if path.exists() else None
        self.press(export.write)
        if wait:
            begun = time.monotonic()
            self.until(lambda: path.exists() and path.stat().st_mtime_ns != before and not self.session.desk.busy)
            self.waited += time.monotonic() - begun
        return path

    def save(self, name: str) -> Path:
        path = self.folder / name
        self.presses += 1
        self.in_dialog(path, lambda: self.window.do("save_as"))
        return path.with_suffix(".windfell")

    def next_day(self, project: Path) -> None:
        """The program ended, begun again, and the project opened."""
        self.window.do("new_project")
        self.wait()
        self.presses += 1
        self.in_dialog(project, lambda: self.window.do("open_project"))
        self.wait()

    def all_placed(self) -> None:
        found = self.window.registrations.found
        self.assertIsNotNone(found)
        self.assertEqual(len(found.placed), len(self.session.frame_set.used))


def name_of(widget: QWidget) -> str:
    words = widget.text() if isinstance(widget, QAbstractButton) else ""
    return f"{type(widget).__name__} {words or widget.accessibleName()!r}"


def small(picture: np.ndarray, wide: int = 200) -> np.ndarray:
    size = wide, round(wide * picture.shape[0] / picture.shape[1])
    return cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
