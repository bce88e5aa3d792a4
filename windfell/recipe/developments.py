"""Developments kept under names, and in files of their own."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

from windfell.errors import BadRequest, border
from windfell.recipe.model import Development
from windfell.recipe.project_file import written_whole
from windfell.recipe.words import WrongWord, from_words, to_words


def read_development(path: Path) -> Development:
    """The development in a JSON file. Raises BadRequest in words."""
    with border(path, "it holds no development", BadRequest):
        return from_words(Development, json.loads(Path(path).read_text(encoding="utf-8")), "development")


class Shelf:
    """Named developments in one JSON file: {name: development}."""

    def __init__(self, path: Path) -> None:
        self._path = Path(path)

    def all(self) -> dict[str, Development]:
        """What is kept, by name; what cannot be read is left out."""
        try:
            words = json.loads(self._path.read_text(encoding="utf-8"))
        except (OSError, ValueError, RecursionError):
            return {}
        found = {}
        for name, value in (words.items() if isinstance(words, dict) else ()):
            try:
                found[name] = from_words(Development, value, name)
            except WrongWord:
                continue
        return found

    def keep(self, name: str, development: Development) -> None:
        """Raises OutputFailed if it cannot be written."""
        self._write({**self.all(), name: replace(development, unknown=())})

    def drop(self, name: str) -> None:
        self._write({k: v for k, v in self.all().items() if k != name})

    def _write(self, kept: dict[str, Development]) -> None:
        self._path.parent.mkdir(parents=True, exist_ok=True)
        words = {name: to_words(d) for name, d in sorted(kept.items())}
        with written_whole(self._path) as temporary:
            temporary.write_text(json.dumps(words, indent=1), encoding="utf-8")
