"""What the machine runs on, as Linux tells it (Documentation/ABI/testing/sysfs-class-power)."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

PLACE = Path("/sys/class/power_supply")


@dataclass(frozen=True)
class Power:
    """Whether it runs on a battery, and how much that holds in %, if it is told."""

    on_battery: bool = False
    percent: int | None = None


def power(place: Path = PLACE) -> Power:
    """What it runs on now; the mains where nothing is told."""
    levels, discharging, mains = [], False, False
    for supply in sorted(place.iterdir()) if place.is_dir() else ():
        kind, scope = _told(supply / "type"), _told(supply / "scope")
        if kind == "Battery" and scope != "Device":  # not that of a mouse
            discharging |= _told(supply / "status") == "Discharging"
            level = _told(supply / "capacity")
            if level.isdigit():
                levels.append(int(level))
        mains |= kind in ("Mains", "USB") and _told(supply / "online") not in ("", "0")
    if not discharging or mains:
        return Power()
    return Power(True, round(sum(levels) / len(levels)) if levels else None)


def _told(file: Path) -> str:
    try:
        return file.read_text(encoding="ascii", errors="replace").strip()
    except OSError:
        return ""
