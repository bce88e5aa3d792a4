"""Jobs of many parts: spheres of means, brackets, a sky behind land, portraits widened, half a ring, whole cards."""

import shutil
from datetime import timedelta
from pathlib import Path
from unittest.mock import patch

import cv2
import numpy as np
from PIL import Image
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from tests.jobs.night import painted, rows_of
from tests.jobs.support import JobTest, light_of, raw_of, read_tiff, shrunk_demo, truth_of
from tests.support import ridge, rotation_errors_deg
from windfell.demo.clip import write_video
from windfell.demo.truth import START
from windfell.finish.kinds import KINDS
from windfell.geometry.rotation import nearest_rotation
from windfell.job import Job
from windfell.pixels.colour import srgb_encoded
from windfell.recipe import finishing as f
from windfell.recipe.combining import Rule
from windfell.recipe.output import Format
from windfell.recipe.sources import SetSource


class SphereOfMeans(JobTest):
    number, title = 6, "A raw burst for each direction of a sphere: means, joined, looked at flat, shared as a page"
    doubt = "Where the page is: a format like the others, .html"
    changed = "Bursts of a sphere were taken for single frames, as no likeness is seen in sky; their times tell now"

    def test(self):
        rounds = shrunk_demo("tarn-round", 0.27)
        card = self.folder / "card"
        card.mkdir()
        for n, path in enumerate(sorted(rounds.glob("*.jpg"))):
            for k in range(2):
                raw_of(path, card / f"round-{n:02d}-{k}.dng", 0.02, 10 * n + k, START + timedelta(seconds=12 * n + k))
        self.drop(card)
        gather = self.window.stations["gather"]
        lane = next(x for x in gather.page.board.lanes if x.set_id == self.session.set_id)
        own = self.session.frame_set
        self.assertTrue(all(isinstance(x.source, SetSource) for x in own.frames), "bursts are told")
        self.assertEqual(len(own.frames), 10)
        if lane.rule.currentData() != "mean":
            self.pick(lane.rule, "Mean")
        self.go("join")
        self.wait()
        self.all_placed()
        truth = [np.array(t["rotation"]) for t in truth_of(rounds)["frames"]]
        found = self.window.registrations.found
        self.assertLess(rotation_errors_deg([found.frames[n].posed.rotation for n in range(10)], truth).max(), 0.3)
        shape = self.go("shape")
        self.press(shape.sphere)
        self.wait()
        join = self.go("join")
        self.choose(join.pages, "mend")
        self.press(join.flat.on)
        self.wait()
        self.press(join.flat.on)
        export = self.go("export")
        self.pick(export.format.box, "page")
        self.assertIs(self.session.frame_set.output.format, Format.HTML)
        page = self.write("tarn.html")
        text = page.read_text(encoding="utf-8")
        self.assertIn("data:image/jpeg;base64,", text)
        self.assertNotIn("http://", text.replace("http://www.w3.org", ""))


class Sunrise(JobTest):
    number, title = 19, "Brackets in three directions at sunrise: one press, bright sky and dark pews both there"
    doubt = "None: the card is proposed as a panorama of stacks"
    changed = "The lane's parts flashed up as windows of their own, and keys went nowhere after a drop"

    def test(self):
        chapel = shrunk_demo("chapel-brackets", 0.5)
        self.drop(self.card(*sorted(chapel.glob("*.jpg"))))
        own = self.session.frame_set
        self.assertEqual((str(own.kind), len(own.frames)), ("panorama", 3))
        inner = self.session.project.set(own.frames[0].source.set)
        self.assertIs(inner.combining.rule, Rule.EXPOSURES)
        finish = self.go("finish")
        self.wait()
        self.menu(finish.add, KINDS[f.Light].title)
        rulers = finish.pages[f.Light].rulers
        self.type_in(rulers["highlights_pct"], -80)
        self.type_in(rulers["shadows_pct"], 40)
        self.menu(finish.add, KINDS[f.Softness].title)
        self.type_in(finish.pages[f.Softness].rulers["along_px"], 3)
        self.wait()
        self.all_placed()
        picture, covered = read_tiff(self.write("sunrise.tif"))
        seen = picture[covered]
        self.assertLess(np.mean(seen.max(axis=1) > 0.995), 0.05, "windows hold their colours")
        self.assertLess(np.mean(seen.max(axis=1) < 0.02), 0.02, "pews are seen")


class Night(JobTest):
    number, title = 10, "A night sky in two rows behind a row of the land: wings pulled in, stars smaller, glow kept"
    changed = "The night's land is too dark to place it by: the skyline in front is sought in its light"

    def test(self):
        sky, land = self.folder / "sky", self.folder / "land"
        for name, place in (("sky", sky), ("land", land)):
            place.mkdir()
            for path in sorted(rows_of(name).glob("*.jpg")):
                shutil.copy2(path, place / path.name)
        self.drop(sky)
        back = self.session.frame_set
        self.go("align")
        self.wait()
        self.all_placed()
        self.drop(land)
        self.until(lambda: len(self.session.project.sets) == 2 and self.session.frame_set.id != back.id)
        front = self.session.frame_set
        self.wait()
        shape = self.go("shape")
        self.wait()
        self.choose(shape.tabs, "outline")
        self.choose(shape.outline.hand, "net")
        self.wait()
        self.draw((0.002, 0.004), (0.02, 0.03))
        join = self.go("join")
        self.wait()
        self.choose(join.pages, "behind")
        self.presses += 1
        with patch("windfell.app.set_deeds.QInputDialog.getItem", return_value=(back.name, True)):
            self.press(join.behind.lay)
        self.until(lambda: self.session.frame_set.behind is not None)
        self.wait()
        self.assertIn("skyline", " ".join(self.said))
        self.type_in(join.behind.soft, 0.8)
        self.type_in(join.behind.room, 40)
        self.wait()
        finish = self.go("finish")
        self.menu(finish.add, KINDS[f.Stars].title)
        self.type_in(finish.pages[f.Stars].rulers["less_pct"], 60)
        self.wait()
        plain, _ = read_tiff(self.write("night.tif"))
        self.go("finish")
        self.menu(finish.add, KINDS[f.Light].title)
        self.type_in(finish.pages[f.Light].rulers["exposure_ev"], 1.0)
        self.press(finish.area)
        self.window.area_bar.brush._line._move_to(90.0)
        self.presses += 1
        self.draw((0.3, 0.42), (0.6, 0.22), (0.75, 0.12))
        self.window.hand.put_away()
        self.presses += 1
        picture, covered = read_tiff(self.write("night.tif"))
        self._like_the_truth(plain, covered, front)
        gain = np.log2((light_of(picture).mean(axis=2) + 1e-5) / (light_of(plain).mean(axis=2) + 1e-5))
        h, w = gain.shape
        self.assertGreater(np.median(gain[int(0.2 * h) : int(0.25 * h), int(0.57 * w) : int(0.63 * w)]), 0.6)
        self.assertLess(abs(np.median(gain[int(0.9 * h) :])), 0.05)

    def _like_the_truth(self, picture, covered, front) -> None:
        """Where the sky is, the night's; the land by day; seen along the rays of what was written."""
        stages = self.session.engine.stages(self.session.project, front.id)
        canvas, found = stages.canvas(Job()), stages.registration(Job())
        h, w = picture.shape[:2]
        y, x = np.mgrid[4:h:6, 4:w:6]
        rays = canvas.rays(np.stack([(x + 0.5) * canvas.width / w, (y + 0.5) * canvas.height / h], -1) - 0.5)
        true = [np.array(t["rotation"]) for t in truth_of(rows_of("land"))["frames"]]
        turn = nearest_rotation(sum(t @ f.rotation.T for t, f in zip(true, found.frames, strict=True)))
        rays = rays @ turn.T
        lon, lat = np.degrees(np.arctan2(rays[..., 0], rays[..., 2])), -np.degrees(np.arcsin(rays[..., 1]))
        smooth = cv2.GaussianBlur(picture, (0, 0), 1.5)[4::6, 4::6]
        for night, where in ((True, (lat > 12) & (lat < 30)), (False, (lat < -1) & (lat > -9))):
            c = painted(night)
            at = (np.stack([lon + 180, c.high - lat], -1) * c.per_deg - 0.5).astype(np.float32)
            wanted = cv2.remap(cv2.GaussianBlur(c.colour, (0, 0), 4), at, None, cv2.INTER_LINEAR)
            off = np.abs(wanted - smooth).mean(axis=2)[where & covered[4::6, 4::6] & (np.abs(lon + 5) < 30)]
            self.assertGreater(off.size, 300)
            self.assertLess(np.median(off), 0.03, "night" if night else "land")


class Portrait(JobTest):
    number, title = 17, "A portrait widened by a frame on each side, seams checked, a corner cloned"

    def test(self):
        row = sorted(shrunk_demo("ridge-sweep").glob("*.jpg"))
        card = self.card(*row[2:5])
        # shallow focus: all but the portrait in the middle frame is soft
        for n, path in enumerate(sorted(card.iterdir())):
            with Image.open(path) as told:
                exif = told.getexif()
            pixels = cv2.GaussianBlur(cv2.imread(str(path)), (0, 0), 1.6)
            if n == 1:
                h, w = pixels.shape[:2]
                cv2.ellipse(pixels, (w // 2, h // 2), (w // 7, h // 5), 0, 0, 360, (60, 70, 170), -1, cv2.LINE_AA)
            Image.fromarray(np.ascontiguousarray(pixels[..., ::-1])).save(path, quality=95, exif=exif)
        self.drop(card)
        join = self.go("join")
        self.wait()
        self.all_placed()
        self.until(lambda: join.walk.list.count() > 0)
        self.tap(Qt.Key.Key_Period)
        self.wait()
        self.assertEqual(join.walk.list.currentRow(), 0)
        # the seams through masks: what the frame of the portrait owns holds all of it, with room around
        self.choose_frame(2)
        self.choose(join.pages, "own")
        self.choose(join.own.sees, "owned")
        self.until(lambda: join.own.overlay is not None)
        seen, owned = self.window.source.shown.image, join.own.overlay
        spots = [(x / 60, y / 40) for x in range(1, 60) for y in range(12, 40)]
        colours = [seen.pixelColor(int(x * seen.width()), int(y * seen.height())) for x, y in spots]
        red = [spot for spot, c in zip(spots, colours, strict=True) if c.red() > 140 > 110 > c.green()]
        self.assertGreater(len(red), 8)
        for x, y in red:
            self.assertGreater(owned.pixelColor(int(x * owned.width()), int(y * owned.height())).alpha(), 60)
        self.choose(join.own.sees, "picture")
        finish = self.go("finish")
        self.choose(finish.views, "repairs")
        self.press(finish.mending.clone)
        self.window.view.fit()
        self.presses += 1
        self.press_picture(0.3, 0.85)
        self.until(lambda: self.window.hand.target is not None)
        self.draw((0.12, 0.88), (0.14, 0.9))
        self.wait()
        self.assertEqual(len(self.session.frame_set.repairs), 1)
        picture, covered = read_tiff(self.write("portrait.tif"))
        red = (picture[..., 0] > 0.55) & (picture[..., 1] < 0.4) & covered
        _, _, stats, _ = cv2.connectedComponentsWithStats(red.astype(np.uint8))
        self.assertEqual(sum(stats[1:, 4] > 1200), 1, "the portrait is whole and there once")


class Moonlight(JobTest):
    number, title = 13, "Half a ring by moonlight through a lens without metadata; a frame kept aside; a variant"

    def test(self):
        row = sorted(shrunk_demo("ridge-sweep").glob("*.jpg"))
        card = self.folder / "card"
        card.mkdir()
        for path in row[:6]:
            night = light_of(np.asarray(Image.open(path), np.float32) / 255) * np.float32(0.12)
            dark = srgb_encoded(np.clip(night, 0, 1))
            Image.fromarray(np.rint(255 * dark).astype(np.uint8)).save(card / path.name, quality=96)
        self.drop(card)
        own = self.session.frame_set
        self.assertEqual(len(own.frames), 6)
        gather = self.window.stations["gather"]
        self.press(gather.vary)
        variant = self.session.frame_set
        self.assertNotEqual(variant.id, own.id)
        self.go("shape")
        self.wait()
        self.choose_frame(6)
        self.tap(Qt.Key.Key_O)
        self.wait()
        self.assertFalse(self.session.frame_set.frames[5].on)
        self.all_placed()
        short, _ = read_tiff(self.write("with-tent.tif"))
        self.select(own.name)
        whole, _ = read_tiff(self.write("without.tif"))
        self.assertGreater(whole.shape[1], short.shape[1] + 20)


class Boathouse(JobTest):
    number, title = 20, "Frames too many: which are enough, what is doubled by parallax, the right ratio"
    doubt = "Which frame adds nothing: the bars of Coverage, and Readiness names them"

    def test(self):
        self.drop(self.card(*sorted(ridge(10, overlap=0.76).glob("*.jpg"))))
        own = self.session.frame_set
        self.assertEqual((str(own.kind), len(own.frames)), ("panorama", 10))
        align = self.go("align")
        self.wait()
        self.assertEqual(len(self.window.registrations.found.placed), 10)
        # the bars of Coverage at Gather say that each adds a little: every third is enough
        for n in (2, 3, 5, 6, 8, 9):
            self.choose_frame(n)
            self.tap(Qt.Key.Key_O)
        self.wait()
        self.assertEqual(len(self.session.frame_set.used), 4)
        self.all_placed()
        self.choose(align.shown, "parallax")
        self.wait()
        self.choose(align.shown, "map")
        shape = self.go("shape")
        self.choose(shape.tabs, "outline")
        self.choose(shape.outline.edges, "trim")
        self.pick(shape.outline.ratio, "2:1")
        self.wait()
        picture, covered = read_tiff(self.write("boathouse.tif"))
        self.assertTrue(covered.all())
        self.assertAlmostEqual(picture.shape[1] / picture.shape[0], 2.0, delta=0.02)


class Kites(JobTest):
    number, title = 21, "A video of a dog chasing a kite: trimmed, the dog boxed and followed, still and moving"
    doubt = "Whether the box is drawn on the picture: its tooltip says so, and the pointer is a cross"

    def video(self, path: Path) -> np.ndarray:
        """The land alone; in the video a dog runs under a kite, until it is out of the picture."""
        frame = cv2.cvtColor(cv2.imread(str(sorted(ridge().glob("*.jpg"))[1])), cv2.COLOR_BGR2RGB)
        land = cv2.resize(frame[: frame.shape[0] * 4 // 5], (480, 320), interpolation=cv2.INTER_AREA)
        rng = np.random.default_rng(4)
        fur = cv2.resize(rng.uniform(20, 110, (6, 12)).astype(np.float32), (56, 30), interpolation=cv2.INTER_CUBIC)

        def picture(n: int) -> np.ndarray:
            out = land.copy()
            at = 20 + 9 * n
            kite = np.array([[at + 70, 40], [at + 88, 62], [at + 70, 84], [at + 52, 62]])
            cv2.fillConvexPoly(out, kite, (200, 40, 40), cv2.LINE_AA)
            if n < 30:
                y = 250 - int(14 * abs(np.sin(n)))
                inside = np.zeros((30, 56), np.uint8)
                cv2.ellipse(inside, (28, 15), (26, 13), 0, 0, 360, 1, -1)
                spot = out[y : y + 30, at : at + 56]
                spot[inside[:, : spot.shape[1]] > 0] = fur[:, : spot.shape[1], None][inside[:, : spot.shape[1]] > 0]
            return np.clip(out + rng.normal(0, 2, out.shape), 0, 255).astype(np.uint8)

        write_video(path, (picture(n) for n in range(44)), 12)
        return land

    def test(self):
        card = self.folder / "card"
        card.mkdir()
        land = self.video(card / "dog.mp4")
        self.drop(card)
        gather = self.window.stations["gather"]
        self.wait()
        trimmer = gather.trimmer
        lane = next(x for x in gather.page.board.lanes if x.set_id == self.session.set_id)
        self.press(lane.cards[0])
        self.drag_film(trimmer.film, trimmer.film.end_s, 3.0)
        self.assertAlmostEqual(trimmer.film.end_s, 3.0, delta=0.1)
        self.press(trimmer.evenly)
        self.wait()
        used = self.session.frame_set.used
        self.assertEqual(len(used), 9)
        self.assertLess(max(f.source.time_s for f in used), 3.1)
        lane = next(x for x in gather.page.board.lanes if x.set_id == self.session.set_id)
        self.choose(lane.kind, "stack")
        align = self.go("align")
        self.choose(align.way, "perspective")
        self.wait()
        subjects = self.go("subjects")
        self.wait()
        self.press(subjects.controls_of.follow)
        self.drag_picture((10 / 480, 225 / 320), (90 / 480, 290 / 320))
        self.wait()
        self.assertIn("not found in frame", subjects.controls_of.words.text())
        offered = [subjects.shelf.found.movers[n] for n in subjects.offered]
        self.assertEqual(len(offered), 7, "the dog, and not the kite")
        self.press(subjects.controls_of.drop)
        self.wait()
        self.assertEqual(len(self.session.frame_set.used), 7)
        self.press(subjects.controls_of.suggest)
        self.wait()
        still, _ = read_tiff(self.write("dog.tif"))
        off = np.abs(255 * still - land).max(axis=2)
        self.assertLess(np.percentile(off[:190], 99.5), 26, "the kite is not in it")
        count, _, stats, _ = cv2.connectedComponentsWithStats((cv2.blur(off[200:], (5, 5)) > 14).astype(np.uint8))
        self.assertEqual(int(np.sum(stats[1:count, 4] > 500)), len(subjects.taken))
        self.assertGreaterEqual(len(subjects.taken), 4)
        self.go("subjects")
        self.choose(subjects.views, "animate")
        self.wait()
        path = self.folder / "dog.gif"
        self.type_in(subjects.animating.fps, 8)
        self.presses += 1
        self.in_dialog(path, subjects.animating.write.click)
        self.until(lambda: path.exists() and not self.session.desk.busy)
        with Image.open(path) as moving:
            self.assertEqual(moving.n_frames, 7)
            self.assertAlmostEqual(moving.info["duration"], 125, delta=6)

    def drag_film(self, film, start_s: float, end_s: float) -> None:
        """One end of what is kept of the video, dragged at the lower edge, where its handle is."""
        self.presses += 1
        a, b = (QPoint(round(film._x(s)), film.height() - 8) for s in (start_s, end_s))
        QTest.mousePress(film, Qt.MouseButton.LeftButton, pos=a)
        QTest.mouseMove(film, b)
        QTest.mouseRelease(film, Qt.MouseButton.LeftButton, pos=b)
        self.app.processEvents()


class WholeCard(JobTest):
    number, title = 22, "A whole card of sets in a hurry: proposed, looked through, written by the queue"

    def test(self):
        card = self.card(*sorted(shrunk_demo("ridge-sweep").glob("*.jpg"))[:3])
        for n, (name, count) in enumerate((("village-green", 4), ("two-row-sweep", 4), ("drystone-wall", 3))):
            for path in sorted(shrunk_demo(name).glob("*.jpg"))[:count]:
                shutil.copy2(path, card / f"{n}-{path.name}")
        self.drop(card)
        sets = self.session.project.sets
        self.assertEqual(len(sets), 4)
        gather = self.window.stations["gather"]
        self.press(gather.accept)
        export = self.go("export")
        self.wait()
        written = []
        for one in sets:
            if one.id != self.session.set_id:
                self.select(one.name)
                if self.session.station != "export":
                    self.go("export")
            path = self.folder / f"{one.name}.tif"
            self.type_in(export.place, path)
            self.press(export.later)
            written.append(path)
        self.press(export.hold)
        self.until(lambda: all(p.exists() for p in written) and not self.session.desk.busy, 120)
        self.wait()
        for path in written:
            picture, _ = read_tiff(path)
            self.assertGreater(picture.std(), 0.02)
        self.assertFalse(list(self.folder.glob("*.part")) + list(self.folder.glob(".*.part")))
