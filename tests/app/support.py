"""A real window on small demo frames, driven as a person drives it."""

from __future__ import annotations

import gc
import os
import tempfile
import time
import unittest
from collections.abc import Callable
from unittest import mock

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from tests.support import frames_in, green, ridge
from windfell.app import theme
from windfell.app.readiness import Readiness
from windfell.app.session import Session
from windfell.app.start import application
from windfell.app.widgets.proofs import Proofs
from windfell.app.window import Window
from windfell.engine.core import Engine
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path


def small_project() -> Project:
    """The two demo sets, small."""
    return Project((
        FrameSet("row", "Ridge sweep", Kind.PANORAMA, tuple(frame_from_path(p) for p in frames_in(ridge()))),
        FrameSet("still", "Village green", Kind.STACK, tuple(frame_from_path(p) for p in frames_in(green()))),
    ))


ENGINE = Engine(None, 1024 * 2**20)


def with_proofs(test: Callable) -> Callable:
    """A test, or all of a class, that looks at proofs. Others are spared the dozen pictures that each edit costs."""
    test.looks_at_proofs = True
    return test


def with_readiness(test: Callable) -> Callable:
    """A test, or all of a class, that looks at Readiness. Others are spared its look at all frames."""
    test.looks_at_readiness = True
    return test


def _no_proof(strip: Proofs, value: str, _project: Project, _set_id: str) -> None:
    strip.cards[value].problem = "Not made in this test."


SPARED = {"looks_at_proofs": (Proofs, "_ask", _no_proof),
          "looks_at_readiness": (Readiness, "consider", lambda _looked: None)}


class WindowTest(unittest.TestCase):
    """Opens a fresh window for each test, with its own home."""

    def setUp(self):
        # a thread that was told to stop may still take its last file away
        self._home = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(self._home.cleanup)
        before = os.environ.get("WINDFELL_HOME")
        os.environ["WINDFELL_HOME"] = self._home.name
        self.addCleanup(lambda: os.environ.__setitem__("WINDFELL_HOME", before or self._home.name))
        for looked_at, (owner, name, instead) in SPARED.items():
            if not any(hasattr(x, looked_at) for x in (self, getattr(self, self._testMethodName))):
                spared = mock.patch.object(owner, name, instead)
                spared.start()
                self.addCleanup(spared.stop)
        self.app = application()
        theme.apply(self.app, theme.LIMESTONE)
        self.session = Session(ENGINE)
        # all that was said, since the status line forgets
        self.said: list[str] = []
        self.session.said.connect(lambda words, _kind: self.said.append(words))
        self.window = Window(self.session)
        self.window.resize(1280, 800)
        self.window.show()
        self.addCleanup(self._put_away)

    def _put_away(self) -> None:
        self.window.close()
        self.window.deleteLater()
        self.app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        self.app.processEvents()
        self.window = self.session = None
        gc.collect()

    def open(self, station: str = "shape", set_id: str = "row") -> None:
        self.session.replace_all(small_project(), None)
        self.session.select_set(set_id)
        self.session.go(station)
        self.settle()

    def until(self, what: Callable[[], bool], limit_s: float = 60.0) -> None:
        """Let the window work until something is so. The limit is of its own work; a machine that does other things
        meanwhile gets six times as long.
        """
        begun, worked = time.monotonic(), time.process_time()
        while not what():
            slow = time.process_time() - worked < limit_s
            self.assertLess(time.monotonic() - begun, limit_s * (6 if slow else 1), "the window did not come to rest")
            self.app.processEvents()
            time.sleep(0.01)  # leaves the interpreter to the working threads, which qWait does not

    def settle(self) -> None:
        calm = [0]

        def rests() -> bool:
            calm[0] = calm[0] + 1 if self.window.settled else 0
            return calm[0] > 8

        self.until(rests)

    def click(self, widget: QWidget, at: QPoint | None = None) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or widget.rect().center())

    def key(self, key: Qt.Key, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
        self.window.view.setFocus()
        QTest.keyClick(self.window, key, modifiers)

    def drag(self, widget: QWidget, start: QPointF, by: QPointF, steps: int = 4) -> None:
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, pos=start.toPoint())
        for n in range(1, steps + 1):
            QTest.mouseMove(widget, (start + by * n / steps).toPoint())
            self.app.processEvents()
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=(start + by).toPoint())
