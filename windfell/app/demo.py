"""The shipped demo as a project."""

from __future__ import annotations

from pathlib import Path

from windfell.demo.sets import SETS
from windfell.frames.video import evenly
from windfell.recipe.combining import Combining, Rule
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
from windfell.recipe.sources import VideoInstant

SHIPPED = Path(__file__).resolve().parent.parent / "demo" / "frames"


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
                view=View(full_sphere=demo.sphere), combining=Combining(Rule(demo.rule))))
    return Project(tuple(sets))
