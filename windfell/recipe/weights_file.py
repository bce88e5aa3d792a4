"""How much each frame counts, read from a file: numbers in the frames' order, or a file and a number on each line."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from pathlib import Path

from windfell.errors import BadRequest, border

MOST = 1000.0


def read_weights(path: Path, files: Sequence[str]) -> list[float]:
    """One weight for each frame; 1 for those that a list of files does not name.

    JSON (a list, or an object of files, or either as "weights"), or lines of text. Raises BadRequest for what is not.
    """
    with border(path, "it holds no weights", BadRequest):
        text = path.read_text(encoding="utf-8")
        if text.lstrip()[:1] in ("[", "{"):
            found = json.loads(text)
            if isinstance(found, dict) and "weights" in found:
                found = found["weights"]
        else:
            rows = [line.replace(";", ",").split(",") for line in text.splitlines() if line.strip()]
            if all(len(r) == 1 for r in rows):
                found = [float(v) for r in rows for v in r[0].split()]
            else:
                found = {r[0].strip(): float(r[1]) for r in rows if len(r) > 1 and _is_number(r[1])}
        if isinstance(found, dict):
            names = {os.path.basename(f): n for n, f in enumerate(files)}
            weights = [1.0] * len(files)
            for name, weight in found.items():
                if os.path.basename(name) not in names:
                    raise BadRequest(f"{path}: {name} is none of the frames.")
                weights[names[os.path.basename(name)]] = float(weight)
        else:
            weights = [float(v) for v in found]
    if len(weights) != len(files):
        raise BadRequest(f"{path} has {len(weights)} weights for {len(files)} frames; give one for each.")
    if not all(0 <= w <= MOST for w in weights) or not any(weights):
        raise BadRequest(f"{path}: weights lie between 0 and {MOST:g}, and not all are 0.")
    return weights


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True
