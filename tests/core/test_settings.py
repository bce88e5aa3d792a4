"""Settings: kept in a file of their own, read strictly, acted on by the engine."""

import os
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from windfell.cache import Cache
from windfell.engine.core import Engine
from windfell.engine.settings import (
    Look,
    Settings,
    cache_bytes,
    cache_folder,
    clear_cache,
    read_or_shipped,
    read_settings,
    settings_file,
    write_settings,
)
from windfell.errors import BadRequest
from windfell.recipe.output import Format, Output
from windfell.recipe.sizes import output_in_words


class Kept(unittest.TestCase):
    def setUp(self):
        home = tempfile.TemporaryDirectory()
        self.addCleanup(home.cleanup)
        before = os.environ.get("WINDFELL_HOME")
        os.environ["WINDFELL_HOME"] = home.name
        self.addCleanup(lambda: os.environ.pop("WINDFELL_HOME") if before is None
                        else os.environ.__setitem__("WINDFELL_HOME", before))
        self.home = Path(home.name)

    def test_they_come_back_as_they_were_kept_and_are_as_shipped_without_a_file(self):
        self.assertEqual(read_settings(), Settings())
        output = Output(Format.JPEG, 8, long_px=900)
        wished = Settings(Look.PEAT, 90, 1024, 512, str(self.home / "elsewhere"), None, output)
        write_settings(wished)
        self.assertEqual(read_settings(), wished)
        self.assertEqual(output_in_words(wished.output), "JPEG, 8 bit, srgb, 900 long")

    def test_a_broken_file_is_a_sentence_that_names_it(self):
        settings_file().parent.mkdir(parents=True)
        for text in ("{", '{"theme": "pink"}', '{"memory_mb": 3}', "[]", '{"disk_mb": "much"}'):
            with self.subTest(text):
                settings_file().write_text(text)
                with self.assertRaises(BadRequest) as caught:
                    read_settings()
                self.assertIn("settings.json", str(caught.exception))
                found, why = read_or_shipped()
                self.assertEqual(found, Settings())
                self.assertIn("as shipped", why)
                self.assertEqual(cache_folder(), self.home / "cache")

    def test_what_a_later_version_wrote_is_kept(self):
        settings_file().parent.mkdir(parents=True)
        settings_file().write_text('{"theme": "peat", "later": [1, 2]}')
        write_settings(replace(read_settings(), surround=40))
        self.assertIn('"later"', settings_file().read_text())

    def test_the_engine_goes_by_them(self):
        place = self.home / "big disk"
        place.mkdir()
        write_settings(Settings(memory_mb=300, cache_place=str(place)))
        engine = Engine.by_settings()
        self.assertEqual(engine.cache.budget_bytes, 300 * 2**20)
        engine.cache.get("k", lambda: np.zeros(1000), on_disk=True)
        self.assertGreater(cache_bytes(cache_folder()), 8000)
        self.assertTrue(str(cache_folder()).startswith(str(place)))
        (cache_folder() / "mine.txt").write_text("not the cache's")
        clear_cache(cache_folder())
        self.assertEqual(cache_bytes(cache_folder()), 0)
        self.assertTrue((cache_folder() / "mine.txt").exists())


class Budget(unittest.TestCase):
    def test_a_smaller_budget_lets_go_at_once_and_clearing_of_all(self):
        cache = Cache(10_000_000)
        for n in range(8):
            cache.get(str(n), lambda: np.zeros(100_000))
        self.assertEqual(cache.used_bytes, 6_400_000)
        cache.limit(1_700_000)
        self.assertLessEqual(cache.used_bytes, 1_700_000)
        self.assertTrue(cache.holds("7"))
        self.assertFalse(cache.holds("0"))
        cache.clear()
        self.assertEqual((cache.used_bytes, cache.holds("7")), (0, False))
