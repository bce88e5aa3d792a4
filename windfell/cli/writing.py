"""What commands write: the file's format and depth, and the report."""

from __future__ import annotations

import json
from argparse import Namespace
from pathlib import Path
from typing import Any

from windfell.errors import BadRequest
from windfell.output.writers import WRITERS, writer_for
from windfell.recipe.model import Format, Output
from windfell.recipe.project_file import written_whole


def new_output(options: Namespace) -> Output:
    """The file's format and depth. Raises BadRequest for a depth that the format does not have."""
    found = format_of(options.out)
    depths = WRITERS[str(found)].depths
    wanted = None if options.depth is None else 32 if options.depth == "float" else int(options.depth)
    if wanted is not None and wanted not in depths:
        raise BadRequest(f"--depth {options.depth} does not go with {options.out}; {_depths_in_words(depths)}.")
    depth = wanted or (16 if 16 in depths else depths[0])
    return Output(found, depth, width_px=getattr(options, "width", None))


def _depths_in_words(depths: tuple[int, ...]) -> str:
    words = ["float" if d == 32 else f"{d} bit" for d in depths]
    return f"its values are {' or '.join(words)}"


def format_of(out: str) -> Format:
    found = writer_for(Path(out))
    if found is None:
        raise BadRequest(f"{out}: its ending names no format; use .tif, .png or .jpg.")
    return Format(found)


def write_report(path: Path, words: dict[str, Any]) -> None:
    with written_whole(path) as temporary:
        temporary.write_text(json.dumps(words, indent=1) + "\n", encoding="utf-8")
