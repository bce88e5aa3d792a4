"""A progress line on a terminal; nothing elsewhere."""

from __future__ import annotations

from typing import TextIO

from windfell.job import Progress

WIDTH = 70


class ProgressLine:
    """One line, written over itself."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream if stream.isatty() else None

    def show(self, progress: Progress) -> None:
        if self._stream:
            self._stream.write("\r" + sentence(progress)[:WIDTH].ljust(WIDTH))
            self._stream.flush()

    def clear(self) -> None:
        if self._stream:
            self._stream.write("\r" + " " * WIDTH + "\r")
            self._stream.flush()


def in_words(seconds: float) -> str:
    """A time in words: 8 s, 3 min, 2 h 5 min."""
    if seconds < 90:
        return f"{seconds:.0f} s"
    minutes = round(seconds / 60)
    return f"{minutes} min" if minutes < 60 else f"{minutes // 60} h {minutes % 60} min"


def sentence(progress: Progress) -> str:
    """Progress in words: what, how far, how long yet."""
    words = f"{progress.stage}, {100 * progress.fraction:.0f} %"
    if progress.remaining_s is not None and progress.remaining_s >= 1:
        words += f", {progress.remaining_s:.0f} s left"
    return words
