"""Darks and flats of a card: told from the other files, and given to the stacks that they calibrate."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from itertools import groupby

from windfell.frames.shots import Shot, natural
from windfell.pixels.fields import Field, FieldLook, was_covered
from windfell.recipe.model import FrameSet, Kind, Project
from windfell.recipe.nesting import outermost
from windfell.recipe.sources import FileSource

LEAST_FLATS = 3


def fields_among(shots: Sequence[Shot], look: Callable[[Shot], FieldLook | None]) -> dict[str, Field]:
    """The darks and flats among shots, by path; only those of which it is sure. An even field alone may be a plain
    sky: flats are several in a row, on a card that has darks too.
    """
    stills = sorted((s for s in shots if not s.video), key=natural)
    looks = {s.path: found for s in stills if (found := look(s)) is not None}
    lights = {s.path for s in stills if s.path in looks and looks[s.path].field is None}
    darks = {s.path: Field.DARK for s in stills if s.path in looks and was_covered(
        looks[s.path], [looks[x.path] for x in stills if x.path in lights and x.size == s.size])}
    flats: dict[str, Field] = {}
    for is_flat, run in groupby(stills, key=lambda s: s.path in looks and looks[s.path].field is Field.FLAT):
        some = list(run)
        if is_flat and darks and len(some) >= LEAST_FLATS:
            flats |= {s.path: Field.FLAT for s in some}
    return {**darks, **flats}


def calibrated_by(sets: Sequence[FrameSet], shots: Sequence[Shot], fields: Mapping[str, Field]
                  ) -> list[FrameSet] | None:
    """The sets with darks and flats for those stacks that lie nearest to them and are of their size; None if one fits
    nowhere.
    """
    by_path, order = {s.path: s for s in shots}, [s.path for s in sorted(shots, key=natural)]
    outer = {s.id for s in outermost(Project(tuple(sets)))}
    stacks = [n for n, s in enumerate(sets) if s.kind is Kind.STACK and s.id in outer]
    out = list(sets)
    for path, field in fields.items():
        fair = [n for n in stacks if _sizes(sets[n], by_path) == {by_path[path].size}]
        if not fair:
            return None
        at = min(fair, key=lambda n, p=path: _away(p, sets[n], by_path, order))
        c, name = out[at].combining, f"{field}s"
        out[at] = replace(out[at], combining=replace(c, **{name: (*getattr(c, name), FileSource(path))}))
    return out


def _paths(own: FrameSet) -> list[str]:
    return [f.source.path for f in own.used if isinstance(f.source, FileSource)]


def _sizes(own: FrameSet, by_path: Mapping[str, Shot]) -> set[tuple[int, int]]:
    return {by_path[p].size for p in _paths(own)}


def _away(path: str, own: FrameSet, by_path: Mapping[str, Shot], order: Sequence[str]) -> tuple[float, int]:
    """How far a file lies from a set's: in time, or else in the order of names."""
    there, taken = _paths(own), by_path[path].taken
    times = [by_path[p].taken for p in there]
    steps = min(abs(order.index(p) - order.index(path)) for p in there)
    if taken is None or None in times:
        return 0.0, steps
    return min(abs((t - taken).total_seconds()) for t in times), steps
