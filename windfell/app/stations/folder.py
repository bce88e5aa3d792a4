"""The folder browser: large thumbnails of what a folder holds, to choose frames from."""

from __future__ import annotations

import os

from PySide6.QtCore import QAbstractListModel, QDir, QFileSystemWatcher, QModelIndex, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QIcon, QPainter, QPixmap
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListView,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from windfell.app import theme
from windfell.app.session import Session
from windfell.app.thumbnails import Thumbnails
from windfell.errors import WindfellError
from windfell.frames.listing import pictures_in
from windfell.recipe.sources import FileSource

ICON = QSize(150, 112)
WATCH_MS = 700


class FolderModel(QAbstractListModel):
    """Files of one folder; a thumbnail is asked for only when it is drawn."""

    def __init__(self, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.paths: list[str] = []
        self._thumbnails = thumbnails
        self._icons: dict[str, QIcon] = {}
        blank = QPixmap(ICON)
        blank.fill(theme.colour("line"))
        self._blank = QIcon(blank)

    def show_paths(self, paths: list[str]) -> None:
        if paths == self.paths:
            return
        kept = set(self.paths)
        added = [p for p in paths if p not in kept]
        if self.paths and set(paths) > kept and paths[: len(self.paths)] == self.paths:
            self.beginInsertRows(QModelIndex(), len(self.paths), len(self.paths) + len(added) - 1)
            self.paths = paths
            self.endInsertRows()
            return
        self.beginResetModel()
        self.paths = paths
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.paths)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        if not index.isValid() or index.row() >= len(self.paths):
            return None
        path = self.paths[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return os.path.basename(path)
        if role == Qt.ItemDataRole.ToolTipRole:
            return path
        if role == Qt.ItemDataRole.DecorationRole:
            return self._icon(path)
        return None

    def _icon(self, path: str) -> QIcon:
        if path in self._icons:
            return self._icons[path]
        found = self._thumbnails.of_source(FileSource(path))
        if found is None or found.image is None:
            return self._blank
        scaled = found.image.scaled(
            ICON, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
        room = QPixmap(ICON)
        room.fill(Qt.GlobalColor.transparent)
        painter = QPainter(room)
        painter.drawImage((ICON.width() - scaled.width()) // 2, (ICON.height() - scaled.height()) // 2, scaled)
        painter.end()
        self._icons[path] = QIcon(room)
        return self._icons[path]

    def repaint(self) -> None:
        if self.paths:
            self.dataChanged.emit(self.index(0), self.index(len(self.paths) - 1), [Qt.ItemDataRole.DecorationRole])


class FolderPage(QWidget):
    """A folder's path, its files, what is chosen of them, and whether new ones are looked for."""

    chosen = Signal(list)

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._session = session
        self.folder = ""
        self.model = FolderModel(thumbnails)
        thumbnails.arrived.connect(self.model.repaint)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        row = QHBoxLayout()
        self.up = QPushButton("Up")
        self.up.setToolTip("The folder that holds this one")
        self.up.clicked.connect(lambda: self.open_folder(os.path.dirname(self.folder)))
        self.place = QLineEdit()
        self.place.setAccessibleName("Folder")
        self.place.setToolTip("The folder that is shown; type another")
        self.place.setPlaceholderText("A folder of pictures")
        self.place.editingFinished.connect(self._typed)
        self.browse = QPushButton("Choose…")
        self.browse.setToolTip("Choose another folder")
        self.browse.clicked.connect(self._browse)
        self.watch = QCheckBox("Watch")
        self.watch.setToolTip("Show new files as they come into the folder")
        self.watch.toggled.connect(self._set_watch)
        for part in (self.up, self.place, self.browse, self.watch):
            row.addWidget(part, 1 if part is self.place else 0)
        column.addLayout(row)
        self.list = QListView()
        self.list.setModel(self.model)
        self.list.setViewMode(QListView.ViewMode.IconMode)
        self.list.setIconSize(ICON)
        self.list.setGridSize(QSize(ICON.width() + 18, ICON.height() + 34))
        self.list.setUniformItemSizes(True)
        self.list.setResizeMode(QListView.ResizeMode.Adjust)
        self.list.setMovement(QListView.Movement.Static)
        self.list.setLayoutMode(QListView.LayoutMode.Batched)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setAccessibleName("Files of the folder")
        self.list.setToolTip("Shift and Ctrl choose several; Enter gathers them")
        self.list.selectionModel().selectionChanged.connect(self._count)
        self.list.activated.connect(lambda _: self.add.click())
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.count = QLabel("")
        self.count.setProperty("role", "quiet")
        self.all = QPushButton("Choose all")
        self.all.setToolTip("Choose all files of the folder (Ctrl+A)")
        self.all.clicked.connect(self.list.selectAll)
        self.add = QPushButton("Gather the chosen")
        self.add.setToolTip("Propose sets of the chosen files")
        self.add.setProperty("main", True)
        self.add.clicked.connect(lambda: self.chosen.emit(self.selected()))
        row.addWidget(self.count, 1)
        row.addWidget(self.all)
        row.addWidget(self.add)
        column.addLayout(row)
        self._watcher = QFileSystemWatcher(self)
        self._watcher.directoryChanged.connect(lambda _: self._later.start())
        self._later = QTimer(self, singleShot=True, interval=WATCH_MS)
        self._later.timeout.connect(self.look_again)
        self.model.modelReset.connect(self._count)
        self.model.rowsInserted.connect(self._count)
        self._count()

    def open_folder(self, folder: str) -> None:
        """Show a folder's pictures and videos; a sentence where it cannot be read."""
        try:
            found = pictures_in(folder)
        except WindfellError as error:
            self._session.say(str(error), "wrong")
            self.place.setText(self.folder)
            return
        self.folder = os.path.abspath(folder)
        self.place.setText(self.folder)
        self.model.show_paths(found)
        self._count()
        self._set_watch(self.watch.isChecked())

    def look_again(self) -> None:
        """Take in what has come or gone."""
        if not self.folder:
            return
        try:
            self.model.show_paths(pictures_in(self.folder))
        except WindfellError as error:
            self._session.say(str(error), "wrong")

    def selected(self) -> list[str]:
        """The chosen files, in order."""
        rows = sorted(i.row() for i in self.list.selectionModel().selectedIndexes())
        return [self.model.paths[r] for r in rows]

    def _count(self) -> None:
        chosen = self.selected()
        size = 0
        for path in chosen:
            try:
                size += os.path.getsize(path)
            except OSError:
                continue
        words = f"{len(self.model.paths)} pictures and videos"
        if chosen:
            words += f", {len(chosen)} chosen, {size / 1e6:.1f} MB"
        self.count.setText(words if self.folder else "Choose a folder to see what it holds.")
        self.add.setEnabled(bool(chosen))
        self.all.setEnabled(bool(self.model.paths))
        self.up.setEnabled(bool(self.folder))

    def _typed(self) -> None:
        words = os.path.expanduser(self.place.text().strip())
        if words and os.path.abspath(words) != self.folder:
            self.open_folder(words)

    def _browse(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Choose a folder", self.folder or QDir.homePath())
        if folder:
            self.open_folder(folder)

    def _set_watch(self, on: bool) -> None:
        if self._watcher.directories():
            self._watcher.removePaths(self._watcher.directories())
        if on and self.folder:
            self._watcher.addPath(self.folder)
