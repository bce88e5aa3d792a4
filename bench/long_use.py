"""A day of use: many sets in the real window, round after round of edits at their stations, undone and saved, as
somebody does who works through a card. Prints, for each round, the memory held and how long a picture takes after an
edit.

Wanted: memory flat (the last round holds at most a tenth more than the third), no slower at the end.
Usage: long_use.py [--sets 40] [--edits 200] [--rounds 8] [--tiny]
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from common import limited
from window import Turns

from windfell.app.demo import demo_project
from windfell.app.session import Session
from windfell.app.window import Window
from windfell.engine.core import Engine
from windfell.recipe.finishing import Adjustment, Finish, Light
from windfell.recipe.model import Frame, FrameSet, Kind, Project, new_id
from windfell.recipe.sources import FileSource

BUDGET = 700 * 2**20
GROWTH, SLOWER = 1.10, 1.25
SETTLE_S = 60.0


def held_mb() -> float:
    """What this process holds in memory now."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 2**20


def many_sets(count: int) -> Project:
    """Variants of the demo's sets of files, so many of them."""
    plain = [s for s in demo_project().sets if all(isinstance(f.source, FileSource) for f in s.frames)]
    out = []
    for n in range(count):
        one = plain[n % len(plain)]
        frames = tuple(Frame(new_id(), f.source, on=f.on) for f in one.frames[:6])
        registration = replace(one.registration, reference=None)
        out.append(FrameSet(new_id(), f"{one.name} {n + 1}", one.kind, frames, registration, one.view, one.outline,
                            combining=one.combining))
    return Project(tuple(out))


class Day:
    """One window for the whole day."""

    def __init__(self, app: Turns, sets: int, folder: Path) -> None:
        self.app, self.folder, self.rng = app, folder, np.random.default_rng(1)
        self.session = Session(Engine(folder / "cache", BUDGET))
        self.window = Window(self.session)
        self.window.resize(1280, 800)
        self.window.show()
        self.session.replace_all(many_sets(sets), None)
        self.at = 0

    def wait(self) -> float:
        begun = time.monotonic()
        self.app.until(lambda: self.window.source.settled and not self.session.moving, SETTLE_S)
        return time.monotonic() - begun

    def edit(self) -> float:
        """One edit of the set in hand; seconds until its picture is there, sharp."""
        s, own = self.session, self.session.frame_set
        stack = own.kind is Kind.STACK
        ways = (("view.roll_deg", float(self.rng.uniform(-3, 3))),
                ("combining.kappa_low" if stack else "view.yaw_deg", float(self.rng.uniform(1, 8))))
        way = int(self.rng.integers(3))
        if way < 2:
            s.change(*ways[way], True)
        else:
            light = Adjustment(Light(exposure_ev=float(self.rng.uniform(-0.5, 0.5))))
            s.change("name", f"{own.name.split(' *')[0]} *", True)
            s.edit(_finished(s.project, own.id, Finish((light,))), True)
        return self.wait()

    def round(self, edits: int, sets: int) -> tuple[float, float]:
        """(MB held, median seconds of an edit) after a round over some sets."""
        took = []
        per_set = max(1, edits // sets)
        for _ in range(sets):
            own = self.session.project.sets[self.at % len(self.session.project.sets)]
            self.at += 1
            self.session.select_set(own.id)
            stations = [x for x in self.session.stations if x in ("shape", "combine", "finish", "join", "align")]
            self.session.go(stations[int(self.rng.integers(len(stations)))])
            self.wait()
            took += [self.edit() for _ in range(per_set)]
            for _ in range(per_set // 2):
                self.session.undo()
            self.wait()
        self.session.save_to(str(self.folder / "day.windfell"))
        return held_mb(), float(np.median(took))


def _finished(project: Project, set_id: str, finish: Finish):
    from windfell.recipe.edits import Edit  # noqa: PLC0415 (the path is set by common)

    return Edit("finish", project.with_set(replace(project.set(set_id), finish=finish)))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sets", type=int, default=40)
    parser.add_argument("--edits", type=int, default=200)
    parser.add_argument("--rounds", type=int, default=8)
    parser.add_argument("--tiny", action="store_true")
    options = parser.parse_args()
    if options.tiny:
        options.sets, options.edits, options.rounds = 1, 2, 1
    limited(400 if options.tiny else 3 * 3600)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["WINDFELL_HOME"] = folder
        day = Day(Turns(), options.sets, Path(folder))
        found = []
        for n in range(options.rounds):
            found.append(day.round(options.edits, min(options.sets, options.edits)))
            print(f"round {n + 1}: {found[-1][0]:.0f} MB, {found[-1][1]:.2f} s an edit", flush=True)
        day.window.close()
    if options.tiny:
        return
    first, last = found[min(2, len(found) - 2)], found[-1]
    flat = last[0] <= GROWTH * first[0]
    quick = last[1] <= SLOWER * first[1] + 0.1
    print(f"memory {'flat' if flat else 'GROWS'}: {first[0]:.0f} to {last[0]:.0f} MB; "
          f"{'no slower' if quick else 'SLOWER'}: {first[1]:.2f} to {last[1]:.2f} s")


if __name__ == "__main__":
    main()
