"""The shipped demo as a project."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from windfell.demo.sets import SETS
from windfell.engine.bracketed import nested_frames
from windfell.frames.masks import read_mask
from windfell.frames.video import evenly
from windfell.recipe.areas import Area, Found, Gradient, Stroke
from windfell.recipe.combining import Combining, Display, Layer, Rule
from windfell.recipe.finishing import Adjustment, Colour, Detail, Finish, Light, Vignette
from windfell.recipe.model import (
    Align,
    Camera,
    Development,
    Frame,
    FrameSet,
    Kind,
    Project,
    Registration,
    View,
    frame_from_path,
    new_id,
)
from windfell.recipe.project_file import Masks, mask_name
from windfell.recipe.repairs import Mend, Repair
from windfell.recipe.sources import SetSource, VideoInstant

SHIPPED = Path(__file__).resolve().parent.parent / "demo" / "frames"


# one set comes finished: the sky calmed from above the ridge on, the meadow lifted
FINISHED = "two-row-sweep"
LOOK = Finish((
    Adjustment(Light(0.15, contrast_pct=12.0, highlights_pct=-30.0, shadows_pct=18.0), "Light"),
    Adjustment(Light(-0.45, highlights_pct=-35.0, haze_pct=20.0), "Sky",
               area=Area((Gradient((0.0, 14.0), (0.0, 1.0)),))),
    Adjustment(Colour(6200.0, weak_pct=30.0), "Colour"),
    Adjustment(Detail(local_pct=22.0, sharpen_pct=25.0), "Detail"),
    Adjustment(Vignette(-0.5, 35.0), "Vignette")))
KITE_GONE = Repair(Mend.TEXTURE, Area((Stroke(((42.7, 15.3), (43.0, 13.8), (43.7, 11.6)), 4.0, 30.0),)))

# light beyond white brought back into the picture, pews lifted
WINDOWS = Finish((Adjustment(Light(0.3, contrast_pct=8.0, highlights_pct=-80.0, shadows_pct=40.0), "Light"),))
DUSK = Development(temperature_k=4300.0, exposure_ev=-1.9, saturation_pct=-20.0)
SKY = SHIPPED / "tarn-round" / "sky-05.png"
EXPOSURES = 3

INSTANTS, UNTIL_S = 7, 2.9


def _instants(folder: Path) -> tuple[Frame, ...]:
    """Instants spread over the pan of the one video there, without the swing at its end."""
    found = sorted(folder.glob("*.mp4"))
    times = evenly(0.0, UNTIL_S, INSTANTS) if found else []
    return tuple(Frame(new_id(), VideoInstant(str(found[0]), round(t, 2))) for t in times)


def demo_masks() -> Masks:
    """The masks that the demo's sets name."""
    mask = read_mask(SKY)
    return {mask_name(mask): mask}


def _positions() -> list[FrameSet]:
    """The chapel's inside: a panorama of three stacks of three exposures."""
    files = sorted((SHIPPED / "chapel-brackets").glob("*.jpg"))
    inner = []
    for n in range(len(files) // EXPOSURES):
        frames = tuple(frame_from_path(str(p)) for p in files[EXPOSURES * n : EXPOSURES * (n + 1)])
        inner.append(FrameSet(
            f"demo-chapel-brackets-{n + 1}", f"Chapel brackets, position {n + 1}", Kind.STACK, frames,
            Registration(reference=frames[0].id), combining=Combining(Rule.EXPOSURES, display=Display.NONE)))
    return [FrameSet("demo-chapel-brackets", "Chapel brackets", Kind.PANORAMA, nested_frames(inner),
                     finish=WINDOWS), *inner]


def _night() -> FrameSet:
    """The stars of one set behind the ridge of a frame."""
    front = replace(frame_from_path(str(SHIPPED / "tarn-round" / "round-05.jpg")), development=DUSK)
    back = Frame(new_id(), SetSource("demo-turning-stars"))
    layer = Layer(Rule.MEAN, (back.id,), "sky behind", area=Area((Found(mask_name(read_mask(SKY))),)),
                  exposure_ev=0.6, down_px=-330.0, size_pct=140.0)
    return FrameSet("demo-night-tarn", "Night sky over the tarn", Kind.STACK, (front, back),
                    Registration(Align.FIT, front.id),
                    combining=Combining(Rule.MEAN, base=front.id, region=Area(), layers=(layer,)))


def demo_project() -> Project:
    """Every demo set whose frames are shipped, ready to be shown."""
    sets = []
    for key, demo in SETS.items():
        if demo.kind == "bracket":
            continue
        if demo.kind == "video":
            frames, kind = _instants(SHIPPED / demo.folder), Kind.PANORAMA
        else:
            shipped = sorted((SHIPPED / demo.folder).glob("*.jpg"))
            frames, kind = tuple(frame_from_path(str(p)) for p in shipped), demo.kind
        if frames:
            camera = Camera.SLID if demo.slid else Camera.TURNED
            sets.append(FrameSet(
                f"demo-{key}", demo.title, Kind(kind), frames,
                registration=Registration(Align(demo.align), camera=camera),
                view=View(full_sphere=demo.sphere), combining=Combining(Rule(demo.rule)),
                finish=LOOK if key == FINISHED else Finish(),
                repairs=(KITE_GONE,) if key == FINISHED else ()))
    return Project((*sets, *_positions(), _night()))
