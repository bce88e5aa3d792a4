"""What the stages of both kinds of set share."""

from __future__ import annotations

from typing import Protocol

from windfell.align.features import Features
from windfell.engine.cache import Cache
from windfell.engine.sources import Opened
from windfell.job import Job
from windfell.recipe.model import Frame, FrameSet, Project


class Host(Protocol):
    """The engine, as its stages see it."""

    cache: Cache

    def opened_all(self, project: Project, frame_set: FrameSet, job: Job) -> list[Opened]: ...

    def features(self, opened: Opened, frame: Frame, job: Job) -> Features: ...


def all_features(host: Host, opened: list[Opened], frames: tuple[Frame, ...], job: Job):
    """Features of all frames, found on all cores."""
    return job.map(
        lambda n: host.features(opened[n], frames[n], job), list(range(len(opened))),
        "finding features",
    )


def content_key(opened: list[Opened], frames: tuple[Frame, ...]) -> tuple:
    """What the pixels that features were found in depend on."""
    return tuple((o.identity, f.masks) for o, f in zip(opened, frames, strict=True))


def development_key(frames: tuple[Frame, ...]) -> tuple:
    return tuple(f.development for f in frames)
