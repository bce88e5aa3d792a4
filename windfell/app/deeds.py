"""What each action of the table does. Methods are named `on_` and the action's name."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QMessageBox

from windfell import __version__
from windfell.app import theme
from windfell.app.demo import demo_masks, demo_project
from windfell.app.set_deeds import SetDeeds
from windfell.app.widgets.finder import CommandFinder
from windfell.app.widgets.help_window import HelpWindow
from windfell.app.widgets.settings_window import SettingsWindow
from windfell.engine.settings import Look
from windfell.frames.metadata import ENDINGS
from windfell.frames.video import VIDEO_ENDINGS
from windfell.recipe import edits
from windfell.recipe.model import Camera, Kind, Project
from windfell.recipe.outline import Edges
from windfell.recipe.project_file import SUFFIX

PICTURES = "Pictures and videos (" + " ".join(
    f"*{e} *{e.upper()}" for e in (*ENDINGS, *VIDEO_ENDINGS)) + ");;All files (*)"


class Deeds(SetDeeds):
    """Carries out the window's actions."""

    def __init__(self, window: Any) -> None:
        super().__init__(window)
        self.view = window.view
        self.help: HelpWindow | None = None
        self.settings: SettingsWindow | None = None
        self.session.set_up.connect(self._set_up)

    def on_new_project(self) -> None:
        self.session.replace_all(Project(), None)
        self.session.go("gather")

    def on_open_project(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self.window, "Open project", "", f"Windfell projects (*{SUFFIX})")
        if path:
            self.session.open_project(path)

    def on_save(self) -> None:
        if self.session.path:
            self.session.save_to(self.session.path)
        else:
            self.on_save_as()

    def on_save_as(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self.window, "Save project", "", f"Windfell projects (*{SUFFIX})")
        if path:
            self.session.save_to(path)

    def on_point_to_missing(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.window, "Where are the missing frames?")
        if folder:
            self.session.point_to(folder)
            self.window.thumbnails.forget()
            self.window.source.again()

    def fill_recent(self, menu: QMenu) -> None:
        """The recent projects that still exist."""
        menu.clear()
        for path in self.session.recent():
            menu.addAction(path, lambda p=path: self.session.open_project(p))
        if menu.isEmpty():
            menu.addAction("None yet").setEnabled(False)

    def on_open_demo(self) -> None:
        self.session.replace_all(demo_project(), None, demo_masks())
        self.session.go("shape")

    def on_add_frames(self) -> None:
        paths, _ = QFileDialog.getOpenFileNames(self.window, "Add frames", "", PICTURES)
        if paths:
            self.window.open_paths(paths)

    def on_add_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.window, "Choose a folder of frames")
        if folder:
            self.window.open_paths([folder])

    def on_quit(self) -> None:
        self.window.close()

    def on_undo(self) -> None:
        self.session.undo()

    def on_redo(self) -> None:
        self.session.redo()

    def on_switch_frame(self) -> None:
        s = self.session
        if s.frame_set and s.frame_id:
            on = s.frame_set.frame(s.frame_id).on
            s.edit(edits.switch_frame(s.project, s.set_id, s.frame_id, not on))

    def on_remove_frame(self) -> None:
        s = self.session
        if s.frame_set and s.frame_id:
            gone, s.frame_id = s.frame_id, None
            s.edit(edits.remove_frame(s.project, s.set_id, gone))

    def on_next_frame(self) -> None:
        self._step_frame(1)

    def on_previous_frame(self) -> None:
        self._step_frame(-1)

    def _step_frame(self, step: int) -> None:
        s = self.session
        ids = [f.id for f in s.frame_set.frames] if s.frame_set else []
        if ids:
            at = ids.index(s.frame_id) + step if s.frame_id in ids else 0
            s.select_frame(ids[at % len(ids)])

    def on_vary_set(self) -> None:
        self.window.stations["gather"].vary.click()

    def on_next_set(self) -> None:
        s = self.session
        ids = [x.id for x in s.project.sets]
        if ids:
            s.select_set(ids[(ids.index(s.set_id) + 1) % len(ids)])

    def on_fit(self) -> None:
        self.view.toggle_fit()

    def on_zoom_in(self) -> None:
        self.view.step_zoom(1.5)

    def on_zoom_out(self) -> None:
        self.view.step_zoom(1 / 1.5)

    def on_compare_off(self) -> None:
        self.view.set_compare("off")

    def on_compare_divide(self) -> None:
        self._toggle_compare("divide")

    def on_compare_blink(self) -> None:
        self._toggle_compare("blink")

    def on_compare_ghost(self) -> None:
        self._toggle_compare("ghost")

    def on_compare_difference(self) -> None:
        self._toggle_compare("difference")

    def _toggle_compare(self, mode: str) -> None:
        self.view.set_compare("off" if self.view.compare == mode else mode)
        against = self.window.station.held_against(self.session.project)
        if against is not None:
            self.session.say(f"Compare: {self.view.compare}. {' against '.join(reversed(against[1]))}.")
            return
        panorama = self.session.frame_set.kind is Kind.PANORAMA
        before = "frames laid side by side without joining" if panorama else "the reference frame alone"
        self.session.say(f"Compare: {self.view.compare}. Before is {before}.")

    def on_fold_frames(self) -> None:
        self.window.frames.fold(not self.window.frames.folded)

    def on_fold_bench(self) -> None:
        self.window.bench.fold(not self.window.bench.folded)

    def on_lighter_surround(self) -> None:
        self._change_surround(12)

    def on_darker_surround(self) -> None:
        self._change_surround(-12)

    def _change_surround(self, by: int) -> None:
        grey = QColor(self.view.surround or theme.current().surround).red()
        grey = max(0, min(255, grey + by))
        self.session.use_settings(replace(self.session.settings, surround=grey))

    def on_full_screen(self) -> None:
        self.window.showNormal() if self.window.isFullScreen() else self.window.showFullScreen()

    def on_other_theme(self) -> None:
        names = list(theme.THEMES)
        other = names[(names.index(theme.current().name) + 1) % len(names)]
        self.session.use_settings(replace(self.session.settings, theme=Look(other.lower())))

    def on_settings(self) -> None:
        if self.settings is None:
            self.settings = SettingsWindow(self.window, self.session)
        self.settings.open_here()

    def _set_up(self) -> None:
        """Act by the settings, which have changed."""
        wanted = self.session.settings
        if theme.current().name.lower() != wanted.theme:
            theme.apply(QApplication.instance(), theme.THEMES[wanted.theme.capitalize()])
            self.window.wardrobe.change()
            self.window.retheme()
            self.window.refresh()
        self.window.use_surround()
        self.window.update()

    def on_align_again(self) -> None:
        self.window.registrations.ask(again=True)
        self.window.source.again()

    def on_make_level(self) -> None:
        self.window.stations["shape"].make_level()

    def on_draw_level(self) -> None:
        self._draw("level")

    def on_draw_upright(self) -> None:
        self._draw("upright")

    def _draw(self, kind: str) -> None:
        """Take the pencil for one line that is level or upright, whatever station shows the picture."""
        if self.session.station == "combine":
            self.window.stations["combine"].open_tab("cut")
            self.window.stations["combine"].cut.take(kind)
        else:
            self.window.stations["shape"].draw_once(kind)
        self.session.say(f"Drag along something that is {'level' if kind == 'level' else 'to stand upright'}.")

    def on_toggle_turning(self) -> None:
        shape = self.window.stations["shape"]
        if self.session.frame_set.registration.camera is Camera.SLID:
            self.session.say("Along a flat subject there is nothing to turn; dragging moves the picture.")
            return
        shape.set_drag("moves" if shape.way == "turns" else "turns")

    def on_toggle_trim(self) -> None:
        trims = self.session.frame_set.outline.edges is Edges.TRIM
        self.session.change("outline.edges", Edges.LEAVE if trims else Edges.TRIM, True)

    @property
    def _walk(self) -> Any:
        return self.window.stations["join"].walk

    def on_next_stretch(self) -> None:
        self._walk.step(1)

    def on_previous_stretch(self) -> None:
        self._walk.step(-1)

    def on_give_one(self) -> None:
        self._walk.give_spot(0)

    def on_give_other(self) -> None:
        self._walk.give_spot(1)

    def on_lay_elsewhere(self) -> None:
        self._walk.lay_elsewhere()

    def on_stretch_fine(self) -> None:
        self._walk.mark_fine()

    def on_bend_stretch(self) -> None:
        self._walk.bend_together()

    def on_look_around(self) -> None:
        if not self.window.look.possible:
            self.session.say("Only inside a panorama can one look around.", "info")
            return
        self.window.looking = not self.window.looking
        self.window.refresh()
        (self.window.look if self.window.looking else self.window.view).setFocus()

    def on_take_frame(self) -> None:
        self.window.stations["join"].own.take_frame()

    def on_give_next(self) -> None:
        self.window.stations["join"].own.give_next()

    def on_pin_spot(self) -> None:
        self.window.stations["combine"].open_view("core")
        self.window.stations["combine"].core.pin_spot()

    def on_finish_off(self) -> None:
        self.window.stations["finish"].deeds.toggle_all()

    def on_export(self) -> None:
        self.session.go("export")
        self.window.stations["export"].start()

    def on_stop(self) -> None:
        if self.session.desk.busy:
            self.session.desk.stop_all()
            self.session.say("Stopped.")

    def browse_output(self) -> None:
        export = self.window.stations["export"]
        path, _ = QFileDialog.getSaveFileName(self.window, "Write picture to", export.place.text())
        if path:
            export.set_place(path)

    def on_find_command(self) -> None:
        CommandFinder(self.window, list(self.window.actions_by_name.values()), self.window.why_not).exec()

    def on_help_here(self) -> None:
        self._help("here")

    def on_guide(self) -> None:
        self._help("guide")

    def on_keys(self) -> None:
        self._help("keys")

    def _help(self, page: str) -> None:
        if self.help is None:
            self.help = HelpWindow(self.window)
        self.help.open_page(page, self.session.station, self.session.frame_set is not None)

    def on_about(self) -> None:
        box = QMessageBox(self.window)
        box.setWindowTitle("About Windfell")
        box.setText(
            f"<b>Windfell {__version__}</b><br>One picture out of many frames.<br><br>"
            "GPL-3.0-or-later. Typefaces Cabin and B612 (SIL OFL 1.1), icons Lucide (ISC).")
        box.setIconPixmap(theme.app_icon().pixmap(64))
        theme.dress(box)
        box.exec()
