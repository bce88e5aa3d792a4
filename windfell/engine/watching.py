"""A folder that is being filled: the frames that came since, once nothing more comes."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator

from windfell.frames.listing import pictures_in
from windfell.job import Job

LOOK_S = 0.5


class Watched:
    """Says which new files of a folder are whole: no longer growing, and none after them for `settle_s`."""

    def __init__(self, folder: str, settle_s: float) -> None:
        self._folder, self._settle_s = folder, settle_s
        self._done: set[str] = set()
        self._sizes: dict[str, int] = {}
        self._changed = time.monotonic()

    def look(self, now: float) -> list[str]:
        """New files that are ready at the time `now`, or none yet. Raises FrameUnreadable if the folder is gone."""
        sizes = {}
        for path in pictures_in(self._folder):
            if path not in self._done:
                try:
                    sizes[path] = os.path.getsize(path)
                except OSError:
                    continue
        if sizes != self._sizes:
            self._sizes, self._changed = sizes, now
            return []
        if not sizes or now - self._changed < self._settle_s:
            return []
        ready = sorted(sizes)
        self._done |= set(ready)
        self._sizes = {}
        return ready

    def put_back(self, files: Iterable[str]) -> None:
        """These were not taken after all; they are said again."""
        self._done -= set(files)

    def sets(self, job: Job, until_s: float | None = None) -> Iterator[list[str]]:
        """Ready files as they come, until the job is stopped or nothing came for `until_s`."""
        quiet = time.monotonic()
        while True:
            job.check()
            now = time.monotonic()
            found = self.look(now)
            if found:
                yield found
                quiet = time.monotonic()
            elif self._sizes:
                quiet = now
            elif until_s is not None and now - quiet > until_s:
                return
            time.sleep(LOOK_S)
