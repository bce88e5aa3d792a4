"""Edits of a picture's repairs."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import PurePath
from typing import Any

from windfell.recipe.areas import Area, Ellipse, Gradient, Grown, Patch, Point, Stroke
from windfell.recipe.edits import Edit
from windfell.recipe.model import Kind, Project
from windfell.recipe.repairs import Mend, Repair

FROM_ELSEWHERE = (Mend.CLONE, Mend.HEAL)
MADE_UP = (Mend.TEXTURE, Mend.GROW)
WORDS = {Mend.FILL: "fill", Mend.TEXTURE: "texture", Mend.FRAME: "another frame",
         Mend.GROW: "gaps filled"}


def repair_name(repair: Repair, kind: Kind = Kind.PANORAMA) -> str:
    """What a repair is, in words."""
    if repair.way is Mend.PICTURE:
        return f"flat view {PurePath(repair.path).name}"
    drawn = "within the outline" if repair.way is Mend.GROW else f"{len(repair.area.parts)} drawn"
    if repair.way in FROM_ELSEWHERE and repair.source and repair.to:
        if kind is Kind.STACK:
            far = math.hypot(repair.source[0] - repair.to[0], repair.source[1] - repair.to[1])
            return f"{repair.way} from {far:.0f} px away; {drawn}"
        return f"{repair.way} from {_apart(repair.source, repair.to):.1f}° away; {drawn}"
    answer = f", answer {repair.answer + 1}" if repair.way in MADE_UP and repair.answer else ""
    return f"{WORDS.get(repair.way, repair.way)}{answer}; {drawn}"


def _apart(a: Point, b: Point) -> float:
    """How far two directions lie apart, in degrees."""
    (lon, lat), (other_lon, other_lat) = (tuple(map(math.radians, p)) for p in (a, b))
    cosine = math.sin(lat) * math.sin(other_lat) + math.cos(lat) * math.cos(other_lat) * math.cos(lon - other_lon)
    return math.degrees(math.acos(max(-1.0, min(1.0, cosine))))


def _with(project: Project, set_id: str, repairs: tuple[Repair, ...]) -> Project:
    return project.with_set(replace(project.set(set_id), repairs=repairs))


def add_repair(project: Project, set_id: str, repair: Repair) -> Edit:
    repairs = (*project.set(set_id).repairs, repair)
    return Edit(f"repair: {repair_name(repair, project.set(set_id).kind)}", _with(project, set_id, repairs))


def change_repair(project: Project, set_id: str, n: int, words: str, **values: Any) -> Edit:
    repairs = list(project.set(set_id).repairs)
    repairs[n] = replace(repairs[n], **values)
    return Edit(f"{words} repair {n + 1}", _with(project, set_id, tuple(repairs)))


def place_repair(project: Project, set_id: str, n: int, moved: Repair) -> Edit:
    """A repair drawn to another place; what is drawn in one go is one step."""
    repairs = list(project.set(set_id).repairs)
    repairs[n] = moved
    return Edit(f"move repair {n + 1} to its place", _with(project, set_id, tuple(repairs)), f"repair {n} place")


def shape_repair(project: Project, set_id: str, n: int, name: str, value: float) -> Edit:
    """How a clone or heal is turned (`turn_deg`) or sized (`size_pct`)."""
    words = f"turn to {value:.0f}°" if name == "turn_deg" else f"size to {value:.0f} %"
    changed = change_repair(project, set_id, n, "", **{name: value}).project
    return Edit(f"repair {n + 1}: {words}", changed, f"repair {n} {name}")


def with_stroke_of_its_own(project: Project, set_id: str, n: int, area: Area) -> Project:
    """The project with what was drawn last of an area as a further clone or heal, which begins anew at the source of
    repair `n`.
    """
    repair = project.set(set_id).repairs[n]
    own = replace(area, parts=area.parts[-1:])
    further = replace(repair, area=own, to=first_point(own))
    return _with(project, set_id, (*project.set(set_id).repairs, further))


def with_sources(project: Project, set_id: str, n: int, sources: Area) -> Project:
    """The project whose repair takes its texture from an area; an empty one: from anywhere around."""
    plain = not sources.parts and not sources.inverted
    return change_repair(project, set_id, n, "sources of", sources=None if plain else sources).project


def remove_repair(project: Project, set_id: str, n: int) -> Edit:
    repairs = list(project.set(set_id).repairs)
    del repairs[n]
    return Edit(f"remove repair {n + 1}", _with(project, set_id, tuple(repairs)))


def first_point(area: Area) -> Point | None:
    """Where an area was begun."""
    for part in area.parts:
        if isinstance(part, Stroke):
            return part.points[0] if part.points else None
        if isinstance(part, Patch):
            return part.corners[0] if part.corners else None
        if isinstance(part, Grown):
            return part.inside[0][0] if part.inside and part.inside[0] else None
        if isinstance(part, Ellipse):
            return part.middle
        if isinstance(part, Gradient):
            return part.start
    return None


def with_repair_area(
    project: Project, set_id: str, n: int, way: Mend, area: Area, source: Point | None, frame: str | None = None
) -> Project:
    """The project with the area of repair `n`; of one more if there are just `n`. A clone's source goes to where its
    first stroke began.
    """
    repairs = list(project.set(set_id).repairs)
    if n < len(repairs):
        repairs[n] = replace(repairs[n], area=area)
    else:
        to = first_point(area) if way in FROM_ELSEWHERE else None
        repairs.append(Repair(way, area, source, to, frame=frame))
    return _with(project, set_id, tuple(repairs))
