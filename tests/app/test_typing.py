"""Words that are no numbers, typed into every field of every station, leave the recipe's numbers whole."""

import json
import unittest

from PySide6.QtWidgets import QLineEdit

from tests.app.support import WindowTest
from windfell.app.widgets.typed import typed_number
from windfell.recipe.words import to_words

WORDS = ("nan", "inf", "-inf", "1e999", "fell")


class Typed(unittest.TestCase):
    def test_a_number_is_finite_with_a_point_or_a_comma(self):
        self.assertEqual(typed_number("3,5 %", "%"), 3.5)
        self.assertEqual(typed_number(" -2.25px", "px"), -2.25)
        for word in (*WORDS, "", "3x4", "1,2,3"):
            with self.subTest(word):
                self.assertIsNone(typed_number(word))


class EveryField(WindowTest):
    def typed_into_all(self, station: str, set_id: str) -> int:
        self.session.select_set(set_id)
        self.session.go(station)
        self.settle()
        part = self.window.stations[station]
        homes = [w for w in (part.controls, part.instrument, part.page) if w is not None]
        fields = [f for home in homes for f in home.findChildren(QLineEdit) if f.isEnabled() and not f.isReadOnly()]
        for field in fields:
            for word in WORDS:
                with self.subTest(station, field=field.accessibleName() or field.placeholderText(), word=word):
                    field.setText(word)
                    field.editingFinished.emit()
                    # NaN and infinity are no words of a project
                    json.dumps(to_words(self.session.project), allow_nan=False)
        return len(fields)

    def test_numbers_stay_finite(self):
        self.open("shape")
        self.assertGreater(self.typed_into_all("shape", "row"), 5)
        self.settle()
        self.assertGreater(self.typed_into_all("align", "row"), 1)
        self.assertGreater(self.typed_into_all("combine", "still"), 1)
        self.settle()


if __name__ == "__main__":
    unittest.main()
