"""The first stages of a panorama: frames opened, registered, helped by hand, set upright, posed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from windfell.align.even import Evened, evened
from windfell.align.features import Features
from windfell.align.help import meeting_points
from windfell.align.horizon import horizon_turn
from windfell.align.panorama import grounded, settled
from windfell.align.registration import PanoramaRegistration, oriented, seen_through, set_upright
from windfell.align.solve import Ground, LensHint, seen_at_any_depth
from windfell.align.upright import Upright, upright_turn
from windfell.align.view import View
from windfell.cache import key_of
from windfell.engine.greys import ever_closer
from windfell.engine.help import help_of, neighbours
from windfell.engine.sources import Opened
from windfell.engine.stage import Detail, Stages, content_key, frame_edges, glanced_features, ideal_features
from windfell.geometry.optics import Optics
from windfell.geometry.posed import Posed
from windfell.job import Job
from windfell.recipe.model import Camera


class RegisteredFrames(Stages):
    """Pure stages over one recipe; each result is kept by what it depends on."""

    def _ground_key(self, job: Job) -> str:
        def key() -> str:
            content = content_key(self._opened(job), self.set.used)
            r = self.set.registration
            return key_of("ground", content, r.focal_px, r.camera, r.rows, r.columns)

        return self._once("ground key", key)

    def _registration_key(self, job: Job) -> str:
        def key() -> str:
            h = help_of(self.set)
            return key_of(self._ground_key(job), h.points, h.lines, h.poses, sorted(h.dropped), h.worst_px, h.layout)

        return self._once("registration key", key)

    def _world_key(self, job: Job) -> str:
        return self._once("world key", lambda: key_of(
            self._registration_key(job), self.set.registration.level, self.set.joining.even_parallax))

    def registration(self, job: Job) -> PanoramaRegistration:
        """Where every frame in use lies, or why it could not be placed."""
        return self._once("registration", lambda: self._register(job))

    def as_taken(self, job: Job) -> PanoramaRegistration:
        """The registration, its cameras seeing as far as the frames do: a fisheye's see more than is matched."""
        found, opened = self.registration(job), self._opened(job)
        return seen_through(found, [self._host.optics(o, f) for o, f in zip(opened, self.set.used, strict=True)])

    def _register(self, job: Job) -> PanoramaRegistration:
        found = self._host.cache.get(
            self._registration_key(job), lambda: settled(self.ground(job), help_of(self.set), job, self.set.numbers))
        level = self.set.registration.level
        found = oriented(found, level)
        if not level or found.upright or found.flat:
            return found
        key = key_of("upright", self._registration_key(job))
        upright = self._host.cache.get(key, lambda: self._upright(found, job), on_disk=self.lasting(job))
        return set_upright(found, upright)

    def _upright(self, found: PanoramaRegistration, job: Job) -> Upright | None:
        """What the upright edges that the frames show, or else their horizon, say of the vertical."""
        opened = self._opened(job)
        edges = job.map(
            lambda n: frame_edges(self._host, opened[n], self.set.used[n], job), found.placed, "looking for edges")
        posed = [found.frames[n].posed for n in found.placed]
        return upright_turn(posed, edges) or horizon_turn(posed, edges)

    def ground(self, job: Job) -> Ground:
        """What the frames say by themselves, before anyone's help."""
        opened = self._opened(job)

        def register() -> Ground:
            r = self.set.registration
            pairs = neighbours(r.rows, r.columns, len(opened))
            optics = [self._host.optics(o, f) for o, f in zip(opened, self.set.used, strict=True)]
            if pairs is None:
                features, looks = glanced_features(self._host, opened, self.set.used, job)
            else:
                features, looks = ideal_features(self._host, opened, self.set.used, job), None
            hints = [
                LensHint((*o.lens_key, f.lens), known_focal_px(o, x))
                for o, f, x in zip(opened, self.set.used, optics, strict=True)
            ]
            if r.level and not self._slid:
                # wanted afterwards, and found while the adjustment needs but one core
                job.beside(lambda n: frame_edges(self._host, opened[n], self.set.used[n], job),
                           [n for n, f in enumerate(features) if not f.problem])
            def finer(numbers: list[int]) -> list[Features]:
                frames = self.set.used
                some = ideal_features(
                    self._host, [opened[n] for n in numbers], tuple(frames[n] for n in numbers), job, Detail.FINE)
                found = dict(zip(numbers, some, strict=True))
                return [found.get(n, f) for n, f in enumerate(features)]

            return grounded(features, hints, job, r.focal_px, self._views(job), self._slid, pairs, finer, looks)

        return self._host.cache.get(self._ground_key(job), register, on_disk=lambda g: not any(g.problems))

    def lasting(self, job: Job) -> bool:
        """Whether what hangs on the frames' places holds as long as their files stay as they are: not if one of them
        could not be read just now.
        """
        return not any(self.ground(job).problems)

    def _views(self, job: Job) -> Callable[[int], View]:
        """Each frame's light, on which points are refined."""
        opened = self._opened(job)
        return lambda n: ever_closer(self._host, opened[n], self.set.used[n], job)

    def evened(self, job: Job) -> Evened:
        """How the frames would be bent for what they share to meet."""
        def even() -> Evened:
            ground = self.ground(job)
            features = ideal_features(self._host, self._opened(job), self.set.used, job, Detail.FINE)
            found = seen_at_any_depth(ground, features, job, self._views(job))
            return evened(self.registration(job), meeting_points(ground, found, help_of(self.set)), job)

        key = key_of("evened", self._registration_key(job))
        return self._once("evened", lambda: self._host.cache.get(key, even))

    def posed(self, job: Job) -> list[Posed]:
        """Lens and rotation of the placed frames, bent where parallax is to be evened out."""
        def pose() -> list[Posed]:
            found, opened = self.registration(job), self._opened(job)
            bends = self.evened(job).bends if self.set.joining.even_parallax else {}
            return [
                Posed(replace(found.frames[n].lens, optics=self._host.optics(opened[n], self.set.used[n])),
                      found.frames[n].rotation, found.frames[n].place, bends.get(n))
                for n in found.placed
            ]

        return self._once("posed", pose)

    @property
    def _slid(self) -> bool:
        return self.set.registration.camera is Camera.SLID


def known_focal_px(opened: Opened, optics: Optics | None) -> float | None:
    """The focal length in px by the fisheye's profile, or by the frame's metadata."""
    if optics is not None and optics.mapping:
        return optics.focal * 0.5 * float(np.hypot(*opened.size))
    return opened.focal_px
