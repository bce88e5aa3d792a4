"""`windfell desktop`: menu entry, icon and file type for one user, where desktops look for them (XDG base dirs)."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from windfell.engine.folders import data_folder
from windfell.errors import OutputFailed
from windfell.recipe.written import written_whole

ASSETS = Path(__file__).resolve().parents[1] / "app" / "assets"
ENTRY = Path("applications/windfell.desktop")
FILES = {
    ENTRY: "desktop/windfell.desktop", Path("mime/packages/windfell.xml"): "desktop/windfell-mime.xml",
    Path("metainfo/windfell.metainfo.xml"): "desktop/windfell.metainfo.xml",
    Path("icons/hicolor/scalable/apps/windfell.svg"): "windfell.svg",
}
REFRESHED = (("update-mime-database", "mime"), ("update-desktop-database", "applications"))
REFRESH_LIMIT_S = 30


def add_desktop(p: ArgumentParser) -> None:
    p.add_argument("--remove", action="store_true", help="take them away again")


def run_desktop(options: Namespace, _job: object = None) -> None:
    """Install or remove. Raises OutputFailed."""
    place = data_folder()
    if options.remove:
        for name in FILES:
            (place / name).unlink(missing_ok=True)
    else:
        for name, asset in FILES.items():
            text = (ASSETS / asset).read_text(encoding="utf-8")
            if name == ENTRY:
                text = text.replace("Exec=windfell", f"Exec={command()}")
            _write(place / name, text)
    for tool, folder in REFRESHED:
        if shutil.which(tool) and (place / folder).is_dir():
            subprocess.run([tool, str(place / folder)], check=False, timeout=REFRESH_LIMIT_S,
                           stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    print(f"{'Removed from' if options.remove else 'Windfell is in the menu now:'} {place}")


def command() -> str:
    """How a desktop entry calls this program, quoted as its specification wants it."""
    found = Path(sys.argv[0]).resolve()
    if found.name == "windfell" and os.access(found, os.X_OK):
        return _quoted(str(found))
    beside = Path(sys.executable).with_name("windfell")
    return _quoted(str(beside)) if beside.exists() else f"{_quoted(sys.executable)} -m windfell"


def _quoted(path: str) -> str:
    return path if path.replace("/", "").replace("-", "").replace(".", "").replace("_", "").isalnum() else f'"{path}"'


def _write(path: Path, text: str) -> None:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputFailed(path.parent, f"it could not be made ({error.strerror}).") from error
    with written_whole(path) as temporary:
        temporary.write_text(text, encoding="utf-8")
