"""A page to look around in: what it holds, and what a browser shows of it."""

import io
import json
import re
import shutil
import subprocess
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from tests.core.test_formats import CARRIED, Written, soft
from windfell.output.metadata import Pano
from windfell.output.page import FACES, cube_face

BROWSER = shutil.which("chromium")


class Page(Written):
    def sphere(self) -> tuple[Path, np.ndarray]:
        """A page of a drawn sphere, and the sphere."""
        y, x = np.mgrid[0:400, 0:800]
        whole = np.stack([x * 255 / 800, y * 255 / 400, 128 + 80 * np.sin(x * np.pi / 50) * np.cos(y / 20)], -1)
        whole = np.clip(whole, 0, 255).astype(np.uint8)

        carried = replace(CARRIED, pano=Pano(800, 400, 0, 0))
        return self.write("a.html", whole, 8, carried, quality=95), whole

    def test_a_page_needs_nothing_else(self):
        path, _ = self.sphere()
        text = path.read_text()
        self.assertNotIn("{{", text)
        self.assertIn("<title>The tarn</title>", text)
        self.assertFalse(re.search(r'(?:src|href)\s*=\s*"(?:https?:)?//', text))
        data = json.loads(re.search(r'id="picture">(.*?)</script>', text, re.S).group(1))
        self.assertEqual((data["kind"], {t["face"] for t in data["levels"][0]["tiles"]}), ("sphere", set("frblud")))

    def test_faces_of_the_cube_show_what_lies_there(self):
        _, whole = self.sphere()
        for face, (x, y) in {"f": (400, 200), "r": (600, 200), "l": (200, 200)}.items():
            seen = cube_face(whole, Pano(800, 400, 0, 0), face, 256)
            np.testing.assert_allclose(seen[128, 128].astype(int), whole[y, x].astype(int), atol=6)
        part = whole[150:250, 300:500], Pano(800, 400, 300, 150)
        self.assertIsNone(cube_face(*part, "b", 64))
        seen = cube_face(*part, "f", 256)
        np.testing.assert_allclose(seen[128, 128].astype(int), whole[200, 400].astype(int), atol=6)
        self.assertEqual(int(seen[2, 2].max()), 0)
        self.assertEqual(set(FACES), set("frblud"))

    @unittest.skipUnless(BROWSER, "no browser is installed here")
    def test_a_browser_looks_where_it_should(self):
        path, whole = self.sphere()
        for yaw, pitch, fov in ((0, 0, 90), (110, 25, 70), (-160, -50, 100)):
            with self.subTest(yaw=yaw, pitch=pitch):
                seen = _seen_in_browser(path, f"yaw={yaw}&pitch={pitch}&fov={fov}")
                wanted = _looked(whole, yaw, pitch, fov, seen.shape)
                # the words at the foot lie over the picture
                off = np.abs(seen.astype(int) - wanted)[:-110]
                self.assertLess(float(off.mean()), 4.0)

    @unittest.skipUnless(BROWSER, "no browser is installed here")
    def test_a_wide_picture_fills_the_page(self):

        picture = soft(300, 600, 3, 8)
        path = self.write("b.html", picture, 8, replace(CARRIED, pano=None), quality=95)
        seen = _seen_in_browser(path, "")
        h, w = seen.shape[:2]
        high = w // 2
        wanted = cv2.resize(picture, (w, high), interpolation=cv2.INTER_LINEAR)
        middle = seen[(h - high) // 2 : (h - high) // 2 + high]
        self.assertLess(float(np.abs(middle.astype(int) - wanted)[: high - 40].mean()), 6.0)


def _seen_in_browser(page: Path, at: str) -> np.ndarray:
    with tempfile.TemporaryDirectory() as home:
        shot = Path(home) / "shot.png"
        subprocess.run(
            [BROWSER, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
             "--disable-background-networking", "--disable-component-update", "--disable-sync",
             f"--user-data-dir={home}/user", "--window-size=800,600", "--hide-scrollbars",
             "--virtual-time-budget=5000", f"--screenshot={shot}", f"file://{page}#{at}"],
            check=True, capture_output=True, timeout=120)
        with Image.open(io.BytesIO(shot.read_bytes())) as image:
            return np.asarray(image.convert("RGB"))


def _looked(whole: np.ndarray, yaw: float, pitch: float, fov: float, shape: tuple) -> np.ndarray:
    """What a camera in the sphere sees, turned right and up by degrees, its longer side `fov` wide."""
    h, w = shape[:2]
    focal = 0.5 * max(w, h) / np.tan(np.radians(fov) / 2)
    y, x = np.mgrid[0:h, 0:w]
    u, v = (x + 0.5 - w / 2) / focal, (y + 0.5 - h / 2) / focal
    cy, sy, cp, sp = (f(np.radians(a)) for a in (yaw, pitch) for f in (np.cos, np.sin))
    right, down, ahead = (cy, 0, -sy), (sy * sp, cp, cy * sp), (sy * cp, -sp, cy * cp)
    rays = [u * right[n] + v * down[n] + ahead[n] for n in range(3)]
    lon, lat = np.arctan2(rays[0], rays[2]), np.arctan2(rays[1], np.hypot(rays[0], rays[2]))
    big, high = whole.shape[1], whole.shape[0]
    return cv2.remap(whole, ((lon / np.pi + 1) / 2 * big - 0.5).astype(np.float32),
                     ((lat / np.pi + 0.5) * high - 0.5).astype(np.float32), cv2.INTER_LINEAR,
                     borderMode=cv2.BORDER_WRAP)


if __name__ == "__main__":
    unittest.main()
