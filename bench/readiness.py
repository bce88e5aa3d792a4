"""Readiness on random sets with one planted fault each, and on clean ones: what is found, what is made up.

python bench/readiness.py [COUNT] [FIRST_SEED]
"""

from __future__ import annotations

import tempfile
import time
from collections import Counter
from pathlib import Path

import numpy as np
from common import TINY_LAND, asked

from windfell.demo import faults as drawn
from windfell.demo.faults import IN_A_ROW, IN_A_SERIES, write_planted
from windfell.engine.core import Engine
from windfell.engine.survey import surveyed
from windfell.job import Job
from windfell.readiness.checks import findings
from windfell.recipe.model import Frame, FrameSet, Kind, Project, frame_from_path, new_id
from windfell.recipe.sources import VideoInstant

NOT_FAULTS = {"bracket"}
COMES_WITH = {
    ("unconnected", "adds nothing"), ("unconnected", "mixed size"), ("mixed size", "adds nothing"),
    ("raw and JPEG double", "mixed size"), ("motion blur", "handheld"), ("raw and JPEG double", "duplicate"),
    ("clipped highlights", "exposure drift"), ("mixed focal length", "adds nothing"),
}


def set_of(planted) -> FrameSet:
    if planted.instants:
        frames = tuple(Frame(new_id(), VideoInstant(planted.files[0], t)) for t in planted.instants)
    else:
        frames = tuple(frame_from_path(p) for p in planted.files)
    return FrameSet("set", "set", Kind(planted.kind), frames)


def main(count: int = 200, first: int = 1) -> None:
    hit, missed, made_up, clean = Counter(), Counter(), Counter(), 0
    clean_with_findings = 0
    begun = time.perf_counter()
    for seed in range(first, first + count):
        rng = np.random.default_rng(seed)
        kind = "panorama" if rng.random() < 0.55 else "stack"
        faults = IN_A_ROW if kind == "panorama" else IN_A_SERIES
        fault = None if rng.random() < 0.25 else str(rng.choice(faults))
        with tempfile.TemporaryDirectory() as folder:
            planted = write_planted(Path(folder) / f"s{seed}", kind, fault, seed)
            project = Project((set_of(planted),))
            found = {f.fault for f in findings(surveyed(Engine(None, 2**28), project, "set", Job()))} - NOT_FAULTS
        if fault is None:
            clean += 1
            clean_with_findings += bool(found)
        elif fault in found:
            hit[fault] += 1
        else:
            missed[fault] += 1
        extra = {f for f in found if f != fault and (fault, f) not in COMES_WITH}
        made_up.update(extra)
        if extra or (fault and fault not in found):
            print(f"seed {seed} {kind}: planted {fault}, found {sorted(found)}", flush=True)
    h, m, x = sum(hit.values()), sum(missed.values()), sum(made_up.values())
    print(f"\n{count} sets, {clean} of them clean, in {time.perf_counter() - begun:.0f} s")
    for name in sorted(set(hit) | set(missed) | set(made_up)):
        print(f"  {name:<26} found {hit[name]:3d} of {hit[name] + missed[name]:3d}   made up {made_up[name]}")
    print(f"recall {h / max(1, h + m):.3f}   precision {h / max(1, h + x):.3f}   "
          f"clean sets with a finding: {clean_with_findings} of {clean}")


if __name__ == "__main__":
    tiny, numbers = asked(300, 1800)
    if tiny:
        drawn.CANVAS = TINY_LAND
    main(*([2] if tiny else numbers))
