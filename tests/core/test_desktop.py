"""The menu entry, icon and file type: installed for one user, valid, and gone again."""

import configparser
import os
import tempfile
import tomllib
import unittest
import xml.etree.ElementTree as ET
from fnmatch import fnmatch
from pathlib import Path

from windfell import __version__
from windfell.cli.desktop import FILES
from windfell.cli.main import main

ROOT = Path(__file__).resolve().parents[2]


class Desktop(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.place = Path(folder.name) / "share"
        before = os.environ.get("XDG_DATA_HOME")
        os.environ["XDG_DATA_HOME"] = str(self.place)
        self.addCleanup(lambda: os.environ.pop("XDG_DATA_HOME") if before is None
                        else os.environ.__setitem__("XDG_DATA_HOME", before))

    def test_installed_valid_and_removed(self):
        self.assertEqual(main(["desktop"]), 0)
        entry = configparser.ConfigParser(interpolation=None)
        entry.optionxform = str
        entry.read(self.place / "applications" / "windfell.desktop")
        words = entry["Desktop Entry"]
        program = words["Exec"].removesuffix(" %F").removesuffix(" -m windfell").strip('"')
        self.assertTrue(os.access(program, os.X_OK), words["Exec"])
        self.assertTrue(words["Exec"].endswith(" %F"))
        self.assertIn("application/x-windfell", words["MimeType"].split(";"))
        mime = ET.parse(self.place / "mime" / "packages" / "windfell.xml").getroot()
        self.assertEqual(mime[0].get("type"), "application/x-windfell")
        about = ET.parse(self.place / "metainfo" / "windfell.metainfo.xml").getroot()
        self.assertEqual(about.findtext("id"), "windfell")
        self.assertEqual(about.find("releases")[0].get("version"), __version__)
        for image in about.iter("image"):
            self.assertTrue((ROOT / image.text).exists(), image.text)
        self.assertTrue((self.place / "icons/hicolor/scalable/apps/windfell.svg").read_text().startswith("<"))
        self.assertEqual(main(["desktop", "--remove"]), 0)
        self.assertFalse(any((self.place / name).exists() for name in FILES))

    def test_a_place_that_cannot_be_written_is_a_sentence(self):
        self.place.parent.mkdir(exist_ok=True)
        self.place.write_text("a file")
        self.assertEqual(main(["desktop"]), 2)

    def test_a_wheel_holds_every_asset(self):
        told = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["setuptools"]["package-data"]["windfell"]
        patterns = [p.replace("**/*", "*") for p in told]
        for path in (ROOT / "windfell").rglob("*"):
            name = path.relative_to(ROOT / "windfell").as_posix()
            if path.is_file() and path.suffix not in (".py", ".pyc"):
                self.assertTrue(any(fnmatch(name, p) for p in patterns), name)
