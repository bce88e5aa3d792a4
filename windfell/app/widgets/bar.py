"""A bar of tools above what they work on."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget


def bar_above(page: QWidget) -> tuple[QVBoxLayout, QHBoxLayout]:
    """(the page's column, the row of the bar that stands first in it)."""
    column = QVBoxLayout(page)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(0)
    bar = QWidget()
    bar.setObjectName("bar")
    row = QHBoxLayout(bar)
    row.setContentsMargins(12, 5, 12, 5)
    column.addWidget(bar)
    return column, row
