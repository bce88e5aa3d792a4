"""What a folder holds that could be frames."""

from __future__ import annotations

import os
from collections.abc import Sequence

from windfell.errors import FrameUnreadable
from windfell.frames.metadata import ENDINGS
from windfell.frames.video import VIDEO_ENDINGS


def is_frame(name: str) -> bool:
    """Whether a file's name says that it is a picture or a video."""
    return name.lower().endswith((*ENDINGS, *VIDEO_ENDINGS)) and not name.startswith(".")


def pictures_among(paths: Sequence[str]) -> list[str]:
    """Full paths of files as they are given, and of what is in folders among them. Raises as `pictures_in`."""
    found: list[str] = []
    for path in paths:
        found += pictures_in(path) if os.path.isdir(path) else [os.path.abspath(path)]
    return found


def pictures_in(folder: str) -> list[str]:
    """Full paths of the pictures and videos in a folder, sorted. Raises FrameUnreadable in words."""
    try:
        names = sorted(os.listdir(folder))
    except OSError as error:
        raise FrameUnreadable(folder, f"the folder cannot be opened ({error.strerror}).") from error
    return [os.path.abspath(os.path.join(folder, n)) for n in names if is_frame(n)]
