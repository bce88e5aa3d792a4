"""Control points as a file of their own: JSON or CSV, by the frames' file names."""

from __future__ import annotations

import csv
import io
import json
import math
import os
from collections.abc import Sequence
from pathlib import Path

from windfell.errors import BadRequest, border
from windfell.recipe.model import ControlPoint, Frame

COLUMNS = ("a", "b", "ax", "ay", "bx", "by", "weight")


def frame_names(frames: Sequence[Frame]) -> dict[str, str]:
    """Each frame's id by its file's name; of a nested set or an instant, by its number from 1."""
    return {
        os.path.basename(getattr(f.source, "path", "")) if hasattr(f.source, "path") and not hasattr(
            f.source, "time_s") else str(n + 1): f.id
        for n, f in enumerate(frames)}


def read_points(path: Path, frames: Sequence[Frame]) -> tuple[ControlPoint, ...]:
    """The points of a file. Raises BadRequest with the first thing that is wrong, and where."""
    with border(path, "it is no file of control points", BadRequest):
        text = path.read_text(encoding="utf-8")
        if path.suffix.lower() == ".csv":
            rows = list(csv.DictReader(io.StringIO(text)))
        else:
            words = json.loads(text)
            rows = words["points"] if isinstance(words, dict) else words
        if not isinstance(rows, list):
            raise BadRequest(f"{path}: it holds no list of points.")
        names = frame_names(frames)
        return tuple(_point(row, names, n + 1, path) for n, row in enumerate(rows))


def _point(row: object, names: dict[str, str], number: int, path: Path) -> ControlPoint:
    if not isinstance(row, dict) or any(row.get(c) in (None, "") for c in COLUMNS[:-1]):
        raise BadRequest(f"{path}: point {number} needs {', '.join(COLUMNS[:-1])}.")
    for c in ("a", "b"):
        if str(row[c]) not in names:
            raise BadRequest(f"{path}: point {number} names {row[c]}, which is none of the frames.")
    if row["a"] == row["b"]:
        raise BadRequest(f"{path}: point {number} names the same frame twice.")
    try:
        values = [float(row[c]) for c in COLUMNS[2:-1]] + [float(row.get("weight") or 1.0)]
    except (TypeError, ValueError) as error:
        raise BadRequest(f"{path}: point {number} has a value that is no number.") from error
    if not all(math.isfinite(v) for v in values) or not 0.01 <= values[-1] <= 100:
        raise BadRequest(f"{path}: point {number} has a value out of its limits (weight 0.01 to 100).")
    return ControlPoint(names[str(row["a"])], names[str(row["b"])], *values)


def points_words(rows: Sequence[dict], path: Path) -> str:
    """The text of a points file, in the format its ending names."""
    if path.suffix.lower() == ".csv":
        out = io.StringIO()
        writer = csv.DictWriter(out, [*COLUMNS, "error_px", "by_hand"])
        writer.writeheader()
        writer.writerows(rows)
        return out.getvalue()
    return json.dumps({"points": list(rows)}, indent=1) + "\n"
