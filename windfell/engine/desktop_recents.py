"""The desktop's own list of recently used documents (freedesktop.org Desktop Bookmark Specification, XBEL 1.0)."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from datetime import UTC, datetime
from pathlib import Path

from windfell.engine.folders import data_folder
from windfell.errors import WindfellError
from windfell.recipe.written import written_whole

NAME = "recently-used.xbel"
MIME = "application/x-windfell"
BOOKMARK = "http://www.freedesktop.org/standards/desktop-bookmarks"
SHARED_MIME = "http://www.freedesktop.org/standards/shared-mime-info"
APPLICATION, COMMAND = "Windfell", "'windfell %u'"


def told_desktop(path: str | Path, now: datetime | None = None) -> bool:
    """A project file joins the desktop's list, if the desktop keeps one; whether it did. What else is in the list
    stays; a list that cannot be read or written is left as it is.
    """
    place = data_folder() / NAME
    try:
        tree = ET.parse(place)
    except (OSError, ET.ParseError):
        return False
    root = tree.getroot()
    if root.tag != "xbel":
        return False
    ET.register_namespace("bookmark", BOOKMARK)
    ET.register_namespace("mime", SHARED_MIME)
    _count(root, Path(path).absolute().as_uri(), (now or datetime.now(UTC)).strftime("%Y-%m-%dT%H:%M:%SZ"))
    try:
        with written_whole(place) as temporary:
            tree.write(temporary, encoding="UTF-8", xml_declaration=True)
            temporary.chmod(0o600)
    except WindfellError:
        return False
    return True


def _count(root: ET.Element, address: str, now: str) -> None:
    """The bookmark of an address with this program as one that opened it once more."""
    mark = next((b for b in root.iter("bookmark") if b.get("href") == address), None)
    if mark is None:
        mark = ET.SubElement(root, "bookmark", href=address, added=now)
    mark.set("modified", now)
    mark.set("visited", now)
    told = mark
    for name in ("info", "metadata"):
        told = _within(told, name)
    told.set("owner", "http://freedesktop.org")
    if told.find(f"{{{SHARED_MIME}}}mime-type") is None:
        ET.SubElement(told, f"{{{SHARED_MIME}}}mime-type", type=MIME)
    programs = _within(told, f"{{{BOOKMARK}}}applications")
    own = next((a for a in programs if a.get("name") == APPLICATION), None)
    if own is None:
        own = ET.SubElement(programs, f"{{{BOOKMARK}}}application", name=APPLICATION, exec=COMMAND, count="0")
    count = own.get("count", "0")
    own.set("count", str(int(count) + 1 if count.isdigit() else 1))
    own.set("modified", now)


def _within(element: ET.Element, name: str) -> ET.Element:
    found = element.find(name)
    return ET.SubElement(element, name) if found is None else found
