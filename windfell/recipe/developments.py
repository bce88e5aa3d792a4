"""Developments in files of their own."""

from __future__ import annotations

import json
from pathlib import Path

from windfell.errors import BadRequest, border
from windfell.recipe.model import Development
from windfell.recipe.words import from_words


def read_development(path: Path) -> Development:
    """The development in a JSON file. Raises BadRequest in words."""
    with border(path, "it holds no development", BadRequest):
        return from_words(Development, json.loads(Path(path).read_text(encoding="utf-8")), "development")
