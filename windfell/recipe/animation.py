"""How a moving picture is made of a series."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import TypeVar

T = TypeVar("T")

SUFFIXES = (".gif", ".webp", ".mp4", ".webm")


class Way(StrEnum):
    """The frames, aligned; the background with each frame's movers in turn; with those of the frames before, too;
    the light of all frames so far gathered.
    """

    SERIES = "series"
    SUBJECTS = "subjects"
    TRAILS = "trails"
    LIGHTS = "lights"


@dataclass(frozen=True)
class Plan:
    """`trail`: the movers of so many frames before are still seen, fading; `width` in px."""

    way: Way = Way.SERIES
    trail: int = 4
    width: int = 1280


def in_order(pictures: Sequence[T], back_and_forth: bool) -> list[T]:
    """The pictures as they are shown: to the end, and back again without showing either end twice."""
    return [*pictures, *list(pictures)[-2:0:-1]] if back_and_forth else list(pictures)
