"""Random hands on the window with the demo: presses, drags, wheels, keys, undo and redo, other sets, words and
numbers typed into fields, by a seed. Counts inner errors and how long events took.

Wanted: no inner error, at most one event in a thousand over 100 ms, none over 300 ms.
Usage: monkey.py [--minutes 6] [--seeds 5] [--first 1] [--tiny] [--stalls]
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
import traceback

import numpy as np
from common import limited
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QDrag, QKeySequence, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QFileDialog,
    QInputDialog,
    QLineEdit,
    QToolButton,
    QWidget,
)
from window import Turns

from windfell.app.actions import ACTIONS
from windfell.app.demo import demo_project
from windfell.app.session import Session
from windfell.app.window import Window

SLOW_S, LONGEST_S, REPORTED = 0.1, 0.3, 12
LEFT_OUT = {"quit", "export", "full_screen", "open_demo", "new_project"}
TYPED = ("", "0", "-1", "1e9", "nan", "3,5", "2x5", "12 px", "90", "fell", "\u00e4\u2192", "0.001", "360")


def quiet_dialogs() -> None:
    """Whatever would wait for a person answers at once with nothing."""
    for name in ("getOpenFileName", "getSaveFileName", "getOpenFileNames"):
        setattr(QFileDialog, name, staticmethod(lambda *_a, **_k: ("", "")))
    QFileDialog.getExistingDirectory = staticmethod(lambda *_a, **_k: "")
    for name in ("getText", "getItem"):
        setattr(QInputDialog, name, staticmethod(lambda *_a, **_k: ("", False)))
    QDrag.exec = lambda *_a, **_k: Qt.DropAction.IgnoreAction


class Monkey:
    """One window, one seed."""

    def __init__(self, app: Turns, seed: int) -> None:
        self.app, self.rng, self.done, self.errors = app, np.random.default_rng(seed), [], []
        self.session = Session()
        self.window = Window(self.session)
        self.window.resize(1280, 800)
        self.window.show()
        self.session.said.connect(self._said)
        self.session.replace_all(demo_project(), None)

    def _said(self, text: str, _kind: str) -> None:
        if "inside the program" in text:
            self.note(text)

    def note(self, text: str) -> None:
        self.errors.append(f"{text} after {self.done[-4:]}")
        print(self.errors[-1], flush=True)

    def run(self, seconds: float) -> None:
        end = time.monotonic() + seconds
        ways = (self.press, self.drag, self.key, self.wheel, self.undo, self.other_set, self.station, self.type,
                self.pick)
        odds = np.array([5, 5, 4, 2, 2, 0.6, 1.2, 1.5, 0.8])
        while time.monotonic() < end:
            way = ways[int(self.rng.choice(len(ways), p=odds / odds.sum()))]
            way()
            self.app.until(lambda: True, 1)
            pause = time.perf_counter() + float(self.rng.uniform(0.0, 0.05))
            while time.perf_counter() < pause:
                self.app.step()
                time.sleep(0.002)
            popup = QApplication.activePopupWidget() or QApplication.activeModalWidget()
            if popup is not None:
                popup.close()
        self.window.close()

    def widgets(self, kind: type) -> list[QWidget]:
        found = [w for w in self.window.findChildren(kind) if w.isVisible() and w.isEnabled() and w.width() > 3]
        export = self.window.stations["export"]
        return [w for w in found if not export.controls.isAncestorOf(w) and not export.instrument.isAncestorOf(w)]

    def one(self, kind: type) -> QWidget | None:
        found = self.widgets(kind)
        return found[int(self.rng.integers(len(found)))] if found else None

    def somewhere(self, widget: QWidget) -> QPointF:
        return QPointF(self.rng.uniform(0, widget.width()), self.rng.uniform(0, widget.height()))

    def mouse(self, widget: QWidget, kind: QEvent.Type, at: QPointF, button=Qt.MouseButton.LeftButton) -> None:
        held = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseButtonRelease else button
        pressed = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else button
        event = QMouseEvent(kind, at, QPointF(widget.mapToGlobal(at)), pressed, held, Qt.KeyboardModifier.NoModifier)
        self.app.send(widget, event)

    def press(self) -> None:
        button = self.one(QAbstractButton)
        if button is None or (isinstance(button, QToolButton) and button.menu() is not None):
            return
        if button.defaultAction() is not None if isinstance(button, QToolButton) else False:
            return
        self.done.append(f"press {button.text()}")
        at = QPointF(button.width() / 2, button.height() / 2)
        for kind in (QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonRelease):
            if _alive(button):
                self.mouse(button, kind, at)

    def drag(self) -> None:
        widget = self.one(QWidget)
        if widget is None or isinstance(widget, QAbstractButton | QLineEdit | QComboBox):
            return
        self.done.append(f"drag {type(widget).__name__}")
        start, end = self.somewhere(widget), self.somewhere(widget)
        button = Qt.MouseButton.MiddleButton if self.rng.random() < 0.1 else Qt.MouseButton.LeftButton
        self.mouse(widget, QEvent.Type.MouseButtonPress, start, button)
        for n in range(int(self.rng.integers(1, 12))):
            if not _alive(widget):
                return
            self.mouse(widget, QEvent.Type.MouseMove, start + (end - start) * (n / 10), button)
            self.app.step()
        if _alive(widget):
            self.mouse(widget, QEvent.Type.MouseButtonRelease, end, button)

    def wheel(self) -> None:
        widget = self.one(QWidget)
        if widget is None:
            return
        at, turn = self.somewhere(widget), int(self.rng.choice([-240, -120, 120, 240, 960]))
        self.done.append(f"wheel {type(widget).__name__}")
        self.app.send(widget, QWheelEvent(
            at, QPointF(widget.mapToGlobal(at)), QPoint(), QPoint(0, turn), Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))

    def key(self) -> None:
        spec = ACTIONS[int(self.rng.integers(len(ACTIONS)))]
        if spec.name in LEFT_OUT or not self.window.actions_by_name[spec.name].isEnabled():
            return
        self.done.append(f"action {spec.name}")
        if spec.name == "find_command" or "about" in spec.name:
            QTimer.singleShot(50, lambda: [w.close() for w in (QApplication.activeModalWidget(),) if w is not None])
        trigger = self.window.actions_by_name[spec.name].trigger
        trigger() if spec.name in ("find_command", "about") else self.app.timed(spec.name, trigger)

    def undo(self) -> None:
        for _ in range(int(self.rng.integers(1, 5))):
            back = self.rng.random() < 0.6
            self.done.append("undo" if back else "redo")
            self.app.timed("undo", self.session.undo if back else self.session.redo)

    def other_set(self) -> None:
        sets = self.session.project.sets
        if not sets:
            self.session.replace_all(demo_project(), None)
            return
        chosen = sets[int(self.rng.integers(len(sets)))]
        self.done.append(f"set {chosen.name}")
        self.app.timed("another set", lambda: self.session.select_set(chosen.id))

    def station(self) -> None:
        n = int(self.rng.integers(7))
        self.done.append(f"station {n + 1}")
        self.app.timed(f"station {n + 1}", lambda: self.window.go_to_number(n))

    def type(self) -> None:
        field = self.one(QLineEdit)
        if field is None:
            return
        words = TYPED[int(self.rng.integers(len(TYPED)))]
        self.done.append(f"type {words!r} into {field.accessibleName()}")
        field.setText(words)
        self.app.timed(f"typed into {field.accessibleName()}", field.editingFinished.emit)

    def pick(self) -> None:
        box = self.one(QComboBox)
        if box is None or not box.count():
            return
        self.done.append(f"pick in {box.accessibleName()}")
        n = int(self.rng.integers(box.count()))
        box.setCurrentIndex(n)
        self.app.timed(f"picked in {box.accessibleName()}", lambda: box.activated.emit(n))


def _alive(widget: QWidget) -> bool:
    try:
        return widget.isVisible()
    except RuntimeError:
        return False


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=6.0)
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--tiny", action="store_true")
    parser.add_argument("--stalls", action="store_true", help="say where long turns were spent")
    options = parser.parse_args()
    minutes, count = (0.2, 1) if options.tiny else (options.minutes, options.seeds)
    limited(round(60 * minutes * count * 1.5) + 120)
    quiet_dialogs()
    assert QKeySequence("Ctrl+Z").count() == 1
    events, errors, doings = [], [], 0
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as home:
        os.environ["WINDFELL_HOME"] = home
        # what is typed where a file's place is wanted may be written there
        os.chdir(home)
        os.environ["HOME"] = home
        app = Turns()
        if options.stalls:
            app.watch()
        for seed in range(options.first, options.first + count):
            monkey = Monkey(app, seed)
            sys.excepthook = lambda kind, error, trace, m=monkey: m.note(
                "".join(traceback.format_exception(kind, error, trace)))
            app.events.clear()
            monkey.run(60 * minutes)
            slow = [e for e in app.events if e[0] > SLOW_S]
            print(f"seed {seed}: {len(monkey.done)} doings, {len(app.events)} events, {len(slow)} over 100 ms, "
                  f"longest {1000 * max(e[0] for e in app.events):.0f} ms, {len(monkey.errors)} inner errors",
                  flush=True)
            sys.excepthook = sys.__excepthook__
            events += app.events
            errors += monkey.errors
            doings += len(monkey.done)
        log = os.path.join(home, "state", "inner-errors.log")
        kept = open(log).read() if os.path.exists(log) else ""  # noqa: SIM115
    for error in errors[:REPORTED]:
        print(error)
    print(kept[-6000:])
    slowest = sorted(events, key=lambda e: -e[0])[:REPORTED]
    for stack, times in app.stalls.most_common(REPORTED):
        print(f"{times} times, 120 ms into an event: {stack}")
    for seconds, what in slowest:
        print(f"{1000 * seconds:5.0f} ms  {what}")
    slow = sum(e[0] > SLOW_S for e in events)
    print(f"{doings} doings, {len(events)} events: {slow} over 100 ms ({1000 * slow / max(1, len(events)):.2f} in a "
          f"thousand), longest {1000 * slowest[0][0]:.0f} ms, {len(errors) + bool(kept)} inner errors", flush=True)
    os._exit(1 if errors or kept or (not options.tiny and slowest[0][0] > LONGEST_S) else 0)


if __name__ == "__main__":
    main()
