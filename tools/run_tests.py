"""Style checks, the core's tests where Qt cannot be imported, those of the window and the project, every bench in its
tiny mode; parts side by side, one for each core. Ends with unittest's summary and one closing line.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PART_LIMIT_S = 900
# what takes longest begins first, so that no core waits for it at the end
LONG = ("jobs/test_rows", "jobs/test_wide", "app/test_window", "app/test_shape", "jobs/test_series",
        "core/test_readiness",
        "core/test_register", "app/test_prepare", "app/test_points", "app/test_parts", "bench/strangers",
        "core/test_cli", "bench/finishing", "app/test_seam_walk", "app/test_finish", "app/test_combine",
        "app/test_mending", "app/test_export", "app/test_access", "app/test_areas", "core/test_proposals",
        "app/test_subjects", "app/test_real_window", "jobs/test_hardships", "core/test_develop", "app/test_lines",
        "app/test_parallax", "core/test_parallax", "core/test_align", "core/test_zoom", "core/test_engine",
        "core/test_subjects", "core/test_stack_repairs", "core/test_owning", "bench/painting")
# what counts pictures while a hand moves has both cores to itself, as it has in use
ALONE = ("app/test_dragging", "bench/dragging")
NO_TINY = {"common", "window"}


@dataclass(frozen=True)
class Part:
    """A process of its own: tests of a file, or a bench's tiny mode."""

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
    out = []
    for path in sorted((ROOT / "tests").glob("*/test_*.py")):
        kind, stem = path.parent.name, path.stem
        python = ".venv-core/bin/python" if kind == "core" else ".venv/bin/python"
        out.append(Part(f"{kind}/{stem}", (str(ROOT / python), "-m", "unittest", "-b", f"tests.{kind}.{stem}")))
    for path in sorted((ROOT / "bench").glob("*.py")):
        if path.stem not in NO_TINY:
            out.append(Part(f"bench/{path.stem}", (str(ROOT / ".venv/bin/python"), str(path), "--tiny")))
    order = {name: n for n, name in enumerate(LONG)}
    return sorted(out, key=lambda p: order.get(p.name, len(order)))


def carried_out(part: Part, environment: dict[str, str]) -> Outcome:
    begun = time.monotonic()
    with tempfile.TemporaryDirectory() as home:
        try:
            done = subprocess.run(
                part.command, cwd=ROOT, check=False, capture_output=True, text=True, timeout=PART_LIMIT_S,
                errors="replace", env={**environment, "WINDFELL_HOME": home})
            status, output = done.returncode, done.stdout + done.stderr
        except subprocess.TimeoutExpired as error:
            status, output = 1, f"{error.stdout or ''}\nended: it took more than {PART_LIMIT_S} s"
    seconds = time.monotonic() - begun
    if part.name.startswith("bench/"):
        return Outcome(part, 1, int(status != 0), 0, seconds, output)
    ran = int((re.findall(r"Ran (\d+) tests?", output) or ["0"])[-1])
    last = output.strip().splitlines()[-1] if output.strip() else ""
    failed = sum(int(n) for n in re.findall(r"(?:failures|errors|unexpected successes)=(\d+)", last))
    skipped = sum(int(n) for n in re.findall(r"skipped=(\d+)", last))
    if (status and not failed) or not ran:
        failed = max(1, failed)
        ran = max(ran, 1)
    return Outcome(part, ran, failed, skipped, seconds, output)


def _all_of(some: list[Part], at_once: int, environment: dict[str, str]) -> Iterator[Outcome]:
    with ThreadPoolExecutor(at_once) as pool:
        yield from pool.map(lambda p: carried_out(p, environment), some)


def main() -> int:
    begun = time.monotonic()
    style = style_problems()
    with tempfile.TemporaryDirectory() as scenes:
        environment = {
            **os.environ, "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": str(ROOT),
            "WINDFELL_TEST_SCENES": scenes, "WINDFELL_BENCH": str(Path(scenes) / "bench")}
        outcomes = []
        cores = max(1, len(os.sched_getaffinity(0)))
        beside, alone = [[p for p in parts() if (p.name in ALONE) == apart] for apart in (False, True)]
        for some, at_once in ((beside, cores), (alone, 1)):
            for outcome in _all_of(some, at_once, environment):
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
