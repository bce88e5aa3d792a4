"""What somebody wants of the program whatever the project: a small file of its own."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from platformdirs import user_cache_dir

from windfell.engine.folders import PROGRAM, config_folder
from windfell.errors import BadRequest, WindfellError, border
from windfell.recipe.limits import Unknown, number
from windfell.recipe.output import Output
from windfell.recipe.words import from_words, to_words
from windfell.recipe.written import written_whole

MB = 2**20


class Look(StrEnum):
    """The window's themes."""

    LIMESTONE = "limestone"
    PEAT = "peat"


@dataclass(frozen=True)
class Settings:
    """`surround`: grey around the picture, None: the theme's. `memory_mb` None: a third of the machine's.
    `cache_place` None: the usual one. `screen_profile`: the path of the screen's ICC profile, None: sRGB. `output`:
    how the pictures of new sets are written.
    """

    theme: Look = Look.LIMESTONE
    surround: int | None = number(None, 0, 255)
    memory_mb: int | None = number(None, 256, 4_000_000, "MB")
    disk_mb: int = number(2048, 64, 4_000_000, "MB")
    cache_place: str | None = None
    screen_profile: str | None = None
    output: Output = Output()
    unknown: Unknown = ()

    @property
    def memory_bytes(self) -> int | None:
        return None if self.memory_mb is None else self.memory_mb * MB


def settings_file() -> Path:
    return config_folder() / "settings.json"


def read_settings() -> Settings:
    """The settings as they are kept; as shipped where there is no file. Raises BadRequest."""
    path = settings_file()
    if not path.exists():
        return Settings()
    with border(path, "it holds no settings", BadRequest):
        return from_words(Settings, json.loads(path.read_text(encoding="utf-8")), "settings")


def read_or_shipped() -> tuple[Settings, str]:
    """The settings, or those as shipped and a sentence that says why."""
    try:
        return read_settings(), ""
    except WindfellError as error:
        return Settings(), f"{str(error).rstrip('.')}; the settings are as shipped."


def write_settings(settings: Settings) -> None:
    """Keep the settings. Raises OutputFailed."""
    path = settings_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(path) as temporary:
        temporary.write_text(json.dumps(to_words(settings), indent=1), encoding="utf-8")


def cache_folder() -> Path:
    """Features and proxies, where the settings want them; WINDFELL_HOME moves it, for tests and portable use."""
    place = read_or_shipped()[0].cache_place
    if place:
        return Path(place) / f"{PROGRAM}-cache"
    home = os.environ.get("WINDFELL_HOME")
    return Path(home) / "cache" if home else Path(user_cache_dir(PROGRAM))


def cache_bytes(folder: Path) -> int:
    """How much a cache folder holds."""
    try:
        return sum(p.stat().st_size for p in folder.glob("*.bin"))
    except OSError:
        return 0


def clear_cache(folder: Path) -> None:
    """Remove all that is kept in a cache folder, and nothing else."""
    for path in folder.glob("*.bin"):
        path.unlink(missing_ok=True)
