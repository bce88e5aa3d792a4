"""The ratio of a picture's width to its height: the usual ones, turned as well, or one of one's own typed in."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox

from windfell.app.session import Session
from windfell.recipe.outline import Ratio
from windfell.recipe.sizes import PAPERS, ratio_from_words

RATIOS = (
    ("free", None), ("1:1", Ratio(1, 1)), ("5:4", Ratio(5, 4)), ("4:3", Ratio(4, 3)), ("3:2", Ratio(3, 2)),
    ("16:9", Ratio(16, 9)), ("2:1", Ratio(2, 1)), ("65:24", Ratio(65, 24)), ("A4", PAPERS["A4"]),
)


class RatioBox(QComboBox):
    """Sends the edit of the set in hand."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setAccessibleName("Ratio of width to height")
        self.setToolTip("The picture's width to its height; turned for upright pictures, or typed, such as 7:3")
        for words, _ in RATIOS:
            self.addItem(words)
        for words, _ in RATIOS[2:]:
            self.addItem(f"{words} upright")
        self.activated.connect(self._picked)
        self.setEditable(True)
        self.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.lineEdit().editingFinished.connect(self._typed)

    def _picked(self, index: int) -> None:
        many = len(RATIOS)
        ratio = RATIOS[index][1] if index < many else RATIOS[index - many + 2][1]
        if index >= many:
            ratio = Ratio(ratio.height, ratio.width)
        self._session.change("outline.ratio", ratio, True)

    def _typed(self) -> None:
        """A ratio of one's own, such as 7:3."""
        frame_set = self._session.frame_set
        words = self.currentText().strip()
        if frame_set is None or self.findText(words) >= 0:
            return
        found = ratio_from_words(words)
        if found is None:
            self._session.say(f"{words}: no ratio; give width and height such as 7:3.", "wrong")
            self._show(frame_set.outline.ratio)
        elif found != frame_set.outline.ratio:
            self._session.change("outline.ratio", found, True)

    def show_ratio(self, ratio: Ratio | None) -> None:
        """Show a ratio without sending it, unless one is being typed."""
        if not self.lineEdit().hasFocus():
            self._show(ratio)

    def _show(self, ratio: Ratio | None) -> None:
        at = _index(ratio)
        self.setCurrentIndex(at)
        if at == 0 and ratio is not None:
            self.setEditText(f"{ratio.width:g}:{ratio.height:g}")


def _index(ratio: Ratio | None) -> int:
    if ratio is None:
        return 0
    for n, (_, known) in enumerate(RATIOS):
        if known is not None and known.width == ratio.width and known.height == ratio.height:
            return n
        if known is not None and known.width == ratio.height and known.height == ratio.width:
            return len(RATIOS) + n - 2
    return 0
