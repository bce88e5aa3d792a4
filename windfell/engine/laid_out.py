"""A panorama laid out: its projection, the plane bent or not, the outline cut."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from windfell.cache import key_of
from windfell.engine.joined import JoinedFrames
from windfell.engine.stage import long_edges
from windfell.geometry.directions import rays_of
from windfell.geometry.mesh import Bounds
from windfell.geometry.projections import PROJECTIONS
from windfell.geometry.rotation import from_yaw_pitch_roll
from windfell.job import Job
from windfell.join.warp import covered
from windfell.pixels.resample import inside_frame
from windfell.pixels.tiles import Region
from windfell.recipe.model import ProjectionChoice
from windfell.recipe.outline import Edges
from windfell.shape import rectangle
from windfell.shape.bounds import (
    field_of_view,
    fitted_canvas,
    native_px_per_unit,
    sparser,
    sphere_canvas,
    view_bounds,
)
from windfell.shape.canvas import Canvas
from windfell.shape.choice import Choice, suitable_projection
from windfell.shape.coverage import Coverage
from windfell.shape.edges import Edge, world_edges
from windfell.shape.figures import Cost, cost_of
from windfell.shape.held import Held, Weights, drawn_line, given_way, held_lines
from windfell.shape.net import net_lattice
from windfell.shape.pull import CELLS, DRAFT_CELLS, Pull, Task
from windfell.shape.pull_solver import solved
from windfell.shape.sides import sides_of
from windfell.shape.stretch import most_stretch
from windfell.shape.trim import largest_rectangle

TRIM_SIDE = 1400
DRAFT_TRIM_SIDE = 280
PULL_PIXELS, DRAFT_PULL_PIXELS = 1_400_000, 60_000
KEPT_PIXELS, COVERED_PIXELS = 60_000, 160_000
# how steep the sides may be, and how near (of the diagonal) to where it folded before lines give way
GENTLER = ((0.5, 0.0), (0.3, 0.0), (0.3, 0.05), (0.3, 0.12), (0.18, 0.3))
STRAIGHT_ENOUGH = 1e-4
DRAFT_EDGES = 24


@dataclass(frozen=True, eq=False)
class Bent:
    """The canvas as the outline has it, and what the bending of it costs."""

    canvas: Canvas
    cost: Cost

    @property
    def nbytes(self) -> int:
        mesh = self.canvas.mesh
        return 0 if mesh is None else mesh.forth.coefficients.nbytes + mesh.back.coefficients.nbytes


class LaidOutFrames(JoinedFrames):
    """Pure stages over one recipe, from the frames' places to the canvas of the picture."""

    @cached_property
    def _view(self) -> NDArray[np.float64]:
        v = self.set.view
        if self._slid:
            return from_yaw_pitch_roll(0.0, 0.0, np.radians(v.roll_deg))
        return from_yaw_pitch_roll(*np.radians([v.yaw_deg, v.pitch_deg, v.roll_deg]))

    def choice(self, job: Job) -> Choice:
        """The projection in use and why."""
        wish = self.set.view.projection
        if self._slid:
            return Choice("rectilinear", "the camera slid along a flat subject")
        if self.set.view.full_sphere:
            return Choice("equirectangular", "the whole sphere is asked for")
        if wish is not ProjectionChoice.AUTO:
            return Choice(str(wish), "chosen by hand")

        def choose() -> Choice:
            field = field_of_view(self.posed(job), self._covered_rays(job))
            return suitable_projection(*field, self.edges(job))

        key = key_of("choice", self._world_key(job))
        return self._once("choice", lambda: self._host.cache.get(key, choose))

    def edges(self, job: Job) -> list[Edge]:
        """The longest straight edges that the frames show, in the world."""
        def look() -> list[Edge]:
            found, opened = self.registration(job), self._opened(job)

            def look_at(n: int) -> NDArray[np.float64]:
                return long_edges(self._host, opened[n], self.set.used[n], job)

            own = job.map(look_at, found.placed, "looking for edges")
            return world_edges([found.frames[n].posed for n in found.placed], own)

        key = key_of("world edges", self._world_key(job))
        return self._once("edges", lambda: self._host.cache.get(key, look))

    @property
    def _whole_sphere(self) -> bool:
        return self.set.view.full_sphere and not self._slid

    def canvas(self, job: Job, fine: bool = True) -> Canvas:
        """The picture's canvas at full size, bent and cut as the outline says; coarsely if not `fine`."""
        return self._bent(job, fine).canvas

    def cost(self, job: Job) -> Cost:
        """What bending the picture costs."""
        return self._bent(job, True).cost

    def _bent(self, job: Job, fine: bool) -> Bent:
        s = self.set
        wide = s.output.width_px if self._whole_sphere else None
        key = key_of("bent", self._layout_key(job), s.outline, wide, fine)
        return self._once(f"bent {fine}", lambda: self._host.cache.get(key, lambda: self._outlined(job, fine)))

    def _layout_key(self, job: Job) -> str:
        return key_of("layout", self._world_key(job), self.set.view, self._line_rays_key)

    @property
    def _line_rays_key(self) -> tuple:
        return self.set.registration.lines, self.set.outline.lines

    def _outlined(self, job: Job, fine: bool) -> Bent:
        outline, canvas, cost = self.set.outline, self.whole_canvas(job), Cost()
        if self._whole_sphere:
            return Bent(canvas, cost)
        pull = self._pull(job, fine)
        if pull is not None:
            net = net_lattice(outline.net, pull.task.bounds, pull.cells)
            mesh, cut = pull.mesh(outline.amounts, net, fine)
            seen = pull.seen
            canvas = replace(canvas, mesh=mesh).bounded(cut.left, cut.top, cut.right, cut.bottom)
            if fine:
                cost = cost_of(mesh, cut, pull.task.held, seen)
        if outline.edges is Edges.TRIM:
            canvas = self._trimmed(canvas, fine, job)
        return Bent(self._cut(canvas), cost)

    def _cut(self, canvas: Canvas) -> Canvas:
        """Room added, brought to the ratio asked for, and the crop made by hand."""
        outline = self.set.outline
        box = Bounds(canvas.left, canvas.top, canvas.right, canvas.bottom)
        if outline.ratio is not None and outline.edges is not Edges.TRIM:
            ratio = outline.ratio.width / outline.ratio.height
            box = (rectangle.inside if outline.edges is Edges.PULL else rectangle.around)(box, ratio)
        room = outline.room
        box = Bounds(
            box.left - room.left_pct / 100 * box.width, box.top - room.top_pct / 100 * box.height,
            box.right + room.right_pct / 100 * box.width, box.bottom + room.bottom_pct / 100 * box.height)
        if outline.crop is not None:
            c = outline.crop
            left, top = box.left + c.left_pct / 100 * box.width, box.top + c.top_pct / 100 * box.height
            box = Bounds(left, top, left + c.width_pct / 100 * box.width, top + c.height_pct / 100 * box.height)
        if box == Bounds(canvas.left, canvas.top, canvas.right, canvas.bottom):
            return canvas
        return canvas.bounded(box.left, box.top, box.right, box.bottom)

    def whole_canvas(self, job: Job) -> Canvas:
        """The canvas that holds all frames, or the field of view asked for, at full size and unbent."""
        def lay_out() -> Canvas:
            frames = self.posed(job)
            px = native_px_per_unit(frames)
            if self._whole_sphere:
                return sphere_canvas(self.set.output.width_px or round(2 * np.pi * px))
            name = self.choice(job).projection
            view = self.set.view
            kind = PROJECTIONS[name]
            parameters = tuple(getattr(view, p) for p in kind.parameters)
            canvas = fitted_canvas(name, frames, self._view, px, self._covered_rays(job), parameters)
            if self._slid or (view.hfov_deg is None and view.vfov_deg is None):
                return canvas
            return view_bounds(canvas, view.hfov_deg, view.vfov_deg)

        return self._once("whole canvas", lay_out)

    # -- the pull

    def _pull(self, job: Job, fine: bool) -> Pull | None:
        """What bends the plane: the pull of its outline, lines drawn, the net; None where nothing does."""
        outline = self.set.outline
        wanted = outline.edges is Edges.PULL and max(outline.amounts) > 0
        if not (wanted or outline.net or self._line_rays_key[0] or self._line_rays_key[1]):
            return None
        return self.pull(job, fine, wanted)

    def pull(self, job: Job, fine: bool = True, wanted: bool = True) -> Pull | None:
        """The outline's pull whatever its amount (`wanted`: not only of lines drawn); None where there is none."""
        o = self.set.outline
        parts = self._layout_key(job), o.horizon_pct, o.upright_pct, o.straight_pct, o.stiff, wanted
        key, cache = key_of("pull", *parts, True), self._host.cache
        if not fine and not cache.holds(key):
            key = key_of("pull", *parts, False)
        elif not fine:
            fine = True
        return self._once(key, lambda: cache.get(key, lambda: (self._solve(job, fine, wanted),)))[0]

    def _solve(self, job: Job, fine: bool, wanted: bool) -> Pull | None:
        whole = self.whole_canvas(job)
        pixels = PULL_PIXELS if fine else DRAFT_PULL_PIXELS
        small = whole.scaled(min(1.0, float(np.sqrt(pixels / (whole.width * whole.height)))))
        job.step("bending the picture", 0.2)
        covered_ = self._covered_on(small, fine, job)
        drawn = self._drawn(whole, job)
        if not wanted and not self.set.outline.net and not any(
                np.abs(h.asked).max() > STRAIGHT_ENOUGH * h.length for h in drawn):
            return None
        o = self.set.outline
        weights = Weights(*(_weight(v) for v in (o.horizon_pct, o.upright_pct, o.straight_pct)))
        edges = self.edges(job) if fine else self.edges(job)[:DRAFT_EDGES]
        held = [*held_lines(whole, covered_, edges, not self._slid, weights), *drawn]
        found, diagonal = None, float(np.hypot(whole.right - whole.left, whole.bottom - whole.top))
        for steepness, reach in GENTLER:
            job.check()
            if reach:
                held = given_way(held, found.folded, reach * diagonal)
            task = self._task(whole, small, covered_, held, steepness, fine, wanted)
            if task is None:
                return None
            found = solved(task)
            if not wanted or not fine or found.whole:
                break
        return found

    def _task(self, whole: Canvas, small: Canvas, covered_: NDArray[np.bool_], held: list[Held], steepness: float,
              fine: bool, wanted: bool) -> Task | None:
        inner = covered_
        if fine:  # to the last px; coarsely a px would be much
            inner = cv2.erode(np.pad(covered_, 1).astype(np.uint8), np.ones((3, 3), np.uint8))[1:-1, 1:-1] > 0
        sides, within = [np.zeros((0, 2))] * 4, covered_
        if wanted:
            found = sides_of(inner, whole.wraps, steepness)
            if found is None:
                return None
            within = found.within(covered_.shape)
            sides = [small.cut(s) for s in found.each]
        return Task(
            Bounds(whole.left, whole.top, whole.right, whole.bottom), sides, within, held, self._stiff(small),
            whole.wraps, CELLS if fine else DRAFT_CELLS, fine)

    def _drawn(self, whole: Canvas, job: Job) -> list[Held]:
        """The lines drawn on frames and on the picture, with what is left of their bend."""
        found = []
        registration, frames = self.registration(job), self.set.used
        numbers = {frames[n].id: k for k, n in enumerate(registration.placed)}
        posed = self.posed(job)
        for line in self.set.registration.lines:
            if line.frame not in numbers or len(line.points) < 2:
                continue
            frame = posed[numbers[line.frame]]
            plain = replace(frame, lens=replace(frame.lens, optics=None))
            points = _along(np.array(line.points, float))
            found.append(drawn_line(whole, plain.rays(points), str(line.kind), line.strength_pct / 100))
        for line in self.set.outline.lines:
            found.append(drawn_line(whole, rays_of(line.points), str(line.kind), line.strength_pct / 100))
        return [h for h in found if h is not None]

    def _stiff(self, small: Canvas) -> NDArray[np.float32] | None:
        if not self.set.outline.stiff:
            return None
        out = np.zeros((small.height, small.width), np.float32)
        for patch in self.set.outline.stiff:
            px = small.pixels(rays_of(patch.corners))
            if len(px) > 2 and np.isfinite(px).all():
                cv2.fillPoly(out, [np.rint(px).astype(np.int32)], 1.0)
        return out

    # -- what is covered

    def _trimmed(self, whole: Canvas, fine: bool, job: Job) -> Canvas:
        small = whole.scaled(min(1.0, (TRIM_SIDE if fine else DRAFT_TRIM_SIDE) / max(whole.width, whole.height)))
        job.step("trimming", 0.5)
        seen = np.pad(self._covered_on(small, fine, job), 1)
        inner = cv2.erode(seen.astype(np.uint8), np.ones((3, 3), np.uint8))[1:-1, 1:-1] > 0
        ratio = self.set.outline.ratio
        if ratio is None:
            left, top, right, bottom = largest_rectangle(inner)
        else:
            left, top, right, bottom = rectangle.largest_of_ratio(inner, ratio.width / ratio.height)
        if right - left < 2 or bottom - top < 2:
            return whole
        kx = (whole.right - whole.left) / small.width
        ky = (whole.bottom - whole.top) / small.height
        box = Bounds(whole.left + left * kx, whole.top + top * ky, whole.left + right * kx, whole.top + bottom * ky)
        if ratio is not None:
            box = rectangle.inside(box, ratio.width / ratio.height)
        return whole.bounded(box.left, box.top, box.right, box.bottom)

    def _coverage(self, canvas: Canvas, job: Job) -> NDArray[np.bool_]:
        seen = np.zeros((canvas.height, canvas.width), bool)
        region = Region(0, 0, canvas.width, canvas.height)
        opened = self._opened(job)
        for n, frame in zip(self.registration(job).placed, self.posed(job), strict=True):
            job.check()
            seen |= covered(canvas, region, frame, opened[n].shown(job))
        drawn = canvas.drawn(region)
        return seen if drawn is None else seen & drawn

    def most_stretch(self, canvas: Canvas, job: Job) -> float:
        """How unevenly a canvas draws what is covered."""
        return most_stretch(canvas, sparser(self._covered_rays(job)))

    def coarse_coverage(self, canvas: Canvas, job: Job) -> NDArray[np.bool_]:
        """What of a canvas is covered, (h, w), at a small scale."""
        small = canvas.scaled(min(1.0, DRAFT_TRIM_SIDE / max(canvas.width, canvas.height)))
        return self._covered_on(small, False, job)

    def _covered_on(self, canvas: Canvas, fine: bool, job: Job) -> NDArray[np.bool_]:
        """What of a canvas is covered, (h, w); if not `fine`, looked up in what is known whatever the view."""
        if fine:
            return self._coverage(canvas, job)

        def look() -> Coverage:
            surface = self._surface(COVERED_PIXELS, job)
            return Coverage(surface, self._coverage(surface, job))

        key = key_of("covered around", self._world_key(job))
        return self._once("covered around", lambda: self._host.cache.get(key, look)).on(canvas)

    def kept_area(self, job: Job, fine: bool = True) -> float:
        """The share of what the frames cover, as solid angle, that the canvas shows."""
        return self.kept_by(self.canvas(job, fine), job)

    def kept_by(self, canvas: Canvas, job: Job) -> float:
        """As `kept_area`, of any canvas."""
        rays, weight = self._covered_evenly(job)
        with np.errstate(invalid="ignore"):
            shown = inside_frame(canvas.pixels(rays), canvas.width, canvas.height)
        return float(np.sum(weight * shown) / max(np.sum(weight), 1e-9))

    def _covered_evenly(self, job: Job) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Rays (n, 3) to all that is covered, and for how much each stands (n,)."""
        def spread() -> tuple[NDArray[np.float64], NDArray[np.float64]]:
            surface = self._surface(KEPT_PIXELS, job)
            y, x = np.nonzero(self._coverage(surface, job))
            rays = surface.rays(np.stack([x, y], -1).astype(np.float64))
            return rays, np.ones(len(rays)) if self._slid else np.hypot(rays[:, 0], rays[:, 2])

        key = key_of("covered evenly", self._world_key(job))
        return self._once("covered evenly", lambda: self._host.cache.get(key, spread))

    def size(self, job: Job) -> tuple[int, int]:
        """(width, height) px at full size."""
        canvas = self.canvas(job)
        return canvas.width, canvas.height

    def focal_px(self, job: Job) -> float | None:
        """The picture's own focal length in px where it is itself a flat view, else None."""
        canvas = self.canvas(job)
        return canvas.px_per_unit if canvas.projection == "rectilinear" else None


def _weight(percent: float) -> float:
    """A weight of 50 % is 1, each 25 % more or less ten times as much; 0 is nothing."""
    return 0.0 if percent <= 0 else 10.0 ** ((percent - 50) / 25)


def _along(points: NDArray[np.float64], spots: int = 17) -> NDArray[np.float64]:
    """A polyline given by more points, those that it had among them."""
    t = np.arange(len(points))
    many = np.unique(np.concatenate([t, np.linspace(0, t[-1], max(spots, len(points)))]))
    return np.stack([np.interp(many, t, points[:, c]) for c in (0, 1)], -1)
