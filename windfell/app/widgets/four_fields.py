"""Four numbers, one for each side of the picture, in a row: T R B L."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QLabel, QLineEdit, QWidget

from windfell.app import theme
from windfell.app.widgets.typed import typed_number

SIDES = (("Top", "top_pct"), ("Right", "right_pct"), ("Bottom", "bottom_pct"), ("Left", "left_pct"))
LABEL_WIDE, FIELD_WIDE = 62, 48


class FourFields(QWidget):
    """`typed(name, value)` when another number between 0 and `most` stands in the field of that name."""

    typed = Signal(str, float)

    def __init__(self, title: str, of: str, tip: str, most: float) -> None:
        """`of`: what each is, for screen readers, such as "Room at"; `tip` has a {} for the side."""
        super().__init__()
        self._most, self._values = most, {}
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(5)
        label = QLabel(title)
        label.setFixedWidth(LABEL_WIDE)
        grid.addWidget(label, 0, 0)
        self.fields: dict[str, QLineEdit] = {}
        for n, (words, name) in enumerate(SIDES):
            field = QLineEdit()
            field.setFixedWidth(FIELD_WIDE)
            field.setFont(theme.numbers_font())
            field.setAccessibleName(f"{of} the {words.lower()} in per cent")
            field.setToolTip(tip.format(words.lower()))
            field.editingFinished.connect(lambda k=name: self._typed(k))
            self.fields[name] = field
            grid.addWidget(QLabel(words[0]), 0, 1 + 2 * n)
            grid.addWidget(field, 0, 2 + 2 * n)

    def show_values(self, of: object) -> None:
        """Show the numbers of a recipe part that has them by these names."""
        for name, field in self.fields.items():
            self._values[name] = getattr(of, name)
            text = f"{self._values[name]:g}"
            if field.text() != text:
                field.setText(text)

    def _typed(self, name: str) -> None:
        field, before = self.fields[name], self._values.get(name, 0.0)
        typed = typed_number(field.text() or "0", "%")
        value = before if typed is None else min(max(typed, 0.0), self._most)
        field.setText(f"{value:g}")
        if value != before:
            self._values[name] = value
            self.typed.emit(name, value)
