"""Recipe files: what was decided for one set, without its geometry, to be done to other sets the same way."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from pathlib import Path

from windfell.errors import BadRequest, border
from windfell.recipe.combining import Combining
from windfell.recipe.finishes import without_masks
from windfell.recipe.finishing import Finish
from windfell.recipe.limits import Unknown
from windfell.recipe.model import (
    Align,
    Development,
    FrameSet,
    Joining,
    Kind,
    LensCorrection,
    Project,
    View,
    nested_in,
)
from windfell.recipe.outline import Outline
from windfell.recipe.output import Output
from windfell.recipe.words import from_words, to_words
from windfell.recipe.written import written_whole


@dataclass(frozen=True)
class Manner:
    """How a set of one kind is made: everything but what belongs to its own frames and places. `align` None: as the
    set's own movement asks for.
    """

    development: Development = Development()
    lens: LensCorrection = LensCorrection()
    align: Align | None = None
    joining: Joining = Joining()
    view: View = View()
    outline: Outline = Outline()
    combining: Combining = Combining()
    finish: Finish = Finish()
    output: Output = Output()
    unknown: Unknown = ()


@dataclass(frozen=True)
class Recipe:
    """What to do to panoramas, to stacks, and to the stacks that a panorama is made of; None: nothing is said."""

    name: str
    panorama: Manner | None = None
    stack: Manner | None = None
    inner: Manner | None = None
    unknown: Unknown = ()


def manner_of(own: FrameSet) -> Manner:
    """What was decided for a set and could be done to any other of its kind."""
    first = own.used[0] if own.used else None
    c = own.combining
    return Manner(
        first.development if first else Development(), first.lens if first else LensCorrection(),
        own.registration.align if own.kind is Kind.STACK else None,
        replace(own.joining, fine=(), given=(), bent=(), seam_blends=()),
        # where a panorama looks is found anew
        replace(own.view, yaw_deg=0.0, pitch_deg=0.0, roll_deg=0.0),
        replace(own.outline, crop=None, stiff=(), net=(), lines=()),
        replace(c, base=None, region=None, layers=(), darks=c.darks, flats=c.flats),
        without_masks(own.finish), own.output)


def recipe_of(project: Project, set_id: str, name: str) -> Recipe:
    """The recipe that makes other sets as this one is made."""
    own = project.set(set_id)
    if own.kind is Kind.STACK:
        return Recipe(name, stack=manner_of(own))
    inner = [project.set(i) for i in sorted(nested_in(project, set_id))]
    stack = next((s for s in inner if s.kind is Kind.STACK), None)
    return Recipe(name, panorama=manner_of(own), inner=None if stack is None else manner_of(stack))


def with_manner(own: FrameSet, manner: Manner) -> FrameSet:
    """The set made in a manner; its geometry, its choice of frames and darks and flats of its own stay."""
    frames = tuple(replace(f, development=manner.development, lens=manner.lens) for f in own.frames)
    registration = own.registration
    if manner.align is Align.STARS and own.kind is Kind.STACK:
        registration = replace(registration, align=Align.STARS)
    combining, c = manner.combining, own.combining
    if c.darks or c.flats:
        combining = replace(combining, darks=c.darks, flats=c.flats)
    return replace(
        own, frames=frames, registration=registration, joining=manner.joining, view=manner.view,
        outline=manner.outline, combining=combining, finish=manner.finish, output=manner.output)


def applied(project: Project, set_id: str, recipe: Recipe) -> Project:
    """The project whose set is made by the recipe of its kind, and the stacks it is made of by theirs; as it is where
    the recipe says nothing of its kind.
    """
    own = project.set(set_id)
    manner = recipe.panorama if own.kind is Kind.PANORAMA else recipe.stack
    if manner is not None:
        project = project.with_set(with_manner(own, manner))
    if recipe.inner is not None:
        for inner in sorted(nested_in(project, set_id)):
            one = project.set(inner)
            if one.kind is Kind.STACK:
                made = with_manner(one, recipe.inner)
                project = project.with_set(replace(made, output=one.output))
    return project


def read_recipe(path: Path) -> Recipe:
    """The recipe in a JSON file. Raises BadRequest in words."""
    with border(path, "it holds no recipe", BadRequest):
        return from_words(Recipe, json.loads(Path(path).read_text(encoding="utf-8")), "recipe")


def write_recipe(path: Path, recipe: Recipe) -> None:
    """Raises OutputFailed."""
    with written_whole(Path(path)) as temporary:
        temporary.write_text(json.dumps(to_words(recipe), indent=1) + "\n", encoding="utf-8")
