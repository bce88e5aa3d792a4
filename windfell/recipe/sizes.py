"""Sizes of a file's picture in words: 50%, 4000x, x3000, 24MP, 2400 long, 60cm; and its ratio: 16:9, A4."""

from __future__ import annotations

import re
from pathlib import PurePath

from windfell.recipe.outline import Ratio
from windfell.recipe.output import Output

FORMS = (
    (r"(\d+(?:\.\d+)?) ?%", "scale_pct", float), (r"(\d+) ?x", "width_px", int), (r"x ?(\d+)", "height_px", int),
    (r"(\d+(?:\.\d+)?) ?mp", "megapixels", float), (r"(\d+) ?px", "width_px", int),
    (r"(\d+) ?(?:px )?long", "long_px", int), (r"(\d+(?:\.\d+)?) ?mm", "print_mm", float),
    (r"(\d+(?:\.\d+)?) ?cm", "print_mm", lambda v: 10 * float(v)),
    (r"(\d+(?:\.\d+)?) ?in", "print_mm", lambda v: 25.4 * float(v)),
    # a bare number: few are megapixels, many the width
    (r"(\d{1,2}(?:\.\d+)?|1\d\d(?:\.\d+)?)", "megapixels", float), (r"(\d+)", "width_px", int),
)
FIELDS = ("scale_pct", "width_px", "height_px", "megapixels", "long_px", "print_mm")


PAPERS = {"A4": Ratio(297.0, 210.0)}


def ratio_from_words(text: str) -> Ratio | None:
    """The ratio of width to height that words stand for: 16:9, 16x9, or a paper's name; None if they are none."""
    if text.strip().upper() in PAPERS:
        return PAPERS[text.strip().upper()]
    found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*[:x/]\s*(\d+(?:\.\d+)?)", text.strip())
    sides = [float(v) for v in found.groups()] if found else [0.0]
    limits = Ratio.__dataclass_fields__["width"].metadata
    return Ratio(*sides) if found and limits["low"] <= min(sides) and max(sides) <= limits["high"] else None


def size_from_words(text: str) -> dict[str, float | int | None] | None:
    """The output's fields of size that words stand for, all of them; None if they say nothing sensible."""
    for pattern, field, kind in FORMS:
        found = re.fullmatch(pattern, text.strip().lower())
        if found:
            value = kind(found.group(1))
            limits = Output.__dataclass_fields__[field].metadata
            if limits["low"] <= value <= limits["high"]:
                return {**dict.fromkeys(FIELDS), field: value}
    return None


def size_in_words(output: Output) -> str:
    """The size asked for, nothing for full size."""
    if output.width_px is not None:
        return f"{output.width_px}x"
    if output.height_px is not None:
        return f"x{output.height_px}"
    if output.long_px is not None:
        return f"{output.long_px} long"
    if output.print_mm is not None:
        return f"{output.print_mm:g}mm"
    if output.scale_pct is not None:
        return f"{output.scale_pct:g}%"
    return "" if output.megapixels is None else f"{output.megapixels:g}MP"


def output_in_words(output: Output) -> str:
    """Format, depth, colour and size of a file, in words."""
    depth = "float" if output.depth == 32 else f"{output.depth} bit"
    colour = PurePath(output.profile).stem if output.profile else str(output.space)
    return f"{str(output.format).upper()}, {depth}, {colour}, {size_in_words(output) or 'full size'}"
