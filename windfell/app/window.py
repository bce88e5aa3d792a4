"""The window: only arranges its parts and carries out actions."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QAction, QColor, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QMenu,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.actions import ACTIONS, HOLD_BEFORE, MENUS, ActionSpec
from windfell.app.area_hand import AreaHand
from windfell.app.before import before_project
from windfell.app.bench import Bench
from windfell.app.deeds import Deeds
from windfell.app.folder_watch import FolderWatch
from windfell.app.frames_column import FramesColumn
from windfell.app.picture.look_around import LookAround
from windfell.app.picture.source import PictureSource
from windfell.app.picture.view import PictureView
from windfell.app.power_watch import PowerWatch
from windfell.app.readiness import Readiness
from windfell.app.registrations import Registrations
from windfell.app.ridge_line import RidgeLine
from windfell.app.session import Session
from windfell.app.station_states import StationStates
from windfell.app.stations.align import Align
from windfell.app.stations.combine import Combine
from windfell.app.stations.export import Export
from windfell.app.stations.finish import Finish
from windfell.app.stations.gather import Gather
from windfell.app.stations.join import Join
from windfell.app.stations.prepare import Prepare
from windfell.app.stations.shape import Shape
from windfell.app.stations.station import Station
from windfell.app.stations.subjects import Subjects
from windfell.app.thumbnails import Thumbnails
from windfell.app.wardrobe import Wardrobe
from windfell.app.widgets.area_bar import AreaBar
from windfell.app.widgets.set_chooser import SetChooser
from windfell.app.widgets.status import StatusLine
from windfell.frames.listing import pictures_among
from windfell.recipe.project_file import SUFFIX


class Window(QMainWindow):
    """Ridge line on top, frames at the left, the picture, the bench below, the status line."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setWindowIcon(theme.app_icon())
        self.setMinimumSize(1100, 700)
        self.setAcceptDrops(True)
        self.thumbnails = Thumbnails(session)
        self.registrations = Registrations(session)
        self.readiness = Readiness(session, self.registrations)
        self.source = PictureSource(session, "picture")
        self.before = PictureSource(session, "before")
        self.view = PictureView(self.source, self.before)
        self.area_bar = AreaBar()
        self.hand = AreaHand(session, self.view, self.area_bar)
        self.hand.picture_of = lambda project: self.station.picture_of(project)
        self.look = LookAround(session)
        self.look.turned.connect(lambda words: self.status.point(words))
        self.looking = False
        self.frames = FramesColumn(session, self.thumbnails)
        self.ridge = RidgeLine()
        self.status = StatusLine(session.desk)
        self.stations: dict[str, Station] = {
            s.name: s for s in (
                Gather(session, self.thumbnails, self.readiness), Prepare(session, self.readiness),
                Align(session, self.registrations, self.thumbnails, self.area_bar),
                Shape(session, self.view), Join(session, self.view, self.hand),
                Combine(session, self.view, self.hand), Subjects(session, self.view, self.hand),
                Finish(session, self.view, self.hand), Export(session, self.view),
            )
        }
        self.deeds = Deeds(self)
        self.watch = FolderWatch(session, self.stations["export"].queue)
        self.watch.changed.connect(self._show_watching)
        self.power_watch = PowerWatch(session, self.stations["export"].queue)
        self._open: str | None = None
        self._states = StationStates(
            session, self.ridge, self.source, self.readiness, self.registrations, self.stations)
        self.actions_by_name: dict[str, QAction] = {}
        self._make_actions()
        self._arrange()
        self._connect()
        self.retheme()
        self.use_surround()
        self.refresh()
        if session.settings_fault:
            self.status.say(session.settings_fault, "wrong")
        self.stations["gather"].page.demo.setFocus()

    def _arrange(self) -> None:
        top = QWidget()
        top.setObjectName("ridge")
        row = QHBoxLayout(top)
        row.setContentsMargins(14, 2, 14, 2)
        row.setSpacing(8)
        self.chooser = SetChooser()
        row.addWidget(self.chooser)
        row.addWidget(self.ridge, 1)
        self.undo_button, self.redo_button = QToolButton(), QToolButton()
        for button, name in ((self.undo_button, "undo"), (self.redo_button, "redo")):
            button.setDefaultAction(self.actions_by_name[name])
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setProperty("bare", True)
            row.addWidget(button)
        self.menu_button = QToolButton(text="Menu")
        self.menu_button.setToolTip("All actions; F3 finds one by its words")
        self.menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu_button.setMenu(self._menu(top))
        row.addWidget(self.menu_button)

        self.pages = QStackedWidget()
        self.pages.addWidget(self.view)
        self.pages.addWidget(self.look)
        for station in self.stations.values():
            if station.page is not None:
                self.pages.addWidget(station.page)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self.frames)
        sheet = QVBoxLayout()
        sheet.setSpacing(0)
        sheet.addWidget(self.area_bar)
        sheet.addWidget(self.pages, 1)
        middle.addLayout(sheet, 1)

        self.bench = Bench(self.stations.values())
        self.bench.fold_asked.connect(lambda: self.do("fold_bench"))

        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(top)
        column.addLayout(middle, 1)
        column.addWidget(self.bench)
        column.addWidget(self.status)
        self.setCentralWidget(whole)
        stations = self.stations.values()
        self.wardrobe = Wardrobe(self, lambda: (
            top, self.frames, self.area_bar, self.bench.grip, self.bench.rows, self.status, self.view,
            *(part for s in stations for part in s.dressed())))

    def _make_actions(self) -> None:
        for spec in ACTIONS:
            action = QAction(spec.words, self)
            if spec.keys:
                action.setShortcuts([QKeySequence(k) for k in spec.keys])
            action.triggered.connect(lambda _=False, name=spec.name: self.do(name))
            self.actions_by_name[spec.name] = action
            self.addAction(action)
        for n in range(8):
            action = QAction(f"Station {n + 1}", self)
            action.setShortcut(QKeySequence(str(n + 1)))
            action.triggered.connect(lambda _=False, at=n: self.go_to_number(at))
            self.addAction(action)

    def _menu(self, parent: QWidget) -> QMenu:
        menu = QMenu(parent)
        for title in MENUS:
            part = menu.addMenu(title)
            for spec in ACTIONS:
                if spec.menu == title:
                    part.addAction(self.actions_by_name[spec.name])
            if title == "Project":
                self._recent_menu = part.addMenu("Recent projects")
                self._recent_menu.aboutToShow.connect(lambda: self.deeds.fill_recent(self._recent_menu))
        return menu

    def _connect(self) -> None:
        s = self.session
        s.changed.connect(self.refresh)
        s.rested.connect(self._rested)
        s.selected.connect(self._selection_changed)
        s.station_changed.connect(self.refresh)
        s.said.connect(self.status.say)
        self.registrations.arrived.connect(self._refresh_words)
        self.registrations.looked_again.connect(self.source.again)
        self.registrations.looked_again.connect(self.thumbnails.look_again)
        self.readiness.arrived.connect(self._refresh_words)
        self.source.arrived.connect(self._picture_arrived)
        self.view.pointed.connect(self.status.point)
        self.view.zoomed.connect(self.status.show_zoom)
        for pane in (self.stations["prepare"].view, *self.stations["align"].points.panes):
            pane.pointed.connect(self.status.point)
            pane.zoomed.connect(self.status.show_zoom)
        self.view.looked.connect(self._show_before)
        self.ridge.asked.connect(s.go)
        self.chooser.activated.connect(lambda n: s.select_set(self.chooser.itemData(n)))
        self.status.stop.clicked.connect(lambda: self.do("stop"))
        gather, behind = self.stations["gather"], self.stations["join"].behind
        for button, name in ((behind.lay, "lay_behind"), (behind.place, "place_behind"),
                             (gather.add, "add_frames"), (gather.folder, "add_folder"),
                             (gather.page.add, "add_frames"), (gather.page.demo, "open_demo"),
                             (gather.nest, "nest_set"), (gather.behind, "lay_behind"),
                             (gather.watch, "watch_folder")):
            button.clicked.connect(lambda _=False, n=name: self.do(n))
        self.stations["export"].browse.clicked.connect(self.deeds.browse_output)

    def _show_watching(self) -> None:
        self.stations["gather"].watch.setText("Watch no longer" if self.watch.on else "Watch a folder…")

    def do(self, name: str) -> None:
        """Carry out an action of the table."""
        getattr(self.deeds, f"on_{name}")()

    @property
    def station(self) -> Station:
        return self.stations[self.session.station]

    def go_to_number(self, n: int) -> None:
        if n < len(self.session.stations):
            self.session.go(self.session.stations[n])

    def refresh(self) -> None:
        """Show everything as the recipe is now; while a control is dragged only what it changes."""
        s = self.session
        if s.dragging and self._open == s.station:
            self.station.refresh()
            self._show_picture()
            return
        if self._open != s.station:
            if self._open:
                self.stations[self._open].left()
            self._open = s.station
            self.station.entered()
        self.chooser.show_sets(s.project, s.set_id)
        self.station.refresh()
        self.looking = self.looking and self.station.page is None and self.look.possible
        self.pages.setCurrentWidget(self.look if self.looking else self.station.page or self.view)
        if self.looking:
            self.look.show_now()
        self.bench.show_station(self.station)
        self.frames.setVisible(s.station != "gather" and s.frame_set is not None)
        self._show_picture()
        self._refresh_words()

    def _rested(self) -> None:
        if self.session.history.continues:
            self._refresh_words()

    def _show_picture(self) -> None:
        s = self.session
        self.view.teach = "" if s.frame_set else "Nothing here yet. Gather frames first (key 1)."
        if s.frame_set is None:
            self.source.clear()
        elif self.shows_picture:
            self.source.show(self.station.picture_of(s.project), s.set_id)
            self._show_before()

    @property
    def shows_picture(self) -> bool:
        """Whether the station shows the set's picture; at others it is not made."""
        return self.station.page is None

    def _show_before(self) -> None:
        s = self.session
        if self.view.wants_before and s.frame_set is not None:
            other = self.station.held_against(s.project)
            shown, self.view.tags = other or (before_project(s.project, s.set_id), ("before", "now"))
            self.before.show(shown, s.set_id)

    def _refresh_words(self) -> None:
        s, act = self.session, self.actions_by_name
        for name, words in (("undo", s.history.undo_words), ("redo", s.history.redo_words)):
            title = name.capitalize()
            act[name].setText(f"{title}: {words}" if words else title)
            act[name].setIconText(title)
            act[name].setEnabled(words is not None)
            act[name].setToolTip(f"{title}: {words}" if words else f"Nothing to {name}")
        for spec in ACTIONS:
            if spec.name in ("undo", "redo"):
                continue
            act[spec.name].setEnabled(not self._lacking(spec))
        self._write_notes()
        self._states.show()
        name = Path(s.path).stem if s.path else "New project"
        self.setWindowTitle(f"{name}{' *' if s.unsaved and s.project.sets else ''} — Windfell")

    def why_not(self, action: QAction) -> str:
        """Why an action cannot be carried out now, in a few words."""
        name = next((n for n, a in self.actions_by_name.items() if a is action), "")
        if name in ("undo", "redo"):
            return f"nothing to {name}"
        spec = next((x for x in ACTIONS if x.name == name), None)
        return "" if spec is None else self._lacking(spec)

    def _lacking(self, spec: ActionSpec) -> str:
        s = self.session
        return spec.lacking(s.frame_set is not None, s.frame_id is not None, s.station)

    def _write_notes(self) -> None:
        s = self.session
        if s.frame_set is None:
            return
        notes = {"join": self.stations["join"].note, "prepare": self.readiness.note}
        note = notes.get(s.station, self.registrations.note)
        self.frames.set_notes({f.id: note(f.id) for f in s.frame_set.frames})

    def _selection_changed(self) -> None:
        self.station.refresh()
        self._refresh_words()

    def _picture_arrived(self) -> None:
        if self.shows_picture:
            self.status.show_zoom(self.view.zoom)
        if self.session.dragging:
            return
        if self.session.station in ("shape", "combine"):
            self.station.refresh()
        self._states.show()

    @property
    def settled(self) -> bool:
        """Whether all that is on the screen has arrived."""
        s = self.session
        if s.frame_set is None:
            return not s.desk.busy and not s.moving
        shows_before = not self.view.wants_before or self.before.settled
        made = self.source.settled or not self.shows_picture
        return (made and self.station.settled and self.thumbnails.settled
                and not self.registrations.waiting and not self.readiness.waiting and shows_before
                and not s.desk.busy and not s.moving and self.wardrobe.settled)

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        self.open_paths([u.toLocalFile() for u in event.mimeData().urls() if u.isLocalFile()])

    def open_paths(self, paths: list[str]) -> None:
        """Projects are opened, pictures and folders gathered."""
        projects = [p for p in paths if p.endswith(SUFFIX)]
        if projects:
            self.session.open_project(projects[0])
            return
        s = self.session

        def gathered(files: list[str]) -> None:
            if files:
                s.add_files(files)
                s.go("gather")
            else:
                s.say(f"{paths[0]}: there are no pictures or videos in it.", "wrong")

        # a folder of a network may take its time
        s.desk.ask("dropped files", lambda _: pictures_among(paths), gathered, lambda words: s.say(words, "wrong"),
                   quiet=True, soon=True)

    def showEvent(self, event) -> None:
        # the native window's events only: whoever watches the application is asked about every event of every widget
        self.windowHandle().installEventFilter(self)
        super().showEvent(event)

    def eventFilter(self, watched, event) -> bool:
        kind = event.type()
        if kind in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease) and not event.isAutoRepeat():
            typing = isinstance(QApplication.focusWidget(), QLineEdit)
            if event.key() == QKeySequence(HOLD_BEFORE)[0].key() and not typing and not event.modifiers():
                self.view.hold_before(kind == QEvent.Type.KeyPress)
                return True
        return super().eventFilter(watched, event)

    def closeEvent(self, event) -> None:
        self.session.close()
        event.accept()

    def use_surround(self) -> None:
        """The grey around pictures that the settings want."""
        grey = self.session.settings.surround
        self.view.surround = None if grey is None else QColor(grey, grey, grey).name()
        self.view.update()

    def retheme(self) -> None:
        """What holds colours of its own takes the theme's: the actions' icons, the status line."""
        self.status.retheme()
        for name, icon in (("undo", "undo-2"), ("redo", "redo-2"), ("find_command", "search"),
                           ("add_frames", "image-plus"), ("add_folder", "folder-open"),
                           ("export", "download"), ("stop", "octagon-x"), ("fit", "scan")):
            self.actions_by_name[name].setIcon(theme.icon(icon))
