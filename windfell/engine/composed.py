"""One picture behind another along its skyline: a stack of two, the sky of the front shown by the back."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from windfell.align.series import NotOnto
from windfell.align.stars import align_stars, find_stars
from windfell.combine.sky_of_one import sky_of
from windfell.engine.core import Engine
from windfell.engine.greys import CLOSE_SIDE
from windfell.engine.stack import fitted
from windfell.errors import BadRequest
from windfell.geometry import planar
from windfell.job import Job
from windfell.recipe.areas import Area, Found
from windfell.recipe.combining import Combining, Layer, Over, Rule
from windfell.recipe.model import Align, Frame, FrameSet, Kind, Project, Registration, new_id
from windfell.recipe.outline import Crop
from windfell.recipe.project_file import Masks, mask_name

SKY_SIDE = 1600
LEAST_SKY = 0.002


def composed(engine: Engine, project: Project, back: Frame, front: Frame, name: str, job: Job, glow_px: float = 0.0,
             mask: NDArray[np.uint8] | None = None) -> tuple[FrameSet, Masks]:
    """A stack whose reference is `front`, and over it `back` as a layer that holds in the sky of the front; and the
    mask of that sky (`mask`, or as it is found). `glow_px`: over how many px, at the front's full size, the one
    passes into the other.

    Raises BadRequest if no sky is found.
    """
    mask = _found_sky(engine, project, front, job) if mask is None else mask
    area = Area((Found(mask_name(mask)),), feather=glow_px)
    layer = Layer(Rule.MEAN, (back.id,), "sky behind", area=area, over=Over.REPLACE)
    found = FrameSet(
        new_id(), name, Kind.STACK, (front, back), Registration(Align.FIT, front.id),
        combining=Combining(Rule.MEAN, base=front.id, region=Area(), layers=(layer,)))
    return found, {mask_name(mask): mask}


def with_room_above(own: FrameSet, percent: float, height: int) -> FrameSet:
    """The set with room above the front, in % of its height (px), and the back grown and moved up to fill it."""
    if percent <= 0:
        return own
    outline = replace(own.outline, crop=Crop(0.0, -percent, 100.0, 100.0 + percent))
    layer = own.combining.layers[0]
    layer = replace(layer, size_pct=layer.size_pct * (1 + percent / 100),
                    down_px=layer.down_px - percent / 200 * height)
    return replace(own, outline=outline, combining=replace(own.combining, layers=(layer,)))


def _found_sky(engine: Engine, project: Project, front: Frame, job: Job) -> NDArray[np.uint8]:
    opened = engine.opened(project, front, job)
    job.step("looking for the skyline", 0.1)
    sheet = opened.sheet(min(1.0, SKY_SIDE / max(opened.size)), job)
    share = sky_of(sheet.light(0, 0, sheet.width, sheet.height))
    if share.mean() < LEAST_SKY:
        raise BadRequest("No sky was found in the picture in front; give a mask of it, white is sky.")
    return np.rint(255 * share).astype(np.uint8)


def placed_by_stars(engine: Engine, project: Project, own: FrameSet, job: Job) -> FrameSet:
    """The set whose layer behind is moved, turned and sized so that its stars lie on those of the front.

    Raises BadRequest if the two share too few stars.
    """
    front, back = own.frames
    opened = [engine.opened(project, f, job) for f in (front, back)]
    # ground is rough, and full of what looks like stars
    ground = [None if m is None else 255 - m for m in (_sky_mask(engine, own), None)]
    stars = [find_stars(o.grey(CLOSE_SIDE, job).astype(np.float32), *o.size, g)
             for o, g in zip(opened, ground, strict=True)]
    onto = align_stars(stars, 0, job)[1]
    if isinstance(onto, NotOnto):
        raise BadRequest(f"The two pictures do not share enough stars ({onto.reason.rstrip('.')}); place it by hand.")
    layer = moved_onto(own.combining.layers[0], onto.transform, *(o.size for o in opened))
    return replace(own, combining=replace(own.combining, layers=(layer,)))


def _sky_mask(engine: Engine, own: FrameSet) -> np.ndarray | None:
    area = own.combining.layers[0].area
    names = [p.name for p in area.parts if isinstance(p, Found)] if area is not None else []
    return engine.masks.get(names[0]) if names else None


def moved_onto(layer: Layer, transform: np.ndarray, size: tuple[int, int], own: tuple[int, int]) -> Layer:
    """The layer whose frame, of its own size, lies as `transform` (3, 3), from px of the reference to its own, says;
    as nearly as moving, turning and sizing go.
    """
    fit = fitted(size, own).transform
    # from where the frame would lie to where it does, in px of the reference
    moved = np.linalg.inv(transform) @ fit
    w, h = size
    middle = np.array([(w - 1) / 2, (h - 1) / 2])
    beside = planar.apply(moved, np.array([middle, middle + [w / 4, 0], middle + [0, h / 4]]))
    across, down = beside[1] - beside[0], beside[2] - beside[0]
    turn = np.degrees(np.arctan2(across[1], across[0]))
    grown = 100 * 0.5 * (np.linalg.norm(across) / (w / 4) + np.linalg.norm(down) / (h / 4))
    right, lower = beside[0] - middle
    return replace(layer, right_px=float(right), down_px=float(lower), turn_deg=float(turn), size_pct=float(grown))
