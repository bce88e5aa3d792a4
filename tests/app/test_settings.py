"""Settings in the real window: each acts at once and is there again on the next day."""

import tempfile
from pathlib import Path

import imagecodecs
import numpy as np
from PySide6.QtGui import QColor, QImage
from PySide6.QtWidgets import QSpinBox

from tests.app.support import ENGINE, WindowTest, frames_in, ridge
from windfell.app import theme
from windfell.app.screen import SCREEN
from windfell.app.session import Session
from windfell.engine.settings import read_settings, settings_file
from windfell.recipe.output import Format, Output


class Setting(WindowTest):
    def setUp(self):
        super().setUp()
        self.open("shape")
        self.addCleanup(lambda: SCREEN.use(None))
        budget = ENGINE.cache.budget_bytes
        self.addCleanup(lambda: ENGINE.cache.limit(budget))
        self.window.do("settings")
        self.settings = self.window.deeds.settings

    def test_theme_and_surround_act_at_once_and_are_there_again(self):
        self.settings.theme.press("peat")
        self.settings.surround._line._move_to(60)
        self.settle()
        self.assertEqual(theme.current().name, "Peat")
        self.assertEqual(QColor(self.window.view.surround).red(), 60)
        kept = read_settings()
        self.assertEqual((str(kept.theme), kept.surround), ("peat", 60))
        again = Session(ENGINE)
        self.assertEqual(again.settings, kept)
        again.close()
        self.window.do("other_theme")
        self.window.do("lighter_surround")
        self.settle()
        self.assertEqual((str(read_settings().theme), read_settings().surround), ("limestone", 72))
        self.settings.surround._line._move_to(self.settings.surround._line.rest)
        self.assertIsNone(read_settings().surround)

    def test_memory_and_disk_are_limited_and_the_cache_is_cleared(self):
        memory, disk = self.settings.findChildren(QSpinBox)
        memory.setValue(300)
        disk.setValue(100)
        self.assertEqual((read_settings().memory_mb, read_settings().disk_mb), (300, 100))
        self.assertEqual(ENGINE.cache.budget_bytes, 300 * 2**20)
        memory.setValue(memory.minimum())
        self.assertIsNone(read_settings().memory_mb)
        self.click(self.settings.clear)
        self.until(lambda: ENGINE.cache.used_bytes < 2**20)
        self.settle()

    def test_new_sets_are_written_as_is_wished_and_a_broken_file_is_said(self):
        self.session.change_all({"output.format": Format.JPEG, "output.depth": 8, "output.quality": 77}, True)
        self.click(self.settings.as_here)
        self.assertEqual(read_settings().output.quality, 77)
        self.window.do("new_project")
        self.window.open_paths(frames_in(ridge()))
        self.until(lambda: self.session.frame_set is not None)
        output = self.session.frame_set.output
        self.assertEqual((output.format, output.quality), (Format.JPEG, 77))
        self.click(self.settings.as_shipped)
        self.assertEqual(read_settings().output, Output())
        self.settle()
        settings_file().write_text("{")
        broken = Session(ENGINE)
        self.assertIn("settings.json", broken.settings_fault)
        broken.close()

    def test_a_screen_s_profile_turns_what_is_painted_but_no_value(self):
        plain = self.window.view.grab().toImage()
        shown = self.window.source.shown.image
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "screen.icc"
            path.write_bytes(imagecodecs.cms_profile("adobergb"))
            self.settings._use(screen_profile=str(path))
            self.settle()
            self.assertEqual(read_settings().screen_profile, str(path))
            turned = self.window.view.grab().toImage()
            at = turned.width() // 2, turned.height() // 2
            self.assertNotEqual(turned.pixelColor(*at).rgb(), plain.pixelColor(*at).rgb())
            self.assertIs(self.window.source.shown.image, shown)
            # a wider space needs less of a strong colour: what an independent reader makes of it is the same
            strong = QImage(8, 8, QImage.Format.Format_RGBA8888_Premultiplied)
            strong.fill(QColor(30, 200, 60))
            given = SCREEN.shown(strong).pixelColor(4, 4).getRgb()[:3]
            wanted = imagecodecs.cms_transform(
                np.array([[[30, 200, 60]]], np.uint8), imagecodecs.cms_profile("srgb"), path.read_bytes(),
                colorspace="rgb", outcolorspace="rgb", outdtype="uint8", intent=1)[0, 0]
            self.assertLessEqual(np.abs(np.array(given) - wanted).max(), 2)
            before = read_settings()
            path.write_bytes(b"no profile")
            self.settings._use(screen_profile=str(path), surround=10)
            self.assertIn("no ICC profile", self.said[-1])
            self.assertEqual(read_settings(), before)
        self.settings.no_profile.click()
        self.assertIsNone(read_settings().screen_profile)
