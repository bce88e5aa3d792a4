"""Where the program keeps what it must not lose."""

from __future__ import annotations

import os
from pathlib import Path

from platformdirs import user_config_dir, user_state_dir

PROGRAM = "windfell"


def config_folder() -> Path:
    """The settings; WINDFELL_HOME moves it, for tests and portable use."""
    home = os.environ.get("WINDFELL_HOME")
    return Path(home) / "config" if home else Path(user_config_dir(PROGRAM))


def data_folder() -> Path:
    """Where desktops look for what belongs to one user (XDG base directories)."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def state_folder() -> Path:
    """Safety copies and the list of recent projects."""
    home = os.environ.get("WINDFELL_HOME")
    return Path(home) / "state" if home else Path(user_state_dir(PROGRAM))
