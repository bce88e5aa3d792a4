"""Sets whose frames are sets: what is inside, and one rule for all of it."""

from __future__ import annotations

from dataclasses import replace

from windfell.recipe.combining import Display, Rule
from windfell.recipe.edits import Edit
from windfell.recipe.model import FrameSet, Kind, Project, nested_in


def as_tree(project: Project) -> list[tuple[FrameSet, int]]:
    """All sets, each that is a frame of others, or lies behind one, below the first of these, with its depth."""
    out: list[tuple[FrameSet, int]] = []
    seen: set[str] = set()

    def walk(one: FrameSet, depth: int) -> None:
        if one.id in seen:
            return
        seen.add(one.id)
        out.append((one, depth))
        for inner_id in one.inner:
            walk(project.set(inner_id), depth + 1)

    for one in outermost(project):
        walk(one, 0)
    return out


def outermost(project: Project) -> list[FrameSet]:
    """The sets that are no frame of another and lie behind none."""
    inner = {i for made_of in project.made_of_sets.values() for i in made_of}
    return [s for s in project.sets if s.id not in inner]


def inner_stacks(project: Project, set_id: str) -> list[FrameSet]:
    """The stacks inside a set, at any depth."""
    inside = nested_in(project, set_id)
    return [s for s in project.sets if s.id in inside and s.kind is Kind.STACK]


def inner_rule(project: Project, set_id: str) -> Rule | None:
    """The rule that all stacks inside share; None where they differ or there are none."""
    rules = {s.combining.rule for s in inner_stacks(project, set_id)}
    return rules.pop() if len(rules) == 1 else None


def set_inner_rule(project: Project, set_id: str, rule: Rule) -> Edit:
    """One rule for all stacks inside a set."""
    changed = project
    for one in inner_stacks(project, set_id):
        # light beyond white goes on into the set around it
        combining = replace(one.combining, rule=rule, display=Display.NONE)
        changed = changed.with_set(replace(one, combining=combining))
    return Edit(f"combine all stacks in {project.set(set_id).name} by {rule}", changed)
