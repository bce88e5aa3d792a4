"""A finish in a file of its own, taken to other sets."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

from windfell.errors import BadRequest, border
from windfell.recipe.finishing import Finish
from windfell.recipe.words import WrongWord, from_words, to_words
from windfell.recipe.written import written_whole


def read_finish(path: Path) -> Finish:
    """The finish in a JSON file. Raises BadRequest in words."""
    with border(path, "it holds no finish", BadRequest):
        found = from_words(Finish, json.loads(Path(path).read_text(encoding="utf-8")), "finish")
        if any(a.area is not None and a.area.masks for a in found.adjustments):
            raise WrongWord("an area in it names a mask, which only a project holds")
    return found


def without_masks(finish: Finish) -> Finish:
    """The finish without adjustments whose areas hold masks: these belong to one picture."""
    return replace(finish, adjustments=tuple(a for a in finish.adjustments if a.area is None or not a.area.masks))


def write_finish(path: Path, finish: Finish) -> None:
    """Write a finish that other sets may use: without areas that hold masks, which belong to their picture. Raises
    OutputFailed.
    """
    words = to_words(without_masks(finish))
    with written_whole(Path(path)) as temporary:
        temporary.write_text(json.dumps(words, indent=1), encoding="utf-8")
