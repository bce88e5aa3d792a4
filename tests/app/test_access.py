"""What everybody needs: names, tooltips, keys, contrast, room, at every station and in both themes."""

import json
import os
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt, SignalInstance
from PySide6.QtGui import (
    QAccessible,
    QColor,
    QInputDevice,
    QNativeGestureEvent,
    QPointingDevice,
    QWheelEvent,
)
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSpinBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QMenu,
    QScrollBar,
    QWidget,
)

from tests.app.support import WindowTest, small_project
from windfell.app import theme
from windfell.app.picture.look_around import LookAround
from windfell.app.picture.pair_view import PairView
from windfell.app.picture.point_pane import PointPane
from windfell.app.picture.view import PictureView
from windfell.app.widgets.ruler import Ruler
from windfell.recipe.model import Frame, FrameSet, Kind, Project
from windfell.recipe.sources import SetSource

CONTROLS = (QAbstractButton, QLineEdit, QComboBox, QAbstractSpinBox, QAbstractItemView)
# on a picture words must not pop up over what is looked at
PICTURES = (PictureView, PairView, PointPane, LookAround)
LEAST_TEXT, LEAST_FORM = 4.5, 3.0


def is_control(widget: QWidget) -> bool:
    """Whether a person does something with it, itself and not as a part of another."""
    if isinstance(widget, QScrollBar | QMenu | QLabel) or widget.objectName().startswith("qt_"):
        return False
    if isinstance(widget, QAbstractScrollArea) and not isinstance(widget, QAbstractItemView):
        return False
    above = widget.parent()
    while above is not None:
        if isinstance(above, QAbstractSpinBox | QComboBox | QAbstractItemView):
            return False
        above = above.parent()
    return isinstance(widget, CONTROLS) or widget.focusPolicy() != Qt.FocusPolicy.NoFocus


def name_of(widget: QWidget) -> str:
    found = QAccessible.queryAccessibleInterface(widget)
    return found.text(QAccessible.Text.Name) if found is not None else ""


def tip_of(widget: QWidget) -> str:
    above = widget.parent()
    return widget.toolTip() or (above.toolTip() if isinstance(above, Ruler) else "")


def place_of(widget: QWidget) -> str:
    names = []
    while widget is not None and len(names) < 5:
        names.append(f"{type(widget).__name__} {name_of(widget)!r}")
        widget = widget.parent()
    return " in ".join(names)


def contrast(a: str, b: str) -> float:
    """The contrast ratio of two colours (WCAG 2.2, 1.4.3)."""
    def luminance(name: str) -> float:
        linear = [v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4
                  for v in (QColor(name).redF(), QColor(name).greenF(), QColor(name).blueF())]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    one, other = sorted((luminance(a), luminance(b)))
    return (other + 0.05) / (one + 0.05)


class Access(WindowTest):
    def everywhere(self):
        """At every station of both kinds of set, one after another."""
        for set_id in ("row", "still"):
            self.session.select_set(set_id)
            for station in self.session.stations:
                self.session.go(station)
                self.app.processEvents()
                yield set_id, station

    def test_every_control_has_a_name_and_says_what_it_does(self):
        self.open("shape")
        self.window.do("settings")
        for at in self.everywhere():
            controls = [w for w in self.window.findChildren(QWidget) if is_control(w)]
            self.assertGreater(len(controls), 200)
            with self.subTest(at):
                self.assertEqual([place_of(w) for w in controls if not name_of(w)], [], "no name")
                self.assertEqual([place_of(w) for w in controls if not tip_of(w) and not isinstance(w, PICTURES)], [],
                                 "no tooltip")
                self.assertEqual([place_of(w) for w in controls if w.focusPolicy() == Qt.FocusPolicy.NoFocus], [],
                                 "not reached by keys")

    def test_the_tab_key_goes_through_all_that_is_seen_and_back_to_the_start(self):
        self.open("shape")
        for at in self.everywhere():
            self.settle()
            with self.subTest(at):
                seen, first = set(), None
                wanted = {w for w in self.window.findChildren(QWidget) if is_control(w) and w.isVisible()
                          and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus}
                self.window.activateWindow()
                self.window.view.setFocus()
                for _ in range(4 * len(wanted) + 40):
                    QTest.keyClick(self.app.focusWidget() or self.window, Qt.Key.Key_Tab)
                    now = self.app.focusWidget()
                    if now is None or now is first:
                        break
                    first = first or now
                    seen.add(now)
                # of buttons of which one is pressed the others are reached by the arrow keys
                grouped = {w for w in wanted if isinstance(w, QAbstractButton) and w.group() is not None}
                left = [place_of(w) for w in wanted - grouped - seen]
                self.assertEqual(left, [], "not on the way of the Tab key")
                for group in {w.group() for w in grouped}:
                    self.assertTrue(any(b in seen for b in group.buttons()) or not group.buttons())

    def test_what_has_the_focus_is_seen(self):
        self.open("shape")
        shape = self.window.stations["shape"]
        turn = shape.rulers["view.yaw_deg"]
        self.window.activateWindow()
        window = self.window
        for widget in (shape.tabs._buttons["view"], turn._line, turn._field, window.ridge, window.chooser,
                       window.frames._ticks[0], shape.level, window.menu_button, window.view):
            self.window.ridge.setFocus() if widget is self.window.view else self.window.view.setFocus()
            self.app.processEvents()
            before = widget.grab().toImage()
            widget.setFocus(Qt.FocusReason.TabFocusReason)
            self.app.processEvents()
            self.assertNotEqual(widget.grab().toImage(), before, place_of(widget))

    def test_the_picture_is_moved_by_keys_and_by_fingers(self):
        self.open("shape")
        view = self.window.view
        view.one_to_one()
        view.look_at(0.5, 0.5, 2.0)
        before = view.picture_rect()
        self.window.activateWindow()
        view.setFocus(Qt.FocusReason.TabFocusReason)
        QTest.keyClick(view, Qt.Key.Key_Right)
        self.assertLess(view.picture_rect().x(), before.x() - 20)
        QTest.keyClick(view, Qt.Key.Key_Left)
        self.assertAlmostEqual(view.picture_rect().x(), before.x(), delta=0.5)
        pad = QPointingDevice("pad", 77, QInputDevice.DeviceType.TouchPad, QPointingDevice.PointerType.Finger,
                              QInputDevice.Capability.Position, 5, 2)
        at, none = QPointF(300, 200), Qt.MouseButton.NoButton
        self.app.sendEvent(view, QWheelEvent(
            at, at, QPoint(-30, -10), QPoint(0, -120), none, Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase, False, Qt.MouseEventSource.MouseEventNotSynthesized, pad))
        moved = view.picture_rect()
        self.assertAlmostEqual(moved.x() - before.x(), -30, delta=0.5)
        self.assertAlmostEqual(view.zoom, 2.0)
        self.app.sendEvent(view, QNativeGestureEvent(
            Qt.NativeGestureType.ZoomNativeGesture, pad, 2, at, at, at, 0.25, QPointF()))
        self.assertAlmostEqual(view.zoom, 2.5)
        self.settle()

    def test_text_and_forms_stand_out_in_both_themes(self):
        for t in theme.THEMES.values():
            for ground in (t.stone, t.sheet):
                for words in (t.ink, t.quiet, t.gorse_ink, t.tarn, t.heather, t.moss, t.rowan):
                    with self.subTest(t.name, words=words, ground=ground):
                        self.assertGreaterEqual(contrast(words, ground), LEAST_TEXT)
            self.assertGreaterEqual(contrast(t.sheet, t.tarn), LEAST_TEXT, "chosen rows")
            for form in (t.gorse, t.tarn):
                self.assertGreaterEqual(contrast(form, t.sheet), 2.7 if form == t.gorse else LEAST_FORM)

    def test_all_has_room_in_the_smallest_window_and_in_a_large_one(self):
        self.open("shape")
        for size in ((1100, 700), (3840, 2160)):
            self.window.resize(*size)
            for at in self.everywhere():
                with self.subTest(at, size=size):
                    self.assertEqual((self.window.width(), self.window.height()), size)
                    self.assertLessEqual(self.window.minimumSizeHint().width(), size[0])
                    for part in (self.window.station.controls, self.window.station.instrument):
                        self.assertLessEqual(part.minimumSizeHint().width(), part.width())
        self.settle()

    def test_the_window_stands_at_every_scale_of_the_display(self):
        script = (
            "import os; from tests.app.support import *\n"
            "class One(WindowTest):\n"
            "    def test(self):\n"
            "        self.open('join')\n"
            "        w = self.window\n"
            "        scale = float(os.environ['QT_SCALE_FACTOR'])\n"
            "        self.assertAlmostEqual(w.devicePixelRatioF(), scale, delta=0.01)\n"
            "        shot = w.grab()\n"
            "        self.assertAlmostEqual(shot.width() / w.width(), w.devicePixelRatioF(), delta=0.02)\n"
            "        self.assertLessEqual(w.minimumSizeHint().width(), 1100)\n"
            "        self.assertGreaterEqual(w.source.shown.image.width(), 0.9 * min(\n"
            "            w.source.shown.width, 1600, w.view.picture_rect().width() * w.devicePixelRatioF()))\n"
            "        self.assertIsNone(w.source.error)\n")
        for scale in ("2.5",):
            with self.subTest(scale):
                done = subprocess.run(
                    [sys.executable, "-c", script + "unittest.main(argv=['x'])"], capture_output=True, text=True,
                    env={**os.environ, "QT_SCALE_FACTOR": scale, "QT_QPA_PLATFORM": "offscreen"}, timeout=240)
                self.assertEqual(done.returncode, 0, done.stderr[-2000:])

    def test_the_window_goes_over_to_a_screen_of_another_scale_and_back(self):
        script = (
            "from tests.app.support import *\n"
            "class Two(WindowTest):\n"
            "    def test(self):\n"
            "        self.open('join')\n"
            "        w, screens = self.window, self.app.screens()\n"
            "        for n, scale in ((1, 2.0), (0, 1.0)):\n"
            "            w.windowHandle().setScreen(screens[n])\n"
            "            w.move(screens[n].geometry().topLeft())\n"
            "            self.until(lambda: w.view.devicePixelRatioF() == scale)\n"
            "            self.session.change('view.yaw_deg', 2.0 * n + 1, True)\n"
            "            self.settle()\n"
            "            self.assertEqual(w.source.room, round(max(w.view.width(), w.view.height()) * scale))\n"
            "            self.assertGreaterEqual(w.source.shown.image.width(), 0.9 * min(\n"
            "                w.source.shown.width, w.view.picture_rect().width() * scale))\n"
            "            self.assertEqual(w.grab().width(), round(w.width() * scale))\n"
            "            self.assertIsNone(w.source.error)\n")
        one = {"y": 0, "width": 1600, "height": 1000, "logicalDpi": 96, "logicalBaseDpi": 96, "dpr": 1}
        screens = {"screens": [{"name": "one", "x": 0, **one}, {"name": "two", "x": 1600, **one, "width": 3200}]}
        with tempfile.TemporaryDirectory() as folder:
            told = Path(folder) / "screens.json"
            told.write_text(json.dumps(screens))
            done = subprocess.run(
                [sys.executable, "-c", script + "unittest.main(argv=['x'])"], capture_output=True, text=True,
                env={**os.environ, "QT_SCREEN_SCALE_FACTORS": "one=1;two=2",
                     "QT_QPA_PLATFORM": f"offscreen:configfile={told}"}, timeout=240)
            self.assertEqual(done.returncode, 0, done.stderr[-2000:])

    def test_nothing_flashes_up_as_a_window_of_its_own(self):
        shown: list[str] = []

        class Watch(QObject):
            def eventFilter(self, watched, event):
                if event.type() == QEvent.Type.Show and isinstance(watched, QWidget) and watched.isWindow():
                    shown.append(place_of(watched))
                return False

        watch = Watch()
        self.app.installEventFilter(watch)
        self.addCleanup(lambda: self.app.removeEventFilter(watch))
        project = small_project()
        row = project.sets[0]
        halves = [replace(row, id=f"half-{k}", name=f"Half {k}", kind=Kind.STACK, frames=row.frames[k : k + 2])
                  for k in (0, 2)]
        outer = FrameSet("outer", "Outer", Kind.PANORAMA, tuple(Frame(f"in-{h.id}", SetSource(h.id)) for h in halves))
        self.session.replace_all(Project((*project.sets, outer, *halves)), None)
        for set_id in ("row", "still", "outer"):
            self.session.select_set(set_id)
            for station in self.session.stations:
                self.session.go(station)
                self.app.processEvents()
        self.assertEqual(shown, [])
        self.settle()

    def test_nothing_of_ours_hides_a_method_of_qt(self):
        """What hides one that Qt calls ends the program when it is called."""
        self.open("shape")
        self.window.do("settings")
        self.window.do("help_here")
        w = self.window
        found = set()
        for one in (*w.findChildren(QObject), w, w.session, w.session.desk, w.hand, w.source, *w.stations.values()):
            base = next(k for k in type(one).__mro__ if k.__module__.startswith("PySide6"))
            found |= {(type(one).__name__, name) for name, value in vars(one).items()
                      if hasattr(base, name) and not isinstance(value, SignalInstance)}
        self.assertEqual(found, set())

    def test_an_answer_of_the_desk_does_not_take_the_focus_away(self):
        self.open("shape")
        field = self.window.stations["shape"].rulers["view.yaw_deg"]._field
        field.setFocus()
        self.session.change("outline.pull_pct", 3.0, True)
        self.settle()
        self.app.sendPostedEvents(None, QEvent.Type.FocusIn.value)
        self.assertIs(self.window.focusWidget(), field)
