"""Style checks, the core's tests where Qt cannot be imported, those of the window and the project, every bench in its
tiny mode; parts side by side, one for each core. Ends with unittest's summary and one closing line.
"""

from __future__ import annotations

import os
import queue
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PART_LIMIT_S = 1500
# test files of a kind share so many processes: to begin with costs each the same imports, scenes and registrations
PROCESSES = {"app": 6, "core": 6, "bench": 4}
# what takes longest, in seconds, so that processes take about as long and the longest begin first; others: a few
LONG = {
    "jobs/test_wide": 190, "jobs/test_series": 110, "jobs/test_rows": 105, "app/test_seam_walk": 70,
    "app/test_window": 65, "core/test_register": 65, "jobs/test_hardships": 55, "core/test_fisheye": 50,
    "app/test_access": 50, "app/test_points": 50, "app/test_shape": 45, "app/test_finish": 45, "app/test_export": 45,
    "core/test_cli": 45, "core/test_subjects": 40, "app/test_prepare": 40, "core/test_pole": 35, "app/test_parts": 35,
    "app/test_subjects": 35, "app/test_areas": 30, "app/test_behind": 30, "app/test_mending": 30,
    "app/test_real_window": 30, "core/test_grown": 30, "core/test_proposals": 30, "core/test_readiness": 25,
    "core/test_owning": 25, "core/test_behind": 25, "core/test_parallax": 25, "core/test_series": 25,
    "core/test_manners": 25, "core/test_bracketed": 20, "core/test_formats": 20, "core/test_barrel": 20}
FEW_S = 12
# benches that have a window, or measure their process
BY_THEMSELVES = ("broken", "dragging", "long_use", "monkey", "panorama_speed", "quick_share")
# what counts pictures while a hand moves has both cores to itself, as it has in use
ALONE = ("app/test_dragging",)
# parts run side by side: an algebra library's threads would only wait for each other, and memory given back to the
# system after each picture has to be cleared anew for the next
LEAN = {"OPENBLAS_NUM_THREADS": "1", "MALLOC_MMAP_THRESHOLD_": str(2**30), "MALLOC_TRIM_THRESHOLD_": str(2**32)}
NO_TINY = {"common", "window"}


@dataclass(frozen=True)
class Part:
    """A process of its own: tests of a file or some, or a bench's tiny mode."""

    name: str
    command: tuple[str, ...]


@dataclass(frozen=True)
class Outcome:
    part: Part
    ran: int
    failed: int
    skipped: int
    seconds: float
    output: str


def style_problems() -> int:
    """The number of style checks that failed (0 or 1)."""
    done = subprocess.run([ROOT / ".venv/bin/ruff", "check", "--quiet", "."], cwd=ROOT, check=False)
    return 1 if done.returncode else 0


def parts() -> list[Part]:
    files: dict[str, list[str]] = {}
    for path in sorted((ROOT / "tests").glob("*/test_*.py")):
        files.setdefault(path.parent.name, []).append(f"{path.parent.name}/{path.stem}")
    shares = [(kind, names) for kind, own in files.items() for names in _shared_out(kind, own)]
    out = [(sum(LONG.get(n, FEW_S) for n in names), _tests(kind, names)) for kind, names in shares]
    benches = [p.stem for p in sorted((ROOT / "bench").glob("*.py")) if p.stem not in NO_TINY]
    groups = _shared_out("bench", [f"bench/{n}" for n in benches if n not in BY_THEMSELVES])
    for names in [*groups, *([f"bench/{n}"] for n in BY_THEMSELVES)]:
        out.append((sum(LONG.get(n, FEW_S) for n in names), _benches(names)))
    return [part for _, part in sorted(out, key=lambda p: -p[0])]


def _benches(names: list[str]) -> Part:
    stems = [n.partition("/")[2] for n in names]
    alone = stems[0] in BY_THEMSELVES
    words = (f"bench/{stems[0]}.py", "--tiny") if alone else ("tools/tiny_benches.py", *stems)
    return Part(", ".join([names[0], *stems[1:]]), (str(ROOT / ".venv/bin/python"), *words))


def _shared_out(kind: str, files: list[str]) -> list[list[str]]:
    """The files of a kind, those that run in one process together; about as long each."""
    shared = [f for f in files if f not in ALONE]
    shares: list[list[str]] = [[] for _ in range(PROCESSES.get(kind, len(shared)))]
    took = [0] * len(shares)
    for name in sorted(shared, key=lambda f: -LONG.get(f, FEW_S)):
        least = took.index(min(took))
        shares[least].append(name)
        took[least] += LONG.get(name, FEW_S)
    return [s for s in shares if s] + [[f] for f in files if f in ALONE]


def _tests(kind: str, files: list[str]) -> Part:
    python = ".venv-core/bin/python" if kind == "core" else ".venv/bin/python"
    modules = [f"tests.{f.replace('/', '.')}" for f in files]
    more = ", " + ", ".join(f.partition("/test_")[2] for f in files[1:]) if files[1:] else ""
    return Part(files[0] + more, (str(ROOT / python), "-m", "unittest", "-b", *modules))


def carried_out(part: Part, environment: dict[str, str], core: int | None = None) -> Outcome:
    """`core`: the only one it may use; None: all."""
    begun = time.monotonic()
    python, *words = part.command
    alone = () if core is None else ("tools/on_core.py", str(core))
    with tempfile.TemporaryDirectory() as home:
        try:
            done = subprocess.run(
                (python, *alone, *words), cwd=ROOT, check=False, capture_output=True, text=True,
                timeout=PART_LIMIT_S, errors="replace", env={**environment, "WINDFELL_HOME": home})
            status, output = done.returncode, done.stdout + done.stderr
        except subprocess.TimeoutExpired as error:
            status, output = 1, f"{error.stdout or ''}\nended: it took more than {PART_LIMIT_S} s"
    seconds = time.monotonic() - begun
    if part.command[1].startswith("bench/"):
        return Outcome(part, 1, int(status != 0), 0, seconds, output)
    ran = int((re.findall(r"Ran (\d+) tests?", output) or ["0"])[-1])
    last = output.strip().splitlines()[-1] if output.strip() else ""
    failed = sum(int(n) for n in re.findall(r"(?:failures|errors|unexpected successes)=(\d+)", last))
    skipped = sum(int(n) for n in re.findall(r"skipped=(\d+)", last))
    if (status and not failed) or not ran:
        failed = max(1, failed)
        ran = max(ran, 1)
    return Outcome(part, ran, failed, skipped, seconds, output)


def _beside(some: list[Part], environment: dict[str, str]) -> Iterator[Outcome]:
    """Each on the next core that is free."""
    free: queue.Queue[int] = queue.Queue()
    cores = sorted(os.sched_getaffinity(0))
    for core in cores:
        free.put(core)

    def on_its_core(part: Part) -> Outcome:
        core = free.get()
        try:
            return carried_out(part, environment, core)
        finally:
            free.put(core)

    with ThreadPoolExecutor(len(cores)) as pool:
        yield from pool.map(on_its_core, some)


def main() -> int:
    begun = time.monotonic()
    style = style_problems()
    with tempfile.TemporaryDirectory() as scenes:
        painted = Path(scenes) / "painted"
        painted.mkdir()
        environment = {
            **os.environ, **LEAN, "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": str(ROOT),
            "WINDFELL_TEST_SCENES": scenes, "WINDFELL_PAINTED": str(painted),
            "WINDFELL_BENCH": str(Path(scenes) / "bench")}
        # what was compiled once serves all processes, also where nothing may be written beside the sources
        environment.pop("PYTHONDONTWRITEBYTECODE", None)
        environment["PYTHONPYCACHEPREFIX"] = str(Path(scenes) / "compiled")
        outcomes = []
        beside, alone = [[p for p in parts() if (p.name in ALONE) == apart] for apart in (False, True)]
        for outcome in chain(_beside(beside, environment), (carried_out(p, environment) for p in alone)):
            outcomes.append(outcome)
            mark = "FAILED" if outcome.failed else "ok"
            print(f"{outcome.part.name:<26} {outcome.ran:4d} in {outcome.seconds:5.1f} s  {mark}", flush=True)
            if outcome.failed:
                print(outcome.output, flush=True)
    ran, failed = sum(o.ran for o in outcomes), sum(o.failed for o in outcomes)
    skipped = sum(o.skipped for o in outcomes)
    print("-" * 70)
    print(f"Ran {ran} tests in {time.monotonic() - begun:.3f}s\n")
    print(f"FAILED (failures={failed})" if failed else "OK")
    print(f"{ran - failed - skipped + (1 - style)} passed, {failed + style} failed", flush=True)
    return 1 if failed + style else 0


if __name__ == "__main__":
    sys.exit(main())
