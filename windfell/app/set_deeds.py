"""What is done with whole sets: nested, laid behind each other, made of what comes into a folder."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QFileDialog, QInputDialog

from windfell.develop.dust import Dust
from windfell.engine.composed import composed, placed_by_stars
from windfell.engine.dust import dust_of, has_dust, with_dust
from windfell.engine.laying_behind import Turned, behind_found, turned_anew
from windfell.recipe import edits, laying_behind
from windfell.recipe.behind import Behind
from windfell.recipe.collecting import collected
from windfell.recipe.edits import Edit
from windfell.recipe.laying_behind import both_around
from windfell.recipe.model import Frame, FrameSet, Project, new_id
from windfell.recipe.project_file import SUFFIX, mask_name
from windfell.recipe.sources import SetSource


class SetDeeds:
    """Actions that take other sets than the one in hand."""

    def __init__(self, window: Any) -> None:
        self.window = window
        self.session = window.session

    def on_nest_set(self) -> None:
        s = self.session
        inner = self._other_set("whose picture could be a frame here", "Use another set as a frame",
                                "The picture of this set becomes a frame:")
        if inner is not None:
            frame = Frame(new_id(), SetSource(inner.id))
            s.try_edit(lambda: edits.add_frames(s.project, s.set_id, [frame]))

    def on_lay_behind(self) -> None:
        back = self._other_set("that could lie behind this one", "Lay a set behind",
                               "Seen where this one has its sky:")
        if back is not None:
            self.lay_behind(back.id)

    def _other_set(self, for_what: str, title: str, label: str) -> FrameSet | None:
        """The set that is chosen of all but the one in hand; None if there is none, or none was wanted."""
        s = self.session
        others = [x for x in s.project.sets if x.id != s.set_id]
        if not others:
            s.say(f"There is no other set yet {for_what}.", "wrong")
            return None
        name, chosen = QInputDialog.getItem(self.window, title, label, [x.name for x in others], 0, False)
        return next(x for x in others if x.name == name) if chosen else None

    def lay_behind(self, back_id: str) -> None:
        """The other set in the sky of the set in hand: two panoramas on one sphere, anything else as a new set of
        two.
        """
        s = self.session
        project, front = s.project, s.frame_set
        if both_around(project, front.id, back_id):
            self._lay_around(back_id)
            return
        frames = [Frame(new_id(), SetSource(i)) for i in (back_id, front.id)]
        name = f"{front.name} before {project.set(back_id).name}"

        def done(found: tuple) -> None:
            own, masks = found
            s.engine.masks.update(masks)
            s.edit(edits.add_set(s.project, own))
            s.select_set(own.id)
            s.go("combine")

        s.desk.ask("compose", lambda job: composed(s.engine, project, *frames, name, job), done)

    def _lay_around(self, back_id: str) -> None:
        """Another panorama behind the one in hand, turned to where it belongs."""
        s = self.session
        project, front_id = s.project, s.set_id

        def done(found: tuple[Behind, Any, Turned]) -> None:
            if front_id not in {x.id for x in s.project.sets}:
                return
            behind, mask, turned = found
            s.engine.masks[mask_name(mask)] = mask
            if s.try_edit(lambda: laying_behind.lay_behind(s.project, front_id, behind)):
                s.go("join")
                self.window.stations["join"].open_page("behind")
                self._say_turned(turned)

        s.desk.ask("compose", lambda job: behind_found(s.engine, project, front_id, back_id, job), done)

    def on_place_behind(self) -> None:
        """What lies behind the panorama in hand turned anew to where it belongs."""
        s = self.session
        project, own = s.project, s.frame_set
        if own is None or own.behind is None:
            s.say("Nothing lies behind this set; “Lay behind” at Gather or Join does it.", "wrong")
            return

        def done(turned: Turned) -> None:
            now = s.frame_set
            if now is not None and now.id == own.id and now.behind is not None and turned.by:
                s.edit(laying_behind.turn_behind(
                    s.project, own.id, turned.yaw_deg, turned.pitch_deg, turned.roll_deg), True)
            self._say_turned(turned)

        s.desk.ask("compose", lambda job: turned_anew(s.engine, project, own.id, job), done)

    def _say_turned(self, turned: Turned) -> None:
        if turned.by:
            self.session.say(f"Turned by {turned.by}.", "good")
        else:
            self.session.say("The two panoramas share nothing that tells how they lie; move what lies behind by "
                             "hand.", "info")

    def on_place_by_stars(self) -> None:
        s = self.session
        own, project = s.frame_set, s.project
        if len(own.frames) != 2 or len(own.combining.layers) != 1:
            s.say("This set is no picture before another; “Lay behind” at Gather makes one.", "wrong")
            return

        def done(placed: FrameSet) -> None:
            now = s.project.set(own.id)
            s.edit(Edit("place what lies behind by its stars", s.project.with_set(
                replace(now, combining=replace(now.combining, layers=placed.combining.layers)))))

        s.desk.ask("compose", lambda job: placed_by_stars(s.engine, project, own, job), done)

    def on_mend_dust(self) -> None:
        s = self.session
        if has_dust(s.project, s.set_id):
            s.edit(with_dust(s.project, s.set_id, None), True)
            return
        project, set_id = s.project, s.set_id

        def done(dust: Dust) -> None:
            if s.project is not project:
                return
            if not dust.specks:
                s.say("No dust was found: nothing is darker at one place of all frames.", "good")
                return
            s.engine.masks[mask_name(dust.left)] = dust.left
            s.edit(with_dust(project, set_id, mask_name(dust.left), len(dust.specks)), True)
            many = "One speck" if len(dust.specks) == 1 else f"{len(dust.specks)} specks"
            s.say(f"{many} of dust at one place of all frames, evened out once for all.", "good")

        s.desk.ask("dust", lambda job: dust_of(s.engine, project, set_id, job), done)

    def on_collect(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self.window, "Collect the project and copies of its frames", "", f"Windfell projects (*{SUFFIX})")
        if path:
            self.collect(path)

    def collect(self, path: str) -> None:
        """Write the project anew, with copies of its frames in a folder beside it, and go on with that one."""
        s = self.session
        place = Path(path if path.endswith(SUFFIX) else path + SUFFIX)
        project, masks = s.project, dict(s.engine.masks)

        def done(moved: Project) -> None:
            if s.project is project and s.open_project(str(place)):
                files = {f.source for x in moved.sets for f in x.frames if not isinstance(f.source, SetSource)}
                s.say(f"Collected: {place} and {len(files)} frames beside it.", "good")

        s.desk.ask("collect", lambda job: collected(project, place, masks, job), done)

    def on_watch_folder(self) -> None:
        watch, s = self.window.watch, self.session
        if watch.on:
            watch.end()
            s.say("The folder is watched no longer.", "quiet")
            return
        folder = QFileDialog.getExistingDirectory(self.window, "Watch which folder?")
        if not folder:
            return
        recipes = self.window.stations["export"].recipe.recipes.all()
        none = "No recipe: just propose sets"
        name, chosen = QInputDialog.getItem(
            self.window, "Watch a folder", "What comes is made by:", [none, *recipes], 0, False)
        if chosen:
            watch.begin(folder, recipes.get(name))
