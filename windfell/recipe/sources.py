"""Where a frame's pixels come from: a file, an instant of a video, another set."""

from __future__ import annotations

from dataclasses import dataclass

from windfell.recipe.limits import Unknown, number


@dataclass(frozen=True)
class FileSource:
    """A picture file."""

    path: str
    unknown: Unknown = ()


@dataclass(frozen=True)
class VideoInstant:
    """One instant of a video."""

    path: str
    time_s: float = number(0.0, 0.0, 1e6, "s")
    unknown: Unknown = ()


@dataclass(frozen=True)
class SetSource:
    """The result of another set of the same project."""

    set: str
    unknown: Unknown = ()


Source = FileSource | VideoInstant | SetSource
SOURCE_WORDS = {"file": FileSource, "video instant": VideoInstant, "set": SetSource}
