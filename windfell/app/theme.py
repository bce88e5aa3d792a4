"""Themes, typefaces and icons: one table of named colours each."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QByteArray, QSize, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QImage, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication, QWidget

from windfell.engine.settings import cache_folder

ASSETS = Path(__file__).parent / "assets"
WORDS, NUMBERS = "Cabin", "B612"
DRESSED = "dressed"


@dataclass(frozen=True)
class Theme:
    """Named colours. `gorse` active, `tarn` links, `heather` points, `moss` good, `rowan` wrong."""

    name: str
    stone: str
    sheet: str
    ink: str
    quiet: str
    line: str
    gorse: str
    gorse_ink: str
    tarn: str
    heather: str
    moss: str
    rowan: str
    surround: str


LIMESTONE = Theme(
    "Limestone", "#ECEAE6", "#F7F6F3", "#2B2E2C", "#5C605C", "#CFCBC3", "#C98A00", "#7A5200",
    "#2E6E8E", "#7B4F8C", "#487035", "#B23A2E", "#787878",
)
PEAT = Theme(
    "Peat", "#262421", "#302D2A", "#E9E5DD", "#B3ACA1", "#4A4641", "#E0A526", "#F0C15A",
    "#7DB9D8", "#C39AD2", "#9CC383", "#EE8A7C", "#4A4A4A",
)
THEMES = {t.name: t for t in (LIMESTONE, PEAT)}

_current = LIMESTONE
_sheets: dict[str, tuple[str, list[Path]]] = {}


def current() -> Theme:
    return _current


def colour(name: str, alpha: int = 255) -> QColor:
    """A named colour of the current theme."""
    found = QColor(getattr(_current, name))
    found.setAlpha(alpha)
    return found


def load_fonts() -> None:
    for file in sorted((ASSETS / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))


def words_font(size: float = 10.0, bold: bool = False) -> QFont:
    font = QFont(WORDS)
    font.setPointSizeF(size)
    font.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    return font


def numbers_font(size: float = 9.0) -> QFont:
    font = QFont(NUMBERS)
    font.setPointSizeF(size)
    return font


def apply(app: QApplication, theme: Theme) -> None:
    """Give the application the theme's palette; the sheet of its widgets is put on by `dress`, part by part, since to
    put it on everything at once takes longer than a window may stand still.
    """
    global _current
    _current = theme
    if app.style().name() != "fusion":
        app.setStyle("Fusion")
    if app.font() != words_font(10.5):
        app.setFont(words_font(10.5))
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: theme.stone, QPalette.ColorRole.Base: theme.sheet,
        QPalette.ColorRole.AlternateBase: theme.stone, QPalette.ColorRole.Button: theme.sheet,
        QPalette.ColorRole.WindowText: theme.ink, QPalette.ColorRole.Text: theme.ink,
        QPalette.ColorRole.ButtonText: theme.ink, QPalette.ColorRole.Highlight: theme.tarn,
        QPalette.ColorRole.HighlightedText: theme.sheet, QPalette.ColorRole.ToolTipBase: theme.sheet,
        QPalette.ColorRole.ToolTipText: theme.ink, QPalette.ColorRole.PlaceholderText: theme.quiet,
    }
    for role, value in roles.items():
        palette.setColor(role, QColor(value))
    quiet = QColor(theme.quiet)
    for role in (QPalette.ColorRole.Text, QPalette.ColorRole.ButtonText, QPalette.ColorRole.WindowText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, quiet)
    app.setPalette(palette)


def dress(part: QWidget) -> None:
    """Put the current theme's sheet on a part of the window, or a dialog, and all that is in it."""
    part.setStyleSheet(_sheet(_current))
    part.setProperty(DRESSED, _current.name)


def is_dressed(part: QWidget) -> bool:
    return part.property(DRESSED) == _current.name


def icon(name: str, role: str = "ink") -> QIcon:
    """A line icon of the shipped set in a colour of the theme."""
    svg = (ASSETS / "icons" / f"{name}.svg").read_text()
    svg = svg.replace("currentColor", getattr(_current, role))
    renderer = QSvgRenderer(QByteArray(svg.encode()))
    image = QImage(QSize(48, 48), QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    renderer.render(painter)
    painter.end()
    return QIcon(QPixmap.fromImage(image))


def app_icon() -> QIcon:
    return QIcon(str(ASSETS / "windfell.svg"))


def _sheet(t: Theme) -> str:
    """The theme's style sheet; made anew only where the icons that it names are gone."""
    sheet, icons = _sheets.get(t.name, ("", []))
    if not icons or not all(path.exists() for path in icons):
        icons = [_tinted(name, t) for name in ("chevron-down", "check")]
        sheet = _style(t, *(path.as_posix() for path in icons))
        _sheets[t.name] = sheet, icons
    return sheet


def _tinted(name: str, t: Theme) -> Path:
    """A file of an icon in the theme's ink, as style sheets want one."""
    folder = cache_folder() / "icons"
    path = folder / f"{name}-{t.name}.svg"
    if not path.exists():
        folder.mkdir(parents=True, exist_ok=True)
        svg = (ASSETS / "icons" / f"{name}.svg").read_text()
        path.write_text(svg.replace("currentColor", t.ink))
    return path


def _style(t: Theme, chevron: str, check: str) -> str:
    return f"""
    * {{ outline: none; }}
    QWidget#ridge, QWidget#status {{ background: {t.stone}; }}
    QWidget#status {{ border-top: 1px solid {t.line}; }}
    QLabel[role="title"] {{ font-weight: 600; font-size: 12.5pt; }}
    QLabel[role="quiet"] {{ color: {t.quiet}; }}
    QLabel[role="wrong"] {{ color: {t.rowan}; }}
    QPushButton, QToolButton {{
        background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line};
        border-radius: 5px; padding: 4px 11px; min-height: 20px;
    }}
    QToolButton[bare="true"] {{ background: transparent; border: 1px solid transparent; padding: 3px 6px; }}
    QPushButton:hover, QToolButton:hover {{ border-color: {t.quiet}; }}
    QPushButton:focus, QToolButton:focus, QLineEdit:focus, QComboBox:focus {{ border: 2px solid {t.tarn}; }}
    QPushButton:pressed, QToolButton:pressed {{ background: {t.line}; }}
    QPushButton:checked, QToolButton:checked {{ border: 2px solid {t.gorse}; color: {t.gorse_ink}; font-weight: 600; }}
    QPushButton:checked:focus, QToolButton:checked:focus {{ border: 2px solid {t.tarn}; }}
    QPushButton:disabled, QToolButton:disabled {{ color: {t.quiet}; background: {t.stone}; }}
    QPushButton[main="true"] {{ background: {t.tarn}; color: {t.sheet}; border-color: {t.tarn}; font-weight: 600; }}
    QPushButton[main="true"]:disabled {{ background: {t.line}; color: {t.quiet}; border-color: {t.line}; }}
    QPushButton[main="true"]:focus {{ border: 2px solid {t.ink}; }}
    QLineEdit, QComboBox {{
        background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; border-radius: 5px;
        padding: 3px 6px; min-height: 20px;
    }}
    QComboBox::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url({chevron}); width: 14px; height: 14px; }}
    QComboBox QAbstractItemView {{ background: {t.sheet}; color: {t.ink}; selection-background-color: {t.tarn}; selection-color: {t.sheet}; }}
    QTableWidget, QListWidget, QTreeWidget {{
        background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; border-radius: 5px;
        gridline-color: {t.stone}; selection-background-color: {t.tarn}; selection-color: {t.sheet};
    }}
    QTableWidget:focus, QListWidget:focus, QTreeWidget:focus, QListView:focus {{ border: 2px solid {t.tarn}; }}
    QHeaderView::section {{ background: {t.stone}; color: {t.quiet}; border: none; padding: 3px 6px; }}
    QCheckBox {{ spacing: 7px; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {t.quiet}; border-radius: 3px; background: {t.sheet}; }}
    QCheckBox::indicator:checked {{ image: url({check}); border-color: {t.ink}; }}
    QCheckBox:focus {{ border: 1px solid {t.tarn}; border-radius: 3px; }}
    QScrollArea {{ border: none; background: transparent; }}
    QScrollBar:vertical {{ width: 10px; background: transparent; }}
    QScrollBar:horizontal {{ height: 10px; background: transparent; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QProgressBar {{ background: {t.line}; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }}
    QProgressBar::chunk {{ background: {t.tarn}; border-radius: 3px; }}
    QMenu {{ background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; padding: 4px; }}
    QMenu::item {{ padding: 5px 26px 5px 14px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {t.tarn}; color: {t.sheet}; }}
    QMenu::item:disabled {{ color: {t.quiet}; }}
    QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px 8px; }}
    QToolTip {{ background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; padding: 3px; }}
    """
