"""The menu entry, icon and file type: installed for one user, valid, and gone again."""

import configparser
import os
import tempfile
import tomllib
import unittest
import xml.etree.ElementTree as ET
from datetime import UTC, datetime
from fnmatch import fnmatch
from pathlib import Path

from windfell import __version__
from windfell.cli.desktop import FILES
from windfell.cli.main import main
from windfell.engine.desktop_recents import BOOKMARK, told_desktop

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

    def test_a_project_joins_the_list_of_recent_documents_and_what_is_there_stays(self):
        project = Path(self.place.parent) / "fell & tarn.windfell"
        self.assertFalse(told_desktop(project))
        self.place.mkdir()
        listed = self.place / "recently-used.xbel"
        self.assertFalse(listed.exists())  # no desktop keeps one
        other = (f'<xbel version="1.0" xmlns:bookmark="{BOOKMARK}"><bookmark href="file:///a.txt"><info><metadata>'
                 '<bookmark:applications><bookmark:application name="Notes" exec="notes" count="3"/>'
                 '</bookmark:applications></metadata></info></bookmark></xbel>')
        listed.write_text(other)
        for _ in range(2):
            self.assertTrue(told_desktop(project, datetime(2026, 11, 1, 8, 30, tzinfo=UTC)))
        marks = ET.parse(listed).getroot().findall("bookmark")
        self.assertEqual([m.get("href") for m in marks], ["file:///a.txt", project.as_uri()])
        programs = [list(m.iter(f"{{{BOOKMARK}}}application")) for m in marks]
        self.assertEqual([[(p.get("name"), p.get("count")) for p in own] for own in programs],
                         [[("Notes", "3")], [("Windfell", "2")]])
        self.assertEqual(marks[1].get("visited"), "2026-11-01T08:30:00Z")
        self.assertEqual(marks[1].find(".//{*}mime-type").get("type"), "application/x-windfell")
        listed.write_text("<xbel")
        self.assertFalse(told_desktop(project))
        self.assertEqual(listed.read_text(), "<xbel")

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
