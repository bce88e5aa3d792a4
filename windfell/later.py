"""Modules that are loaded when they are first used: a program that starts need not wait for what it may not need."""

from __future__ import annotations

import importlib
from typing import Any


class Later:
    """Stands for a module; any name of it that is asked for loads it. Safe between threads."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, name: str) -> Any:
        return getattr(importlib.import_module(self._name), name)
