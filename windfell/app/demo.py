"""The shipped demo as a project."""

from __future__ import annotations

from pathlib import Path

from windfell.demo.sets import SETS
from windfell.frames.video import evenly
from windfell.recipe.areas import Area, Gradient, Stroke
from windfell.recipe.combining import Combining, Rule
from windfell.recipe.finishing import Adjustment, Colour, Detail, Finish, Light, Vignette
from windfell.recipe.model import (
    Align,
    Camera,
    Frame,
    FrameSet,
    Kind,
    Project,
    Registration,
    View,
    frame_from_path,
    new_id,
)
from windfell.recipe.repairs import Mend, Repair
from windfell.recipe.sources import VideoInstant

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

INSTANTS, UNTIL_S = 7, 2.9


def _instants(folder: Path) -> tuple[Frame, ...]:
    """Instants spread over the pan of the one video there, without the swing at its end."""
    found = sorted(folder.glob("*.mp4"))
    times = evenly(0.0, UNTIL_S, INSTANTS) if found else []
    return tuple(Frame(new_id(), VideoInstant(str(found[0]), round(t, 2))) for t in times)


def demo_project() -> Project:
    """Every demo set whose frames are shipped, ready to be shown."""
    sets = []
    for key, demo in SETS.items():
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
    return Project(tuple(sets))
