"""Errors of the program itself, kept with their tracebacks so that they can be reported."""

from __future__ import annotations

import platform
import traceback
from datetime import datetime

from windfell import __version__
from windfell.engine.folders import state_folder

MOST_BYTES = 256 * 1024


def noted(error: BaseException) -> str:
    """The sentence for an error that nobody foresaw; its traceback goes to a log that is kept small."""
    place = state_folder() / "inner-errors.log"
    head = f"{datetime.now():%Y-%m-%d %H:%M:%S}  windfell {__version__}  Python {platform.python_version()}\n"
    text = head + "".join(traceback.format_exception(error)) + "\n"
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        before = place.read_bytes()[-(MOST_BYTES - min(len(text), MOST_BYTES)):] if place.exists() else b""
        place.write_bytes(before + text.encode(errors="replace")[-MOST_BYTES:])
    except OSError:
        return f"Something went wrong inside the program: {error!r}."
    return f"Something went wrong inside the program: {error!r}. {place} holds what is needed to report it."
