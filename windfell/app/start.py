"""Starting the window: arguments, typefaces, what to open, and the screenshot mode."""

from __future__ import annotations

import argparse
import os
import signal
import sys
import time
from pathlib import Path

from PySide6.QtCore import QPointF, QTimer
from PySide6.QtGui import QPixmapCache
from PySide6.QtWidgets import QApplication

from windfell.app import theme
from windfell.app.demo import demo_masks, demo_project
from windfell.app.garbage import InterfaceThreadCollector
from windfell.app.screen import SCREEN
from windfell.app.session import Session
from windfell.app.window import Window
from windfell.cache import prune
from windfell.engine.area_pictures import ground_at
from windfell.engine.settings import MB, cache_folder
from windfell.errors import WindfellError
from windfell.job import Job
from windfell.recipe.areas import Area, Stroke
from windfell.recipe.combining import Layer, Over, Rule
from windfell.recipe.edits import Edit
from windfell.recipe.giving import with_given
from windfell.recipe.outline import Edges
from windfell.recipe.output import Format
from windfell.recipe.pile import add_layer, lights_over_base, with_region

SETTLE_LIMIT_S = 180.0
SWITCH_S = 0.0001
KEPT_PAINTINGS_KB = 64 * 1024


def run(arguments: list[str]) -> int:
    """Open the window; answers the exit status."""
    options = _parsed(arguments)
    if not any(os.environ.get(n) for n in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        if not options.screenshot:
            print("windfell: there is no display for the window; use ./start for a virtual one, or a "
                  "headless command (windfell --help).", file=sys.stderr)
            return 2
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    app = application()
    session = Session()
    theme.apply(app, theme.THEMES[(options.theme or session.settings.theme).capitalize()])
    _use_screen(session)
    window = Window(session)
    window.resize(*options.size)
    window.show()
    if options.files:
        window.open_paths(options.files)
    elif options.demo or options.screenshot:
        session.replace_all(demo_project(), None, demo_masks())
        session.go("shape")
    else:
        session.recover()
    if options.screenshot:
        return _screenshot(app, window, options)
    QTimer.singleShot(5000, lambda: prune(cache_folder(), session.settings.disk_mb * MB))
    signal.signal(signal.SIGINT, lambda *_: window.close())
    waker = QTimer(interval=300)
    waker.timeout.connect(lambda: None)
    waker.start()
    return app.exec()


def _use_screen(session: Session) -> None:
    """Honour the screen's profile, if it can still be read."""
    try:
        SCREEN.use(session.settings.screen_profile)
    except WindfellError as error:
        session.settings_fault = str(error)


def application() -> QApplication:
    """The Qt application with typefaces loaded."""
    app = QApplication.instance()
    if app is None:
        app = QApplication(["windfell"])
        # whoever paints asks for the interpreter again and again: it must not wait 5 ms for it each time
        sys.setswitchinterval(SWITCH_S)
        QPixmapCache.setCacheLimit(KEPT_PAINTINGS_KB)
        InterfaceThreadCollector(app)
    app.setApplicationName("windfell")
    app.setApplicationDisplayName("Windfell")
    app.setDesktopFileName("windfell")
    theme.load_fonts()
    return app


def _parsed(arguments: list[str]) -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="windfell", description="Open the window.")
    parser.add_argument("files", nargs="*", metavar="FILE or PROJECT")
    parser.add_argument("--demo", action="store_true", help="open the demo")
    parser.add_argument("--screenshot", metavar="OUT.png", help="show, save a picture of it, end")
    parser.add_argument("--station", help="gather, prepare, align, shape, join, combine, subjects, finish or export")
    parser.add_argument("--frame", type=int, metavar="N", help="choose the set's N-th frame")
    parser.add_argument("--points", action="store_true", help="at align: two frames with their points")
    parser.add_argument("--pulled", action="store_true", help="at shape: the outline pulled, with what it costs")
    parser.add_argument("--shown", choices=("own", "flat-view", "pile", "core", "shelf", "matte", "best", "values",
                                            "repairs", "queue", "inside"),
                        help="a frame's area, the flat view; the pile, the core; the shelf, a matte, the best of a "
                             "group; a finish with its areas, its repairs; the queue; the sets inside one")
    parser.add_argument("--set", help="a set by its name")
    parser.add_argument("--theme", choices=[n.lower() for n in theme.THEMES],
                        help="of the window; else that of the settings")
    parser.add_argument("--size", type=_size, default=(1280, 800), metavar="WxH", help="of the window")
    return parser.parse_args(arguments)


def _size(text: str) -> tuple[int, int]:
    wide, _, high = text.partition("x")
    return int(wide), int(high)


def _screenshot(app: QApplication, window: Window, options: argparse.Namespace) -> int:
    session = window.session
    settle(app, window)
    if options.set:
        wanted = options.set.lower().replace(" ", "-")
        found = [s for s in session.project.sets if s.name.lower().replace(" ", "-") == wanted]
        if not found:
            print(f"windfell: there is no set named {options.set}.", file=sys.stderr)
            return 2
        session.select_set(found[0].id)
    if options.frame and session.frame_set and 0 < options.frame <= len(session.frame_set.frames):
        session.select_frame(session.frame_set.frames[options.frame - 1].id)
    if options.station:
        if options.station not in session.stations:
            print(f"windfell: this set has no station {options.station}; it has "
                  f"{', '.join(session.stations)}.", file=sys.stderr)
            return 2
        session.go(options.station)
    if options.points and session.station == "align":
        align = window.stations["align"]
        align.show_page("points")
        settle(app, window)
        align.points.go_to_worst()
    if options.pulled and session.station == "shape":
        window.stations["shape"].open_tab("outline")
        session.change("outline.edges", Edges.PULL, True)
    if session.station == "join":
        settle(app, window)
        window.stations["join"].walk.step(1)
        settle(app, window)
        window.view.fit()
    if options.shown:
        settle(app, window)
        _show(app, window, options.shown)
    if not settle(app, window):
        print("windfell: the picture did not settle in time.", file=sys.stderr)
        return 3
    saved = window.grab().save(str(Path(options.screenshot)))
    window.close()
    if not saved:
        print(f"windfell: {options.screenshot}: it could not be written.", file=sys.stderr)
        return 2
    return 0


def _show(app: QApplication, window: Window, what: str) -> None:
    """Bring a page to the screen as somebody at work has it."""
    by_hand = {"join": _show_join, "gather": _show_gather, "export": _show_export, "subjects": _show_subjects,
               "finish": _show_finish, "combine": _show_combine}
    if window.session.station in by_hand:
        by_hand[window.session.station](app, window, what)


def _show_join(app: QApplication, window: Window, what: str) -> None:
    session, own, join = window.session, window.session.frame_set, window.stations["join"]
    if what == "flat-view":
        join.open_page("mend")
        join.flat.on.setChecked(True)
        return
    frame = own.used[len(own.used) // 2]
    session.select_frame(frame.id)
    join.open_page("own")
    settle(app, window)
    across = [(0.50, 0.35), (0.51, 0.5), (0.50, 0.66)]
    points = ground_at(session.engine.stages(session.project, own.id), across, Job())
    area = Area((Stroke(points, 6.0),))
    session.edit(Edit("paint", with_given(session.project, own.id, frame.id, True, area)))
    join.own.paint(True)


def _show_gather(_app: QApplication, window: Window, _what: str) -> None:
    lanes = window.stations["gather"].page.board.lanes
    next(x for x in lanes if x.set_id == window.session.set_id).fold.click()


def _show_export(app: QApplication, window: Window, _what: str) -> None:
    session, own, export = window.session, window.session.frame_set, window.stations["export"]
    export.outputs.tick("Web", True)
    export.add()
    session.select_set("demo-tarn-round")
    session.change("output.format", Format.HTML, True)
    settle(app, window)
    export.add()
    session.undo()
    session.select_set(own.id)


def _show_subjects(app: QApplication, window: Window, what: str) -> None:
    subjects = window.stations["subjects"]
    if what == "shelf":
        subjects.deeds.take_suggested()
        subjects.view.hold(subjects.offered[4])
        return
    if what == "matte":
        subjects.deeds.take_all()
        subjects.open_view("conflicts")
        subjects.controls_of.alone.click()
        subjects.view.hold(subjects.offered[3])
        return
    subjects.open_view("best")
    subjects.deeds.put_behind(window.session.frame_set.frames[0].id)
    subjects.spot.pressed.emit(QPointF(0.221, 0.51))
    settle(app, window)
    subjects.best.lay(3)


def _show_finish(app: QApplication, window: Window, what: str) -> None:
    finish = window.stations["finish"]
    settle(app, window)
    finish.open_view(what)
    finish.list.setCurrentRow(1)
    if what == "values":
        finish.area.click()


def _show_combine(_app: QApplication, window: Window, what: str) -> None:
    session, own, combine = window.session, window.session.frame_set, window.stations["combine"]
    combine.open_view("core" if what == "core" else "pile")
    width, height = session.engine.size(session.project, own.id, Job())
    if what == "core":
        combine.core.look_at(QPointF(0.4, 0.65), pin=True)
        combine.core.look_at(QPointF(0.53, 0.6))
        return
    across = tuple((width * x, 0.51 * height) for x in (0.15, 0.35, 0.55, 0.8))
    first = own.frames[0]
    session.edit(lights_over_base(session.project, own.id, first.id, Rule.MAXIMUM))
    area = Area((Stroke(across, 0.14 * height),))
    session.edit(Edit("paint", with_region(session.project, own.id, area)))
    layer = Layer(frames=(own.frames[-1].id,), name="Last boats, dimmer", over=Over.LIGHTER, exposure_ev=-1.0)
    session.edit(add_layer(session.project, own.id, layer))
    combine.pile.take_region()


def settle(app: QApplication, window: Window, limit_s: float = SETTLE_LIMIT_S) -> bool:
    """Let the window work until all that is on the screen has arrived."""
    end = time.monotonic() + limit_s
    calm = 0
    while time.monotonic() < end:
        app.processEvents()
        calm = calm + 1 if window.settled else 0
        if calm >= 12:
            return True
        time.sleep(0.02)
    return False
