"""Recipes as plain JSON values and back, strictly checked, unknown fields kept."""

from __future__ import annotations

import dataclasses
import json
import math
import types
import typing
from enum import StrEnum
from functools import lru_cache
from typing import Any

from windfell.recipe import areas, finishing, sources

# classes of which one stands where the hint names them all, and their word for it
KINDS = {sources.Source: sources.SOURCE_WORDS, areas.Part: areas.PART_WORDS,
         finishing.Values: finishing.VALUE_WORDS}
WORD_OF = {cls: word for words in KINDS.values() for word, cls in words.items()}


class WrongWord(ValueError):
    """A value in a project file does not follow the schema; says where."""


def to_words(value: Any) -> Any:
    """JSON values of a recipe part. Fields this version did not know come out as they came in."""
    if isinstance(value, StrEnum):
        return str(value)
    if isinstance(value, tuple):
        return [to_words(v) for v in value]
    if not dataclasses.is_dataclass(value):
        return value
    words: dict[str, Any] = {}
    if type(value) in WORD_OF:
        words["kind"] = WORD_OF[type(value)]
    for field in dataclasses.fields(value):
        if field.name != "unknown":
            words[field.name] = to_words(getattr(value, field.name))
    words.update({name: json.loads(text) for name, text in value.unknown})
    return words


def from_words(cls: type, words: Any, where: str = "project") -> Any:
    """The recipe part of class `cls` that JSON values describe.

    Raises WrongWord with the place of the first value of a wrong kind or out of limits.
    """
    if not isinstance(words, dict):
        raise WrongWord(f"{where} must be an object")
    hints = _hints(cls)
    known = {f.name: f for f in dataclasses.fields(cls) if f.name != "unknown"}
    values = {}
    for name, field in known.items():
        if name in words:
            values[name] = _value(hints[name], words[name], f"{where}.{name}")
            _check_limits(field, values[name], f"{where}.{name}")
        elif field.default is dataclasses.MISSING:
            raise WrongWord(f"{where}.{name} is missing")
    extra = {k: v for k, v in words.items() if k not in known}
    if cls in WORD_OF:
        extra.pop("kind", None)
    unknown = tuple(sorted((k, json.dumps(v, sort_keys=True)) for k, v in extra.items()))
    return cls(**values, unknown=unknown)


@lru_cache(maxsize=64)
def _hints(cls: type) -> dict[str, Any]:
    return typing.get_type_hints(cls)


def _value(hint: Any, word: Any, where: str) -> Any:
    origin = typing.get_origin(hint)
    if hint in KINDS:
        return _one_of(KINDS[hint], word, where)
    if origin is types.UnionType:
        return _optional(hint, word, where)
    if origin is tuple:
        if not isinstance(word, list):
            raise WrongWord(f"{where} must be a list")
        item, *rest = typing.get_args(hint)
        if rest and rest[0] is not Ellipsis and len(word) != 1 + len(rest):
            raise WrongWord(f"{where} must hold {1 + len(rest)} values, not {len(word)}")
        return tuple(_value(item, w, f"{where}[{n}]") for n, w in enumerate(word))
    if dataclasses.is_dataclass(hint):
        return from_words(hint, word, where)
    return _plain(hint, word, where)


def _optional(hint: Any, word: Any, where: str) -> Any:
    if word is None:
        return None
    inner = next(a for a in typing.get_args(hint) if a is not type(None))
    return _value(inner, word, where)


def _one_of(kinds: dict[str, type], word: Any, where: str) -> Any:
    kind = word.get("kind") if isinstance(word, dict) else None
    if kind not in kinds:
        raise WrongWord(f"{where}.kind must be one of {', '.join(kinds)}")
    return from_words(kinds[kind], word, where)


def _plain(hint: Any, word: Any, where: str) -> Any:
    if isinstance(hint, type) and issubclass(hint, StrEnum):
        if word not in [str(m) for m in hint]:
            raise WrongWord(f"{where} must be one of {', '.join(hint)}, not {word!r}")
        return hint(word)
    if hint is float and isinstance(word, int) and not isinstance(word, bool):
        return float(word)
    if not isinstance(word, hint) or (hint is int and isinstance(word, bool)):
        raise WrongWord(f"{where} must be of kind {hint.__name__}, not {word!r}")
    if hint is float and not math.isfinite(word):
        raise WrongWord(f"{where} must be a finite number")
    return word


def _check_limits(field: dataclasses.Field, value: Any, where: str) -> None:
    if "each_low" in field.metadata:
        for n, one in enumerate(value):
            _within(field.metadata["each_low"], field.metadata["each_high"], one, f"{where}[{n}]")
    if value is not None and "low" in field.metadata:
        _within(field.metadata["low"], field.metadata["high"], value, where)


def _within(low: float, high: float, value: float, where: str) -> None:
    if not low <= value <= high:
        raise WrongWord(f"{where} must lie between {low:g} and {high:g}, not {value:g}")
