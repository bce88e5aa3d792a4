"""What a file is, apart from what is in it."""

from __future__ import annotations

import os


def identity(path: str) -> str:
    """What a file is for the cache: its place, size and time of change."""
    try:
        stat = os.stat(path)
    except OSError:
        return f"{path}:missing"
    return f"{path}:{stat.st_size}:{stat.st_mtime_ns}"
