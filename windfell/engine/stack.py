"""The stages of a stack: aligned to its reference, then combined by its rule."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from windfell.align.features import Features
from windfell.align.ground import ground_places
from windfell.align.series import NotOnto, Onto, align_series
from windfell.align.stars import Stars, align_stars
from windfell.cache import key_of
from windfell.combine.bridging import Way, swept, ways
from windfell.combine.rules import RULES
from windfell.combine.skyline import share_at, sky_share
from windfell.combine.strips import Layer, combined, shown
from windfell.engine.finished import finished_draft
from windfell.engine.greys import CLOSE_SIDE, ever_closer
from windfell.engine.picture import Picture
from windfell.engine.sources import Opened, canonical_scale
from windfell.engine.stack_light import SMALL_SIDE, StackLight
from windfell.engine.stage import Detail, Host, all_stars, content_key, development_key, ideal_features
from windfell.errors import CannotJoin
from windfell.finish.kinds import reach_of
from windfell.geometry import planar
from windfell.job import Job
from windfell.pixels.colour import to_view
from windfell.pixels.tiles import Region, scaled_size
from windfell.recipe.combining import Floor, Rule
from windfell.recipe.model import Align, FrameSet, Kind, LensCorrection, Project
from windfell.shape.stack_cut import StackCut, stack_cut

STRIP_ROWS, FINISHED_TILE = 256, 768
SKY_SIDE = 1000


@dataclass(frozen=True)
class StackRegistration:
    """The reference among the frames in use, and every frame's place on it; by the ground apart, if that is asked
    of star frames. `lasting`: all of them could be read.
    """

    reference: int
    frames: tuple[Onto | NotOnto, ...]
    ground: tuple[Onto | NotOnto, ...] = ()
    lasting: bool = True

    @property
    def used(self) -> list[int]:
        return [n for n, f in enumerate(self.frames) if isinstance(f, Onto)]


class StackStages(StackLight):
    """Pure stages over one recipe; each result is kept by what it depends on."""

    kind = Kind.STACK

    def __init__(self, host: Host, project: Project, frame_set: FrameSet) -> None:
        super().__init__(host, project, frame_set)
        self._held: dict[float, list[list[Layer]]] = {}
        self._floored: dict[tuple, list[Layer]] = {}

    def _registration_key(self, job: Job) -> str:
        content = content_key(self._opened(job), self.set.used)
        return key_of("series", content, self.set.registration.align, self.reference(), self._apart)

    @property
    def _apart(self) -> bool:
        """Whether the ground is registered apart from the stars."""
        r = self.set.registration
        return r.align is Align.STARS and r.ground_apart

    def key(self, job: Job) -> str:
        """Changes when the picture may have changed."""
        return key_of(self.base_key(job), *self.set.finish.active)

    def base_key(self, job: Job) -> str:
        """Of all that the picture without its finish hangs on."""
        lit = development_key(self.set.used)
        shape = self.set.view.roll_deg, self.set.outline
        return key_of(self._registration_key(job), lit, self._light_parts(), shape)

    def reference(self) -> int:
        """The reference's index among the frames in use: the chosen one, or the first."""
        ids = [f.id for f in self.set.used]
        chosen = self.set.registration.reference
        return ids.index(chosen) if chosen in ids else 0

    def registration(self, job: Job) -> StackRegistration:
        """Where every frame in use lies on the reference, or why it does not."""
        opened = self._opened(job)
        if self.set.registration.align is Align.NONE:
            return self._unmoved(opened)
        if self.set.registration.align is Align.FIT:
            return StackRegistration(self.reference(), tuple(
                fitted(opened[self.reference()].size, o.size) for o in opened))
        return self._host.cache.get(
            self._registration_key(job), lambda: self._align(opened, job), on_disk=lambda found: found.lasting
        )

    def lasting(self, job: Job) -> bool:
        """Whether what hangs on the frames' places holds as long as their files stay as they are."""
        return self.registration(job).lasting

    def _unmoved(self, opened: list[Opened]) -> StackRegistration:
        reference = self.reference()
        size = opened[reference].size
        names = [_name(f) for f in self.set.used]
        for n, o in enumerate(opened):
            if o.size != size:
                raise CannotJoin(
                    f"{names[n]} is {o.size[0]} x {o.size[1]} px, but {names[reference]} is "
                    f"{size[0]} x {size[1]}; leave it out, or align the frames."
                )
        return StackRegistration(reference, (Onto(np.eye(3), 0.0, True),) * len(opened))

    def _align(self, opened: list[Opened], job: Job) -> StackRegistration:
        frames = self.set.used
        if self.set.registration.align is Align.STARS:
            stars = all_stars(self._host, opened, frames, job)
            found = tuple(align_stars(stars, self.reference(), job))
            ground = self._ground(opened, stars, job) if self._apart else ()
            return StackRegistration(self.reference(), found, ground, not any(s.problem for s in stars))
        way = str(self.set.registration.align)
        view = lambda n: ever_closer(self._host, opened[n], frames[n], job, CLOSE_SIDE)  # noqa: E731
        features = ideal_features(self._host, opened, frames, job)

        def finer(numbers: Sequence[int]) -> list[Features]:
            some = [opened[n] for n in numbers], tuple(frames[n] for n in numbers)
            return ideal_features(self._host, *some, job, Detail.FINE)

        found = align_series(features, self.reference(), way, job, view, finer)
        return StackRegistration(self.reference(), tuple(found), lasting=not any(f.problem for f in features))

    def _ground(self, opened: list[Opened], stars: list[Stars], job: Job) -> tuple[Onto | NotOnto, ...]:
        frames = self.set.used
        features = ideal_features(self._host, opened, frames, job, Detail.FINE)
        view = lambda n: ever_closer(self._host, opened[n], frames[n], job, CLOSE_SIDE)  # noqa: E731
        return tuple(ground_places(features, stars, self.reference(), job, view))

    def sky(self, job: Job) -> np.ndarray:
        """How much of each spot of the reference is sky, (h, w) 0..1, at a small scale."""
        key = key_of("sky", self._registration_key(job))
        return self._host.cache.get(key, lambda: self._find_sky(job), on_disk=self.lasting(job))

    def _find_sky(self, job: Job) -> np.ndarray:
        found = self.registration(job)
        scale = min(1.0, SKY_SIDE / max(self.whole_size(job)))
        width, height = self.whole_at(scale, job)
        region = Region(0, 0, width, height)

        def laid(places: tuple[Onto | NotOnto, ...]) -> list[np.ndarray]:
            layers = self._fitting(self._layers(places, scale, job), scale, job)
            return [255 * np.sqrt(np.maximum(shown(x, region), 0)) for x in layers]

        by_stars, by_ground = laid(found.frames), laid(found.ground)
        job.step("looking for the skyline", 0.5)
        return sky_share(by_ground[0], by_stars[1:], by_ground[1:])

    def size(self, job: Job) -> tuple[int, int]:
        """(width, height) px at full size."""
        return self.cut(job).size

    def cut(self, job: Job) -> StackCut:
        """What part of the reference the picture shows."""
        return self._once("cut", lambda: stack_cut(
            self.whole_size(job), self.set.view.roll_deg, self.set.outline))

    def may_have_gaps(self, job: Job) -> bool:
        """Whether there may be px of the picture that no frame covers: beyond the reference, or within it."""
        cut = self.cut(job)
        return cut.goes_beyond or self._opened(job)[self.reference()].shown(job) is not None

    def seen_alone(self, job: Job) -> Opened | None:
        """The reference where the picture shows all of it as it is and gathers no light over time."""
        cut, lens = self.cut(job), self.set.used[self.reference()].lens
        whole = cut.size == self.whole_size(job) and not self.set.view.roll_deg and not self.set.outline.lines
        c = self.set.combining
        plain = lens == LensCorrection() and not RULES[str(c.rule)].adds and not c.layers and c.base is None
        return self._opened(job)[self.reference()] if whole and plain else None

    def whole_size(self, job: Job) -> tuple[int, int]:
        """(width, height) px of the reference."""
        return self._opened(job)[self.reference()].size

    def whole_at(self, scale: float, job: Job) -> tuple[int, int]:
        """(width, height) px of the reference at a scale."""
        return scaled_size(self.whole_size(job), scale)

    def focal_px(self, job: Job) -> float | None:
        """The reference's focal length in px, which the picture inherits."""
        return self._opened(job)[self.reference()].focal_px

    def export_tile(self, width: int) -> tuple[int, int]:
        """(width, height) of the regions an export is made of: strips; with a finish tiles that stay in the cache."""
        active = self.set.finish.active
        if not active:
            return width, STRIP_ROWS
        side = max(FINISHED_TILE, 8 * reach_of(active, 1.0))
        return min(width, side), side

    def prepare(self, scale: float, job: Job) -> None:
        """Align, and have the pixels of all frames ready at that scale."""
        found = self.registration(job)
        if len(found.used) < 1:
            raise CannotJoin("No frame could be brought onto the reference.")
        self._held[scale] = [self._layers(places, scale, job) for places in (found.frames, found.ground) if places]
        if found.ground:
            self.sky(job)

    def _order(self, places: tuple[Onto | NotOnto, ...], every: bool = False) -> list[int]:
        """The frames with a place that the rule takes, or `every` one of them; the reference first."""
        c = self.set.combining
        used = [n for n, place in enumerate(places) if isinstance(place, Onto)
                and (every or n % c.every == 0 or n == self.reference() or not RULES[str(c.rule)].adds)]
        return sorted(used, key=lambda n: n != self.reference())

    def small_lights(self, job: Job) -> list[np.ndarray]:
        """The frames in place on each other, small, the reference first: light (h, w, 3), NaN-free."""
        scale = canonical_scale(min(1.0, SMALL_SIDE / max(self.whole_size(job))))
        found = self.registration(job)
        layers = self._fitting(self._layers(found.frames, scale, job), scale, job)
        width, height = self.whole_at(scale, job)
        return [np.nan_to_num(shown(x, Region(0, 0, width, height)), nan=0.0) for x in layers]

    def small_radiance(self, job: Job) -> np.ndarray:
        """The rule's light of the whole reference, small."""
        used = self._order(self.registration(job).frames)
        return self.rule.combined(self.small_lights(job), self.setting(used, job))

    def _layers(self, places: tuple[Onto | NotOnto, ...], scale: float, job: Job,
                floor: tuple[Floor, float] | None = None) -> list[Layer]:
        """The frames with a place, the reference first; `floor`: what counts as black, if not as for all: then every
        one of them, and none fades.
        """
        opened, frames, first = self._opened(job), self.set.used, self.reference()
        used = self._order(places, every=floor is not None)
        read = lambda n: self._host.developed(opened[n], frames[n], scale, job)  # noqa: E731
        sheets = job.map(lambda n: self._prepared_sheet(n, read(n), job, floor), used, "reading frames")
        ref_size = (sheets[0].width, sheets[0].height)
        layers, calm = [], self.set.combining.rule is Rule.EXPOSURES
        for n, sheet in zip(used, sheets, strict=True):
            place = places[n]
            optics = self._host.optics(opened[n], frames[n])
            bends = optics is not None and (optics.bends or optics.fringes)
            to_own = planar.resized(opened[n].size, (sheet.width, sheet.height))
            from_ref = np.linalg.inv(planar.resized(opened[first].size, ref_size))
            same = place.still and (sheet.width, sheet.height) == ref_size
            transform = None if same and not bends else to_own @ place.transform @ from_ref
            lenses = place.lens and (
                place.lens.scaled(*ref_size), place.lens.scaled(sheet.width, sheet.height))
            layers.append(Layer(sheet, transform, optics if bends else None, lenses, calm=calm))
        return layers

    def unfinished(self, region: Region, scale: float, job: Job) -> Picture:
        """A region of the picture without its finish, in px of it at that scale."""
        job.check()
        if scale not in self._held:
            self.prepare(scale, job)
        piles = [self._fitting(layers, scale, job) for layers in self._held[scale]]
        return self._rendered(piles, region, scale, job)

    def _rendered(self, piles: list[list[Layer]], region: Region, scale: float, job: Job) -> Picture:
        """The rule's picture of the frames laid by the stars and, if apart, by the ground, as it is cut."""
        cut = self.cut(job)
        if cut.plain:
            return self._combined(piles, region, scale, None, job)
        # layers of frames larger than the reference are seen beyond it
        if not cut.moves and not (cut.goes_beyond and self.set.combining.layers):
            return self._shifted(piles, cut.region_of(region, scale), scale, job)
        before = cut.onto_reference(scale)
        piles = [[replace(x, before=before) for x in layers] for layers in piles]
        return self._combined(piles, region, scale, before, job)

    def _shifted(self, piles: list[list[Layer]], region: Region, scale: float, job: Job) -> Picture:
        """A region of the reference, empty where that does not reach."""
        width, height = self.whole_at(scale, job)
        inner = region.shared(Region(0, 0, width, height))
        if inner == region:
            return self._combined(piles, region, scale, None, job)
        light = np.zeros((region.height, region.width, 3), np.float32)
        covered = np.zeros(light.shape[:2], bool)
        if inner is not None:
            part = self._combined(piles, inner, scale, None, job)
            light[inner.within(region)], covered[inner.within(region)] = part.light, part.covered
        return Picture(light, covered)

    def _combined(self, piles: list[list[Layer]], region: Region, scale: float, before: Callable | None, job: Job
                  ) -> Picture:
        found = self.registration(job)
        places = [p for p in (found.frames, found.ground) if p]
        lights, covers = zip(*(
            self._ruled(layers, self._order(p), region, scale, before, job)
            for layers, p in zip(piles, places, strict=True)), strict=True)
        light, covered = lights[0], covers[0]
        if len(lights) == 2:
            sky = share_at(self.sky(job), region, scale, self.whole_size(job), before)[..., None]
            light = sky * lights[0] + (1 - sky) * lights[1]
        whole = np.ones(light.shape[:2], bool)
        both = len(lights) == 2 and before is None
        return Picture(light, whole if covered is None or both else covered)

    def _ruled(self, layers: list[Layer], used: list[int], region: Region, scale: float, before: Callable | None,
               job: Job) -> tuple[np.ndarray, np.ndarray | None]:
        """The rule over frames in place, shown as is asked for, within its region; the base outside."""
        light, covered = combined(layers, self.rule_at(scale), region, self.setting(used, job))
        if self.set.combining.bridge and self.rule.adds and before is None:
            light = self._bridged(light, layers, used, region, scale, job)
        gain = self.display(job)
        if gain is not None:
            x, y = self._shares(region, scale, before, job)
            light = gain.shown(light, x, y)
        share = self.region_share(region, scale, before, job)
        if share is None:
            return light, covered
        ids = [self.set.used[n].id for n in used]
        if self.set.combining.base not in ids:
            return light, covered
        base, there = combined([layers[ids.index(self.set.combining.base)]], RULES["mean"], region)
        mixed = base + share[..., None] * (light - base)
        if there is None:
            return mixed, None
        return np.where(there[..., None], mixed, light), there if covered is None else there | covered

    def _bridged(self, light: np.ndarray, layers: list[Layer], used: list[int], region: Region, scale: float, job: Job
                 ) -> np.ndarray:
        """The light with the ways between neighbouring frames' lights filled."""
        size = self.whole_at(scale, job)
        for a, b, found in self.bridges(job):
            if a not in used or b not in used or not found:
                continue
            reach = max(max(abs(w.move[0]) * size[0] + (w.box[2] - w.box[0]) * size[0],
                            abs(w.move[1]) * size[1] + (w.box[3] - w.box[1]) * size[1]) for w in found)
            wide = region.grown(int(reach) + 12).shared(Region(0, 0, *size))
            planes = [np.nan_to_num(shown(layers[used.index(n)], wide), nan=0.0) for n in (a, b)]
            light = swept(light, *planes, found, wide, size, region.within(wide))
        return light

    def bridges(self, job: Job) -> list[tuple[int, int, list[Way]]]:
        """The ways of lights between frames that follow each other, as (frame, the next, ways)."""
        def find() -> list[tuple[int, int, list[Way]]]:
            order = self._order(self.registration(job).frames)
            lights = dict(zip(order, self.small_lights(job), strict=True))
            return [(a, b, ways(lights[a], lights[b])) for a, b in pairwise(sorted(order))]

        key = key_of("bridges", self._registration_key(job), development_key(self.set.used), self._light_parts())
        return self._host.cache.get(key, find)

    def _shares(self, region: Region, scale: float, before: Callable | None, job: Job) -> tuple[np.ndarray, ...]:
        """Where the columns (w,) and rows (h,) of a region lie in the reference, 0..1, a slight turn left aside."""
        width, height = self.whole_at(scale, job)
        x, y = np.arange(region.left, region.left + region.width), np.arange(region.top, region.top + region.height)
        if before is not None:
            middle_y, middle_x = np.full(len(x), y.mean()), np.full(len(y), x.mean())
            x = before(np.stack([x, middle_y], -1).astype(float))[:, 0]
            y = before(np.stack([middle_x, y], -1).astype(float))[:, 1]
        return (x + 0.5) / width, (y + 0.5) / height

    def draft(self, side: int, job: Job) -> np.ndarray:
        """The whole picture at about `side` px a side as a screen shows it: sRGB, opacity, uint8 (h, w, 4).

        At a scale at which the frames are kept, so that the reference is read as it is.
        """
        scale = canonical_scale(min(1.0, side / max(self.size(job))))
        self.prepare(scale, job)
        reference = self._held[scale][0][0].sheet
        held = self._held[scale]
        if self.cut(job).plain:
            region = Region(0, 0, reference.width, reference.height)
        else:
            scale = reference.width / self.whole_size(job)[0]
            region = Region(0, 0, *scaled_size(self.size(job), scale))
        picture = self._host.cache.get(
            key_of("draft", self.base_key(job), region, scale), lambda: self._rendered(held, region, scale, job)
        ) if self.set.finish.active else self._rendered(held, region, scale, job)
        if self.set.finish.active:
            picture = replace(picture, light=np.ascontiguousarray(
                finished_draft(self, picture.light, scale, job), np.float32))
        shown = picture.covered.astype(np.uint8)
        return np.dstack([to_view(picture.light) * shown[..., None], 255 * shown])

    def _fitting(self, layers: list[Layer], scale: float, job: Job) -> list[Layer]:
        """The layers as read for a picture of just that scale."""
        reference = layers[0].sheet
        wanted = self.whole_at(scale, job)
        if (reference.width, reference.height) == wanted:
            return layers
        return [self._rescaled(x, reference, scale, job) for x in layers]

    def _rescaled(self, layer: Layer, reference, scale: float, job: Job) -> Layer:
        """The layer read at a scale between those that are kept."""
        width, height = self.whole_at(scale, job)
        to_kept = planar.resized((width, height), (reference.width, reference.height))
        own = np.eye(3) if layer.transform is None else layer.transform
        lenses = layer.lenses and (layer.lenses[0].scaled(width, height), layer.lenses[1])
        return replace(layer, transform=own @ to_kept, lenses=lenses)


def fitted(size: tuple[int, int], own: tuple[int, int]) -> Onto:
    """The place of a frame of its own size that covers a reference of `size`, its middle on the middle."""
    k = min(own[0] / size[0], own[1] / size[1])
    (x, y), (own_x, own_y) = (((w - 1) / 2, (h - 1) / 2) for w, h in (size, own))
    return Onto(np.array([[k, 0, own_x - k * x], [0, k, own_y - k * y], [0, 0, 1.0]]), 0.0, size == own)


def _name(frame) -> str:
    path = getattr(frame.source, "path", None)
    return str(path) if path else "the nested set"
