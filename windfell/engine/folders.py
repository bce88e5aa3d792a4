"""Where the program keeps what it may lose (cache) and what it must not (state)."""

from __future__ import annotations

import os
from pathlib import Path

from platformdirs import user_cache_dir, user_state_dir

PROGRAM = "windfell"


def cache_folder() -> Path:
    """Features and proxies; WINDFELL_HOME moves it, for tests and portable use."""
    home = os.environ.get("WINDFELL_HOME")
    return Path(home) / "cache" if home else Path(user_cache_dir(PROGRAM))


def state_folder() -> Path:
    """Safety copies and the list of recent projects."""
    home = os.environ.get("WINDFELL_HOME")
    return Path(home) / "state" if home else Path(user_state_dir(PROGRAM))
