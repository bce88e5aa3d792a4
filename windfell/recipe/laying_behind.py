"""Edits of what lies behind a panorama."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from windfell.errors import BadRequest
from windfell.recipe.areas import Area
from windfell.recipe.behind import Behind
from windfell.recipe.edits import Edit
from windfell.recipe.model import Camera, Kind, Project, nested_in

WORDS = {"yaw_deg": "turn", "pitch_deg": "tilt", "roll_deg": "roll", "exposure_ev": "exposure", "warmth": "warmth"}


def both_around(project: Project, *set_ids: str) -> bool:
    """Whether all of these are panoramas around a place, so that they turn together."""
    found = [project.set(i) for i in set_ids]
    return all(s.kind is Kind.PANORAMA and s.registration.camera is Camera.TURNED for s in found)


def check_behind(project: Project, front_id: str, back_id: str) -> None:
    """Raises BadRequest if the one cannot lie behind the other."""
    front, back = project.set(front_id), project.set(back_id)
    for one in (front, back):
        if not both_around(project, one.id):
            raise BadRequest(f"{one.name} is no panorama around a place; only such turn together.")
    if front_id == back_id or front_id in nested_in(project, back_id):
        raise BadRequest(f"{front.name} cannot lie behind itself.")


def lay_behind(project: Project, front_id: str, behind: Behind) -> Edit:
    """Raises BadRequest if the sets cannot lie so."""
    check_behind(project, front_id, behind.set)
    front = project.set(front_id)
    words = f"lay {project.set(behind.set).name} behind {front.name}"
    return Edit(words, project.with_set(replace(front, behind=behind)))


def take_from_behind(project: Project, front_id: str) -> Edit:
    front = project.set(front_id)
    return Edit(f"nothing behind {front.name}", project.with_set(replace(front, behind=None)))


def change_behind(project: Project, front_id: str, name: str, value: Any) -> Edit:
    """One value of what lies behind."""
    front = project.set(front_id)
    words = f"{WORDS.get(name, name)} of what lies behind"
    behind = replace(front.behind, **{name: value})
    return Edit(words, project.with_set(replace(front, behind=behind)), f"behind {name}")


def light_behind(project: Project, front_id: str, exposure_ev: float, warmth: float) -> Edit:
    """What lies behind lit so."""
    front = project.set(front_id)
    behind = replace(front.behind, exposure_ev=exposure_ev, warmth=warmth)
    return Edit(f"match what lies behind: {exposure_ev:+.2f} EV", project.with_set(replace(front, behind=behind)))


def turn_behind(project: Project, front_id: str, yaw_deg: float, pitch_deg: float, roll_deg: float | None = None
                ) -> Edit:
    """What lies behind turned so far in all."""
    front = project.set(front_id)
    roll = front.behind.roll_deg if roll_deg is None else roll_deg
    behind = replace(front.behind, yaw_deg=(yaw_deg + 180) % 360 - 180, pitch_deg=max(-90.0, min(90.0, pitch_deg)),
                     roll_deg=(roll + 180) % 360 - 180)
    return Edit("turn what lies behind", project.with_set(replace(front, behind=behind)), "behind turned")


def behind_area(project: Project, front_id: str, area: Area) -> Project:
    """Where what lies behind is seen."""
    front = project.set(front_id)
    return project.with_set(replace(front, behind=replace(front.behind, area=area)))
