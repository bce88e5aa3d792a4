"""The set in hand, chosen among those of the project."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox

from windfell.recipe.model import Project
from windfell.recipe.sources import SetSource


class SetChooser(QComboBox):
    """The sets by name, in their order; those that are frames of others stand a step further in."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumWidth(190)
        self.setAccessibleName("Set in hand")
        self.setToolTip("The set being worked on (Ctrl+Tab: the next)")

    def show_sets(self, project: Project, chosen: str | None) -> None:
        self.blockSignals(True)
        self.clear()
        inner = {f.source.set for x in project.sets for f in x.frames if isinstance(f.source, SetSource)}
        for frame_set in project.sets:
            mark = "   ↳ " if frame_set.id in inner else ""
            self.addItem(f"{mark}{frame_set.name}", frame_set.id)
        self.setCurrentIndex(self.findData(chosen))
        self.setEnabled(bool(project.sets))
        if not project.sets:
            self.setPlaceholderText("No set yet")
        self.blockSignals(False)
