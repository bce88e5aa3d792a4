"""What all stations are: controls at the left of the bench, an instrument at its right."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QStackedWidget, QVBoxLayout, QWidget

from windfell.app.session import Session
from windfell.recipe.model import Project


class Station(QWidget):
    """Base of the stations. `page` is shown in the picture area; None means the picture view."""

    name = ""
    page: QWidget | None = None

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.controls = QWidget()
        self.column = QVBoxLayout(self.controls)
        self.column.setContentsMargins(16, 12, 12, 10)
        self.column.setSpacing(7)
        self.instrument: QWidget = QWidget()

    def refresh(self) -> None:
        """Show the recipe as it is now. Called when it changed and this station is open."""

    @property
    def needed(self) -> list[QWidget]:
        """Those of its controls, whole in a layout, that stay in reach while the bench is folded."""
        return []

    def dressed(self) -> list[QWidget]:
        """What wears the theme, in portions small enough to be changed without a wait; together all that is seen."""
        return [self.controls, self.instrument, *([self.page] if self.page else [])]

    def entered(self) -> None:
        """The station was opened."""

    def left(self) -> None:
        """Another station was opened."""

    def picture_of(self, project: Project) -> Project:
        """The project whose picture of the set in hand is shown while this station is open."""
        return project

    def held_against(self, project: Project) -> tuple[Project, tuple[str, str]] | None:
        """What compare modes show beside the picture, and both their names; None: the picture before."""
        return None

    @property
    def settled(self) -> bool:
        """Whether all that this station asked for has arrived."""
        return True

    @staticmethod
    def page_of(stack: QStackedWidget, spacing: int = 5) -> QVBoxLayout:
        """The column of one page more of the controls."""
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(spacing)
        stack.addWidget(page)
        return column

    @staticmethod
    def title(words: str) -> QLabel:
        label = QLabel(words)
        label.setProperty("role", "title")
        return label

    @staticmethod
    def quiet(words: str = "") -> QLabel:
        label = QLabel(words)
        label.setProperty("role", "quiet")
        label.setWordWrap(True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        return label
