"""Some benches in their tiny mode, one after another in this process: to begin costs each the same imports.

Usage: tiny_benches.py NAME...; ends with unittest's words, since each counts as a test.
"""

from __future__ import annotations

import runpy
import signal
import sys
import time
import traceback
from pathlib import Path

BENCH = Path(__file__).resolve().parent.parent / "bench"


def passed(name: str) -> bool:
    """Whether the bench ends well."""
    path = BENCH / f"{name}.py"
    sys.argv = [str(path), "--tiny"]
    begun, status = time.monotonic(), 0
    try:
        runpy.run_path(str(path), run_name="__main__")
    except SystemExit as end:
        status = end.code or 0
    except Exception:  # noqa: BLE001 (the others are still to run)
        traceback.print_exc()
        status = 1
    signal.alarm(0)
    print(f"bench {name}: {'FAILED' if status else 'ok'} in {time.monotonic() - begun:.1f} s", flush=True)
    return not status


def main() -> int:
    sys.path.insert(0, str(BENCH))
    names = sys.argv[1:]
    failed = sum(not passed(name) for name in names)
    print(f"Ran {len(names)} tests\n\n{f'FAILED (failures={failed})' if failed else 'OK'}", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
