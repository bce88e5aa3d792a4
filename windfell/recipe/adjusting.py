"""Edits of a set's finish: adjustments added, changed, moved, copied to other sets."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace
from typing import Any

from windfell.recipe.areas import Area
from windfell.recipe.edits import Edit
from windfell.recipe.finishes import without_masks
from windfell.recipe.finishing import Adjustment, Finish, Values
from windfell.recipe.limits import limits_of
from windfell.recipe.model import Project


def _edit(project: Project, set_id: str, words: str, adjustments: Sequence[Adjustment], merge: str | None = None
          ) -> Edit:
    own = project.set(set_id)
    finish = replace(own.finish, adjustments=tuple(adjustments))
    return Edit(words, project.with_set(replace(own, finish=finish)), merge)


def add(project: Project, set_id: str, values: Values, name: str, area: Area | None = None) -> Edit:
    """An adjustment after all others."""
    return _edit(project, set_id, f"add {name.lower()}", (*project.set(set_id).finish.adjustments, Adjustment(
        values, name, area=area)))


def add_copies(project: Project, set_ids: Collection[str], adjustment: Adjustment) -> Edit:
    """A copy of an adjustment after all others of each of these sets; without an area whose masks belong to its own
    picture.
    """
    area = adjustment.area
    copy = replace(adjustment, area=None if area is not None and area.masks else area)
    for one in set_ids:
        own = project.set(one)
        finish = replace(own.finish, adjustments=(*own.finish.adjustments, copy))
        project = project.with_set(replace(own, finish=finish))
    many = f" to {len(set_ids)} sets" if len(set_ids) > 1 else ""
    return Edit(f"copy {(adjustment.name or 'adjustment').lower()}{many}", project)


def change(project: Project, set_id: str, n: int, field: str, value: Any) -> Edit:
    """A value of an adjustment's kind; numbers are held within their limits."""
    found = project.set(set_id).finish.adjustments[n]
    limits = limits_of(type(found.values), field)
    if "low" in limits and value is not None:
        value = min(max(value, limits["low"]), limits["high"])
    changed = replace(found, values=replace(found.values, **{field: value}))
    words = field.rpartition("_")[0].replace("_", " ") or field
    return _with(project, set_id, n, changed, f"{found.name or 'adjustment'}: {words}", f"adjust {n} {field}")


def change_band(project: Project, set_id: str, n: int, field: str, band: int, value: float) -> Edit:
    """One band's value of an adjustment that has eight."""
    found = project.set(set_id).finish.adjustments[n]
    limits = limits_of(type(found.values), field)
    eight = list(getattr(found.values, field))
    eight[band] = min(max(value, limits["each_low"]), limits["each_high"])
    changed = replace(found, values=replace(found.values, **{field: tuple(eight)}))
    return _with(project, set_id, n, changed, f"{found.name or 'adjustment'}: a band", f"adjust {n} {field} {band}")


def use_values(project: Project, set_id: str, n: int, values: Values, words: str) -> Edit:
    found = project.set(set_id).finish.adjustments[n]
    return _with(project, set_id, n, replace(found, values=values), words)


def set_part(project: Project, set_id: str, n: int, words: str, merge: str | None = None, **parts: Any) -> Edit:
    """What goes with an adjustment: `on`, `strength_pct`, `name`, `area`."""
    found = project.set(set_id).finish.adjustments[n]
    return _with(project, set_id, n, replace(found, **parts), words, merge)


def _with(project: Project, set_id: str, n: int, changed: Adjustment, words: str, merge: str | None = None) -> Edit:
    some = list(project.set(set_id).finish.adjustments)
    some[n] = changed
    return _edit(project, set_id, words, some, merge)


def with_area(project: Project, set_id: str, n: int, area: Area | None) -> Project:
    """The project whose adjustment holds in an area."""
    return set_part(project, set_id, n, "area", area=area).project


def remove(project: Project, set_id: str, n: int) -> Edit:
    some = list(project.set(set_id).finish.adjustments)
    gone = some.pop(n)
    return _edit(project, set_id, f"remove {(gone.name or 'adjustment').lower()}", some)


def duplicate(project: Project, set_id: str, n: int) -> Edit:
    some = list(project.set(set_id).finish.adjustments)
    some.insert(n + 1, replace(some[n], name=f"{some[n].name} again"))
    return _edit(project, set_id, f"duplicate {some[n].name.lower()}", some)


def move(project: Project, set_id: str, old: int, new: int) -> Edit:
    """An adjustment to another place in the order."""
    some = list(project.set(set_id).finish.adjustments)
    some.insert(new, some.pop(old))
    return _edit(project, set_id, f"move {(some[new].name or 'adjustment').lower()}", some)


def set_all(project: Project, set_id: str, on: bool) -> Edit:
    """The whole list on or off."""
    own = project.set(set_id)
    words = "the finish on" if on else "the finish off"
    return Edit(words, project.with_set(replace(own, finish=replace(own.finish, on=on))))


def use_finish(project: Project, set_ids: Collection[str], finish: Finish, words: str) -> Edit:
    """A finish for sets, in the place of theirs; areas that hold masks stay behind, they belong to one picture."""
    for set_id in set_ids:
        project = project.with_set(replace(project.set(set_id), finish=without_masks(finish)))
    return Edit(words, project)
