"""Parts of recipes kept under names in one JSON file: {name: part}."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Generic, TypeVar

from windfell.recipe.words import WrongWord, from_words, to_words
from windfell.recipe.written import written_whole

T = TypeVar("T")


class Kept(Generic[T]):
    """Named parts of one class."""

    def __init__(self, path: Path, cls: type[T]) -> None:
        self._path, self._cls = Path(path), cls

    def all(self) -> dict[str, T]:
        """What is kept, by name; what cannot be read is left out."""
        try:
            words = json.loads(self._path.read_text(encoding="utf-8"))
        except (OSError, ValueError, RecursionError):
            return {}
        found = {}
        for name, value in (words.items() if isinstance(words, dict) else ()):
            try:
                found[name] = from_words(self._cls, value, name)
            except WrongWord:
                continue
        return found

    def keep(self, name: str, part: T) -> None:
        """Raises OutputFailed if it cannot be written."""
        self._write({**self.all(), name: replace(part, unknown=())})

    def drop(self, name: str) -> None:
        self._write({k: v for k, v in self.all().items() if k != name})

    def _write(self, kept: dict[str, T]) -> None:
        self._path.parent.mkdir(parents=True, exist_ok=True)
        words = {name: to_words(part) for name, part in sorted(kept.items())}
        with written_whole(self._path) as temporary:
            temporary.write_text(json.dumps(words, indent=1), encoding="utf-8")
