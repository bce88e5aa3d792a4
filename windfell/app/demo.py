"""The shipped demo as a project."""

from __future__ import annotations

from pathlib import Path

from windfell.demo.sets import SETS
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

SHIPPED = Path(__file__).resolve().parent.parent / "demo" / "frames"


def demo_project() -> Project:
    """Every demo set whose frames are shipped, ready to be shown."""
    sets = []
    for key, demo in SETS.items():
        files = sorted((SHIPPED / key).glob("*.jpg"))
        frames = tuple(frame_from_path(str(p)) for p in files)
        if frames:
            sets.append(FrameSet(f"demo-{key}", demo.title, Kind(demo.kind), frames))
    return Project(tuple(sets))
