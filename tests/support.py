"""Small scenes with truth, shared by all tests and drawn once a run."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import tempfile
import unittest
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from windfell.align import glance, pairs
from windfell.cache import Cache
from windfell.demo import sets as demo_sets
from windfell.demo.sets import GreenPlan, RowPlan, write_green, write_row
from windfell.engine.core import Engine
from windfell.geometry.rotation import angle_between, nearest_rotation
from windfell.job import Job
from windfell.recipe.model import FrameSet, Kind, Project, frame_from_path

SCALE = 0.3
_HOME = tempfile.TemporaryDirectory(prefix="windfell-tests-")
_SCENES = Path(os.environ.get("WINDFELL_TEST_SCENES") or _HOME.name)


def drawn(name: str, draw: Callable[[Path], None]) -> Path:
    """A folder of a scene that is drawn once, also for tests that run in other processes meanwhile."""
    folder = _SCENES / name
    with open(_SCENES / f"{name}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.exists():
            part = _SCENES / f"{name}.part"
            shutil.rmtree(part, ignore_errors=True)
            draw(part)
            part.rename(folder)
    return folder


def nothing_known(test: unittest.TestCase) -> None:
    """For this test no two frames were matched before."""
    for module in (pairs, glance):
        fresh = mock.patch.object(module, "KNOWN", Cache(2**24))
        fresh.start()
        test.addCleanup(fresh.stop)


def unit_rays(count: int, seed: int, half_angle: float = np.pi) -> np.ndarray:
    """Random unit rays within an angle of straight ahead."""
    rng = np.random.default_rng(seed)
    z = rng.uniform(np.cos(half_angle), 1, count)
    turn = rng.uniform(0, 2 * np.pi, count)
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(turn), r * np.sin(turn), z], -1)


@lru_cache(maxsize=8)
def ridge(count: int = 4, seed: int = 8, k1: float = -0.035, overlap: float = 0.30) -> Path:
    """A folder with a small handheld row and its truth."""
    plan = RowPlan(count=count, seed=seed, k1=k1, overlap=overlap)
    return drawn(f"ridge-{count}-{seed}-{k1}-{overlap}", lambda folder: write_row(folder, plan, SCALE, Job()))


@lru_cache(maxsize=2)
def stranger() -> Path:
    """A frame of another land."""
    plan = RowPlan(count=1, seed=77, start_yaw_deg=120)
    return drawn("stranger", lambda folder: write_row(folder, plan, SCALE, Job(), canvas_seed=99)) / "ridge-01.jpg"


@lru_cache(maxsize=1)
def green() -> Path:
    """A folder with a small tripod series and its truth."""
    return drawn("green", lambda folder: write_green(folder, GreenPlan(), SCALE, Job()))


def truth_of(folder: Path) -> dict:
    return json.loads((folder / "truth.json").read_text())


def frames_in(folder: Path) -> list[str]:
    return sorted(str(p) for p in folder.glob("*.jpg"))


def project_of(paths: list[str], kind: Kind = Kind.PANORAMA, **parts) -> tuple[Project, str]:
    """A project of one set of these files, and the set's id."""
    frame_set = FrameSet("set", "Test set", kind, tuple(frame_from_path(p) for p in paths), **parts)
    return Project((frame_set,)), "set"


def engine() -> Engine:
    return Engine(None, 512 * 2**20)


def rotation_errors_deg(found: list[np.ndarray], true: list[np.ndarray]) -> np.ndarray:
    """Errors after removing the turn that all have in common."""
    common = nearest_rotation(sum(t @ f.T for f, t in zip(found, true, strict=True)))
    return np.degrees([angle_between(common @ f, t) for f, t in zip(found, true, strict=True)])


def write_picture(path: Path, pixels: np.ndarray, **options) -> str:
    Image.fromarray(pixels).save(path, **options)
    return str(path)


def textured(height: int, width: int, seed: int) -> np.ndarray:
    """A picture uint8 (h, w, 3) full of features."""
    from windfell.demo.canvas import noise

    rng = np.random.default_rng(seed)
    planes = [noise((height, width), (40, 40), 5, rng) for _ in range(3)]
    return np.clip(128 + 42 * np.dstack(planes), 0, 255).astype(np.uint8)


__all__ = ["demo_sets"]
