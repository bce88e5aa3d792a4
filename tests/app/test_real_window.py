"""A real window on a virtual screen, with a real keyboard's events."""

import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from PIL import Image

from tests.support import frames_in, ridge

ROOT = Path(__file__).resolve().parents[2]
TOOLS = all(shutil.which(t) for t in ("Xvfb", "xdotool"))


@unittest.skipUnless(TOOLS, "Xvfb and xdotool are not here; tools/setup names them")
class RealWindow(unittest.TestCase):
    def setUp(self):
        self._home = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(self._home.cleanup)
        reading, writing = os.pipe()
        self.screen = subprocess.Popen(
            ["Xvfb", "-displayfd", str(writing), "-noreset", "-screen", "0", "1280x800x24"], pass_fds=(writing,),
            stderr=subprocess.DEVNULL)
        self.addCleanup(self._end, self.screen)
        os.close(writing)
        with os.fdopen(reading) as told:
            display = f":{told.readline().strip()}"
        self.env = {**os.environ, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "WINDFELL_HOME": self._home.name}

    @staticmethod
    def _end(process: subprocess.Popen) -> None:
        if process.poll() is None:
            process.terminate()
        process.wait(10)

    def _xdotool(self, *words: str) -> str:
        done = subprocess.run(["xdotool", *words], env=self.env, capture_output=True, text=True, check=False)
        return done.stdout.strip()

    def test_it_opens_obeys_keys_and_quits(self):
        process = subprocess.Popen([sys.executable, "-m", "windfell", *frames_in(ridge())], cwd=ROOT, env=self.env)
        self.addCleanup(self._end, process)
        window, end = "", time.monotonic() + 300
        while not window and time.monotonic() < end:
            window = self._xdotool("search", "--onlyvisible", "--name", "Windfell").partition("\n")[0]
        self.assertTrue(window, "no window came up")
        self._xdotool("windowfocus", window)
        while process.poll() is None and time.monotonic() < end:
            self._xdotool("key", "--window", window, "ctrl+q")
            time.sleep(0.2)
        self.assertEqual(process.wait(10), 0)

    def test_the_screenshot_mode_shows_a_settled_station(self):
        out = Path(self._home.name) / "shot.png"
        done = subprocess.run(
            [sys.executable, "-m", "windfell", "--screenshot", str(out), "--station", "combine",
             "--set", "village-green"], cwd=ROOT, env=self.env, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        with Image.open(out) as image:
            self.assertEqual(image.size, (1280, 800))
            self.assertGreater(len(image.convert("RGB").getcolors(2**24)), 5000)
