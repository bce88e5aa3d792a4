"""Style checks, the core's tests where Qt cannot be imported, then all others; one closing line."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def style_problems() -> int:
    """The number of style checks that failed (0 or 1)."""
    done = subprocess.run([ROOT / ".venv/bin/ruff", "check", "--quiet", "."], cwd=ROOT, check=False)
    return 1 if done.returncode else 0


def core_without_qt() -> tuple[int, int]:
    """(passed, failed) of the core's tests in the environment without Qt."""
    python = ROOT / ".venv-core/bin/python"
    done = subprocess.run(
        [python, "-m", "unittest", "discover", "-s", "tests/core", "-t", "."],
        cwd=ROOT, check=False, capture_output=True, text=True,
    )
    print("Core tests without Qt:", done.stderr.strip().splitlines()[-1])
    ran = int((re.search(r"Ran (\d+) test", done.stderr) or [0, "0"])[1])
    failed = sum(int(n) for n in re.findall(r"(?:failures|errors)=(\d+)", done.stderr))
    if done.returncode and not failed:
        failed = 1
    if failed:
        print(done.stderr)
    return max(0, ran - failed), failed


def other_tests() -> unittest.TestResult:
    """The tests of the window and of the project itself."""
    suite = unittest.TestSuite(
        unittest.defaultTestLoader.discover(str(ROOT / "tests" / part), top_level_dir=str(ROOT))
        for part in ("app", "project"))
    return unittest.TextTestRunner(stream=sys.stdout, verbosity=1, buffer=True).run(suite)


def main() -> int:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    sys.path.insert(0, str(ROOT))
    with tempfile.TemporaryDirectory() as home:
        os.environ["WINDFELL_HOME"] = home
        style = style_problems()
        passed, failed = core_without_qt()
        result = other_tests()
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    good = result.testsRun - bad - len(result.skipped)
    print(f"{passed + good + (1 - style)} passed, {failed + bad + style} failed", flush=True)
    return 1 if failed + bad + style else 0


if __name__ == "__main__":
    code = main()
    sys.stdout.flush()
    os._exit(code)
