"""Named outputs and recipes: kept, used, written together, done to other sets."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QPushButton

from windfell.app.session import Session
from windfell.engine.folders import state_folder
from windfell.errors import WindfellError
from windfell.recipe.edits import Edit
from windfell.recipe.kept import Kept
from windfell.recipe.manners import Recipe, applied, read_recipe, recipe_of, write_recipe
from windfell.recipe.nesting import outermost
from windfell.recipe.output import Compression, Format, Output

SHIPPED = {
    "Archive": Output(Format.TIFF, 16, Compression.DEFLATE),
    "Phone": Output(Format.JPEG, 8, quality=80, long_px=1600, sharpen_pct=30.0),
    "Web": Output(Format.JPEG, 8, quality=86, long_px=2400, sharpen_pct=25.0),
}


class OutputsButton(QPushButton):
    """Its menu holds the named outputs: one is used for the set in hand; ticked ones are written as well."""

    def __init__(self, session: Session, ticks_changed: Callable[[], None]) -> None:
        super().__init__("Outputs")
        self.setToolTip("Outputs under names: archive, web and phone at once")
        self._session, self._ticks_changed = session, ticks_changed
        self.ticked: set[str] = set()
        self.menu_of = QMenu(self)
        self.setMenu(self.menu_of)
        self.menu_of.aboutToShow.connect(self.fill)

    @property
    def kept(self) -> Kept[Output]:
        return Kept(state_folder() / "outputs.json", Output)

    def named(self) -> dict[str, Output]:
        """All named outputs, those of one's own before the shipped ones of that name."""
        return {**SHIPPED, **self.kept.all()}

    def wanted(self) -> dict[str, Output]:
        """The ticked ones."""
        return {n: o for n, o in self.named().items() if n in self.ticked}

    def fill(self) -> None:
        self.menu_of.clear()
        self.menu_of.addAction("Keep this output under a name…", self._ask_name)
        self.menu_of.addSeparator()
        for name in self.named():
            self.menu_of.addAction(f"Use: {name}", lambda n=name: self.use(n))
        together = self.menu_of.addMenu("Write as well")
        for name in self.named():
            action = together.addAction(name)
            action.setCheckable(True)
            action.setChecked(name in self.ticked)
            action.toggled.connect(lambda on, n=name: self.tick(n, on))
        own = self.kept.all()
        forget = self.menu_of.addMenu("Forget")
        for name in own:
            forget.addAction(name, lambda n=name: self.kept.drop(n))
        forget.setEnabled(bool(own))

    def _ask_name(self) -> None:
        name, ok = QInputDialog.getText(self, "Keep this output", "Its name:")
        if ok and name.strip():
            self.keep_output(name.strip())

    def keep_output(self, name: str) -> None:
        try:
            self.kept.keep(name, self._session.frame_set.output)
        except WindfellError as error:
            self._session.say(str(error), "wrong")
            return
        self._session.say(f"The output {name} is kept.", "good")

    def use(self, name: str) -> None:
        """The set in hand is written so."""
        s, found = self._session, self.named()[name]
        words = s.frame_set.output.words
        s.edit(Edit(f"output {name}", s.project.with_set(replace(s.frame_set, output=replace(found, words=words)))))

    def tick(self, name: str, on: bool) -> None:
        """Whether it is written together with the set's own output."""
        (self.ticked.add if on else self.ticked.discard)(name)
        self._ticks_changed()


class RecipeButton(QPushButton):
    """What was decided for the set in hand, kept as a recipe and done to others."""

    def __init__(self, session: Session) -> None:
        super().__init__("Recipe")
        self.setToolTip("Make other sets the same way: developments, rule, projection, finish, output")
        self._session = session
        self.menu_of = QMenu(self)
        self.setMenu(self.menu_of)
        self.menu_of.aboutToShow.connect(self.fill)

    @property
    def recipes(self) -> Kept[Recipe]:
        return Kept(state_folder() / "recipes.json", Recipe)

    def fill(self) -> None:
        s = self._session
        self.menu_of.clear()
        self.menu_of.addAction("Keep this set's recipe…", self._ask_name)
        self.menu_of.addAction("Keep it as a file…", self._ask_file)
        self.menu_of.addSeparator()
        kept = self.recipes.all()
        for name, recipe in kept.items():
            self.menu_of.addAction(f"Use: {name}", lambda r=recipe: self.use(r, [s.set_id]))
        everywhere = self.menu_of.addMenu("Use for all sets")
        for name, recipe in kept.items():
            everywhere.addAction(name, lambda r=recipe: self.use(r, self.outermost()))
        everywhere.setEnabled(bool(kept) and len(self.outermost()) > 1)
        self.menu_of.addAction("Use a file…", self._ask_use)
        forget = self.menu_of.addMenu("Forget")
        for name in kept:
            forget.addAction(name, lambda n=name: self.recipes.drop(n))
        forget.setEnabled(bool(kept))

    def outermost(self) -> list[str]:
        return [x.id for x in outermost(self._session.project)]

    def _ask_name(self) -> None:
        name, ok = QInputDialog.getText(self, "Keep this recipe", "Its name:", text=self._session.frame_set.name)
        if ok and name.strip():
            self.keep_recipe(name.strip())

    def keep_recipe(self, name: str) -> None:
        s = self._session
        try:
            self.recipes.keep(name, recipe_of(s.project, s.set_id, name))
        except WindfellError as error:
            s.say(str(error), "wrong")
            return
        s.say(f"The recipe {name} is kept.", "good")

    def _ask_file(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Keep this recipe", f"{self._session.frame_set.name}.json",
                                              "Recipes (*.json)")
        if path:
            self.write_file(path)

    def write_file(self, path: str) -> None:
        s = self._session
        try:
            write_recipe(Path(path), recipe_of(s.project, s.set_id, Path(path).stem))
        except WindfellError as error:
            s.say(str(error), "wrong")
            return
        s.say(f"The recipe is kept in {path}; “windfell apply” makes whole cards by it.", "good")

    def _ask_use(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Use which recipe?", "", "Recipes (*.json)")
        if path:
            self.use_file(path)

    def use_file(self, path: str) -> None:
        try:
            self.use(read_recipe(Path(path)), [self._session.set_id])
        except WindfellError as error:
            self._session.say(str(error), "wrong")

    def use(self, recipe: Recipe, set_ids: list[str]) -> None:
        """Make these sets by a recipe, as one step."""
        s, project = self._session, self._session.project
        for one in set_ids:
            project = applied(project, one, recipe)
        many = f"{len(set_ids)} sets" if len(set_ids) > 1 else s.project.set(set_ids[0]).name
        s.edit(Edit(f"make {many} by the recipe {recipe.name}", project))
