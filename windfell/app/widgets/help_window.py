"""Help beside the work: what is here, the guide, all keys; it needs no network."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtWidgets import QDialog, QTabWidget, QTextBrowser, QVBoxLayout, QWidget

from windfell.app.actions import ACTIONS
from windfell.app.help_words import HERE, here_page, keys_page

GUIDE = Path(__file__).resolve().parent.parent / "assets" / "guide"
PAGES = ("here", "guide", "keys")


class HelpWindow(QDialog):
    """Three pages; it stays open beside the window."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Help")
        self.resize(840, 640)
        self.setWindowFlag(Qt.WindowType.WindowMaximizeButtonHint, True)
        self.tabs = QTabWidget()
        self.pages: dict[str, QTextBrowser] = {}
        for name, title in zip(PAGES, ("Here", "Guide", "Keys"), strict=True):
            page = QTextBrowser()
            page.setAccessibleName(title)
            page.setOpenExternalLinks(False)
            page.setOpenLinks(False)
            page.document().setDocumentMargin(18)
            self.pages[name] = page
            self.tabs.addTab(page, title)
        self.pages["guide"].document().setBaseUrl(QUrl.fromLocalFile(f"{GUIDE}/"))
        self.pages["guide"].setSearchPaths([str(GUIDE)])
        self.pages["guide"].setMarkdown((GUIDE / "guide.md").read_text(encoding="utf-8"))
        self.pages["keys"].setMarkdown(keys_page(ACTIONS, tuple(HERE)))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(self.tabs)

    def open_page(self, name: str, station: str, has_set: bool) -> None:
        """Show a page; that of here is of the station in hand."""
        self.pages["here"].setMarkdown(here_page(station, has_set))
        self.tabs.setCurrentIndex(PAGES.index(name))
        self.show()
        self.raise_()
        self.activateWindow()
