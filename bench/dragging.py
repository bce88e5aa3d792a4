"""What the window shows while a hand drags: new pictures a second, how soon the last state stands there
coarse and sharp, and the longest event of the window, at every station with rulers or dragging.

A real window (on the offscreen platform unless QT_QPA_PLATFORM says otherwise) is driven by mouse events every
16 ms. Wanted: 20 pictures a second, coarse within 150 ms, sharp within 1 s, no event over 50 ms.
Usage: dragging.py [--tiny] [--seconds 3] [--large] [--only WORD]; --large adds eight frames of 24 megapixels.
"""

from __future__ import annotations

import argparse
import math
import os
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from common import frames_of, limited
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QWidget
from window import Turns

from windfell.app.demo import demo_project
from windfell.app.session import Session
from windfell.app.window import Window
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

STEP_S = 0.016
REST_LIMIT_S = 6.0
LEAST, PATIENCE_S = 3, 30.0
SETTLE_LIMIT_S = 300.0


@dataclass
class Drag:
    """What one drag gave."""

    title: str
    seconds: float = 0.0
    pictures: int = 0
    coarse_s: float = float("nan")
    sharp_s: float = float("nan")
    events: list = field(default_factory=list)

    @property
    def rate(self) -> float:
        return self.pictures / max(self.seconds, 1e-9)

    @property
    def slow(self) -> int:
        return sum(s > 0.05 for s, *_ in self.events)

    def words(self) -> str:
        longest = max(self.events, default=(0.0, ""))
        return (f"{self.title:<50} {self.rate:5.1f} /s  coarse {1000 * self.coarse_s:4.0f} ms  sharp "
                f"{self.sharp_s:5.2f} s  longest event {1000 * longest[0]:3.0f} ms ({longest[1]}), "
                f"{self.slow} over 50 ms")


class Hand:
    """Drives one window."""

    def __init__(self, app: Turns, window: Window, seconds: float, least: int = 0) -> None:
        """`least`: a drag goes on until so many pictures came, but not for ever."""
        self.app, self.window, self.seconds, self.least = app, window, seconds, least

    def settle(self) -> None:
        calm = [0]

        def rests() -> bool:
            calm[0] = calm[0] + 1 if self.window.settled else 0
            return calm[0] > 40

        if math.isnan(self.app.until(rests, SETTLE_LIMIT_S)):
            raise SystemExit("the window did not come to rest")

    def mouse(self, widget: QWidget, kind: QEvent.Type, at: QPointF, pressed=Qt.MouseButton.LeftButton) -> None:
        none = Qt.MouseButton.NoButton
        held = none if kind == QEvent.Type.MouseButtonRelease else pressed
        button = none if kind == QEvent.Type.MouseMove else pressed
        event = QMouseEvent(kind, at, widget.mapToGlobal(at), button, held, Qt.KeyboardModifier.NoModifier)
        self.app.send(widget, event)

    def drag(self, title: str, widget: QWidget, start: QPointF, end: QPointF, shown: Callable[[], object],
             newest: Callable[[], bool], sharp: Callable[[], bool], pressed=Qt.MouseButton.LeftButton) -> Drag:
        """Drag there and back for so many seconds. `shown` tells one picture from the next."""
        self.settle()
        out, last = Drag(title), shown()
        self.mouse(widget, QEvent.Type.MouseButtonPress, start, pressed)
        self.app.events.clear()
        begun = time.perf_counter()
        n = 0
        while (now := time.perf_counter() - begun) < self.seconds or (
                out.pictures < self.least and now < PATIENCE_S):
            if now >= n * STEP_S:
                n += 1
                t = abs((0.31 * now) % 2 - 1)
                self.mouse(widget, QEvent.Type.MouseMove, end + (start - end) * t, pressed)
            self.app.step()
            if shown() is not last:
                last = shown()
                out.pictures += 1
            time.sleep(0.001)
        out.seconds = time.perf_counter() - begun
        self.mouse(widget, QEvent.Type.MouseButtonRelease, end, pressed)
        rest = time.perf_counter()
        out.coarse_s = self.app.until(newest, REST_LIMIT_S)
        self.app.until(sharp, REST_LIMIT_S)
        out.sharp_s = time.perf_counter() - rest
        out.events = list(self.app.events)
        print(out.words(), flush=True)
        return out

    def paint_count(self, widget: QWidget) -> Callable[[], object]:
        """Tells one painting of a widget from the next."""
        counter = _Paints(widget)
        return lambda: counter.last


class _Paints:
    def __init__(self, widget: QWidget) -> None:
        self.last = object()
        inner = widget.paintEvent

        def paint(event) -> None:
            inner(event)
            self.last = object()

        widget.paintEvent = paint


def ruler_drag(hand: Hand, title: str, ruler, source, span: tuple[float, float] = (0.3, 0.7)) -> Drag:
    """`span`: the shares of its line between which it is dragged, wide enough for 20 values a second."""
    line = ruler._line
    y = line.height() / 2
    session = hand.window.session

    def newest() -> bool:
        return source.shown is not None and source.newest

    return hand.drag(title, line, QPointF(line.width() * span[0], y), QPointF(line.width() * span[1], y),
                     lambda: source.shown, newest, lambda: source.sharp and session is not None)


def panorama_drags(hand: Hand, name: str) -> list[Drag]:
    window = hand.window
    session, out = window.session, []
    session.go("shape")
    for path in ("view.yaw_deg", "view.pitch_deg"):
        ruler = window.stations["shape"].rulers[path]
        out.append(ruler_drag(hand, f"{name}: Shape, {path[5:-4]} ruler", ruler, window.source))
    window.stations["shape"].set_drag("turns")
    view, middle = window.view, QPointF(window.view.width() / 2, window.view.height() / 2)
    out.append(hand.drag(f"{name}: Shape, the picture dragged", view, middle, middle + QPointF(120, 20),
                         lambda: window.source.shown, lambda: window.source.newest, lambda: window.source.sharp))
    window.stations["shape"].set_drag("moves")
    session.go("join")
    out.append(ruler_drag(hand, f"{name}: Join, blend ruler", window.stations["join"].blend, window.source,
                          (0.1, 0.95)))
    out += pair_drags(hand, name)
    return out + prepare_drags(hand, name)


def few_drags(hand: Hand, name: str) -> list[Drag]:
    """One of a ruler, and those of a pair: that all of it still runs."""
    ruler = hand.window.stations["shape"].rulers["view.yaw_deg"]
    return [ruler_drag(hand, f"{name}: Shape, yaw ruler", ruler, hand.window.source), *pair_drags(hand, name)]


def pair_drags(hand: Hand, name: str) -> list[Drag]:
    """Two frames side by side: moved, and a control point dragged in one of them."""
    window = hand.window
    align = window.stations["align"]
    window.session.go("align")
    align.shown.press("points")
    hand.settle()
    pane = align.points.panes[0]
    middle = QPointF(pane.width() / 2, pane.height() / 2)
    out = []
    if pane.marks:
        mark = min(pane.marks, key=lambda m: abs(m.x - pane.source.shown.width / 2))
        at = pane.to_view(mark.x, mark.y)
        out.append(hand.drag(f"{name}: Align, a control point dragged", pane, at, at + QPointF(14, 10),
                             hand.paint_count(pane), lambda: not window.registrations.waiting,
                             lambda: window.settled))
    out.append(hand.drag(f"{name}: Align, two frames moved", pane, middle, middle + QPointF(40, 30),
                         hand.paint_count(pane), lambda: True, lambda: True, Qt.MouseButton.MiddleButton))
    while window.session.history.undo_words:
        window.session.undo()
    align.shown.press("map")
    return out


def prepare_drags(hand: Hand, name: str) -> list[Drag]:
    window = hand.window
    window.session.go("prepare")
    prepare, out = window.stations["prepare"], []
    hand.settle()
    for all_frames in (False, True):
        prepare.development.for_all.setChecked(all_frames)
        for key in ("exposure_ev", "shadows_pct", "local_contrast_pct"):
            prepare.open_tab({"exposure_ev": "light", "shadows_pct": "tone"}.get(key, "detail"))
            title = f"{name}: Prepare, {key.rpartition('_')[0].replace('_', ' ')}" + ", all frames" * all_frames
            out.append(ruler_drag(hand, title, prepare.development.rulers[key], prepare.first))
    return out


def stack_drags(hand: Hand, name: str) -> list[Drag]:
    window = hand.window
    window.session.go("combine")
    window.view.set_compare("divide")
    hand.settle()
    view = window.view
    rect = view.picture_rect()
    at = QPointF(rect.x() + view.divide * rect.width(), rect.center().y())
    count = hand.paint_count(view)
    out = [hand.drag(f"{name}: Combine, the divide moved", view, at, at + QPointF(200, 0), count,
                     lambda: True, lambda: True)]
    window.view.set_compare("off")
    return out + prepare_drags(hand, name)


def large_project() -> Project:
    frames = tuple(frame_from_path(p) for p in frames_of("ridge-sweep"))
    return Project((FrameSet("large", "Ridge sweep, 24 MP", Kind.PANORAMA, frames),))


def tiny_project() -> Project:
    """The row of the demo alone."""
    return Project(tuple(s for s in demo_project().sets if s.id == "demo-ridge-sweep"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--tiny", action="store_true")
    parser.add_argument("--large", action="store_true")
    parser.add_argument("--seconds", type=float, default=3.0)
    parser.add_argument("--only", default="", help="sets whose name holds this word")
    options = parser.parse_args()
    limited(300 if options.tiny else 1500)
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as home:
        os.environ["WINDFELL_HOME"] = home
        drags = dragged_all(Turns(), options)
    rates = [d.rate for d in drags]
    print(f"{len(drags)} drags: {sum(r >= 20 for r in rates)} with 20 pictures a second or more, least "
          f"{min(rates):.1f}; {sum(d.coarse_s <= 0.15 for d in drags)} coarse within 150 ms; "
          f"{sum(d.sharp_s <= 1 for d in drags)} sharp within 1 s; "
          f"{sum(d.slow == 0 for d in drags)} without an event over 50 ms")
    sys.stdout.flush()
    os._exit(0 if all(d.pictures >= (LEAST if options.tiny else 1) for d in drags) else 1)


def dragged_all(app: Turns, options: argparse.Namespace) -> list[Drag]:
    projects = [tiny_project()] if options.tiny else [demo_project()]
    if options.large:
        projects.append(large_project())
    out = []
    for project in projects:
        session = Session()
        window = Window(session)
        window.resize(1280, 800)
        window.show()
        hand = Hand(app, window, 0.6 if options.tiny else options.seconds, LEAST * options.tiny)
        session.replace_all(project, None)
        for frame_set in project.sets:
            if options.only.lower() not in frame_set.name.lower():
                continue
            session.select_set(frame_set.id)
            session.go("shape" if frame_set.kind is Kind.PANORAMA else "combine")
            hand.settle()
            drags = few_drags if options.tiny else (
                panorama_drags if frame_set.kind is Kind.PANORAMA else stack_drags)
            out += drags(hand, frame_set.name)
        window.close()
    return out


if __name__ == "__main__":
    assert Path(__file__).exists()
    main()
