"""Help beside the work: of the station in hand, the guide made of the README, all keys."""

import importlib.machinery
import importlib.util
import unittest
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.app.support import WindowTest
from windfell.app.actions import ACTIONS
from windfell.app.help_words import HERE
from windfell.app.session import STATIONS
from windfell.app.widgets.help_window import GUIDE

ROOT = Path(__file__).resolve().parents[2]


def guide_tool():
    loader = importlib.machinery.SourceFileLoader("guide_tool", str(ROOT / "tools" / "guide"))
    module = importlib.util.module_from_spec(importlib.util.spec_from_loader("guide_tool", loader))
    loader.exec_module(module)
    return module


class Help(WindowTest):
    def test_the_key_says_what_a_station_is_for(self):
        self.open("shape", "row")
        QTest.keyClick(self.window, Qt.Key.Key_F1)
        self.until(lambda: self.window.deeds.help is not None and self.window.deeds.help.isVisible())
        for station, set_id in (("shape", "row"), ("combine", "still"), ("export", "still")):
            self.open(station, set_id)
            self.window.do("help_here")
            words = self.window.deeds.help.pages["here"].toPlainText()
            self.assertTrue(words.startswith(HERE[station][0]), words[:40])
            self.assertIn(HERE[station][2], words)
        self.window.deeds.help.close()

    def test_every_station_has_words_and_every_key_a_line(self):
        self.assertEqual(set(HERE), {s for some in STATIONS.values() for s in some})
        for _, what, way_on in HERE.values():
            self.assertLessEqual(what.count(". ") + 1, 3)
            self.assertTrue(what.endswith(".") and way_on.endswith("."))
        self.open("shape")
        self.window.do("keys")
        words = self.window.deeds.help.pages["keys"].toPlainText()
        for action in ACTIONS:
            for key in action.keys:
                self.assertIn(key, words)
        self.window.deeds.help.close()

    def test_the_guide_is_that_of_the_readme_and_its_pictures_are_there(self):
        text, names = guide_tool().guide_text((ROOT / "README.md").read_text(encoding="utf-8"))
        self.assertEqual((GUIDE / "guide.md").read_text(encoding="utf-8"), text, "run tools/guide")
        self.assertEqual({p.stem for p in GUIDE.glob("*.jpg")}, set(names))
        self.open("shape")
        self.window.do("guide")
        page = self.window.deeds.help.pages["guide"]
        self.assertIn("A first stack", page.toPlainText())
        self.window.deeds.help.close()


if __name__ == "__main__":
    unittest.main()
