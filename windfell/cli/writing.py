"""What commands write: the file as its options say, and the report."""

from __future__ import annotations

import json
import os
from argparse import Namespace
from dataclasses import replace
from pathlib import Path
from typing import Any

from windfell.engine.output_pixels import chosen_profile
from windfell.errors import BadRequest
from windfell.output.writers import LAYERED, WRITERS, writer_for
from windfell.recipe.output import ColourSpace, Compression, Format, Intent, Output, Words
from windfell.recipe.written import written_whole


def new_output(options: Namespace) -> Output:
    """The file as the options say. Raises BadRequest for what does not go with its format."""
    found = format_of(options.out)
    depths = WRITERS[str(found)].depths
    wanted = None if options.depth is None else 32 if options.depth == "float" else int(options.depth)
    if wanted is not None and wanted not in depths:
        raise BadRequest(f"--depth {options.depth} does not go with {options.out}; {_depths_in_words(depths)}.")
    depth = wanted or (16 if 16 in depths and found is not Format.EXR else depths[0])
    return with_options(Output(found, depth, width_px=getattr(options, "width", None)), options)


def with_options(output: Output, options: Namespace) -> Output:
    """An output with whatever the options say of it."""
    told: dict[str, Any] = {}
    for name in ("quality", "dpi", "most_kb", "sharpen_pct"):
        if getattr(options, name, None) is not None:
            told[name] = getattr(options, name)
    for name in ("tiled", "progressive", "dither"):
        if getattr(options, name, False):
            told[name] = True
    if getattr(options, "compression", None):
        told["compression"] = Compression(options.compression)
    if getattr(options, "intent", None):
        told["intent"] = Intent(options.intent)
    told |= _coloured(getattr(options, "colour", None), output.format)
    if getattr(options, "layers", None) == "":
        if str(output.format) not in LAYERED:
            raise BadRequest(f"{options.out} cannot hold layers; use .ora, .tif or .exr, or --layers DIR.")
        told["layered"] = True
    return replace(output, **told, words=_words(options))


def _coloured(colour: str | None, form: Format) -> dict[str, Any]:
    """A space by its name, or a profile by its file."""
    if colour is None:
        return {}
    if colour in set(ColourSpace):
        if colour != ColourSpace.SRGB and form in (Format.JXL, Format.HTML):
            raise BadRequest(f"--colour {colour} does not go with {WRITERS[str(form)].title}; it is in sRGB alone.")
        return {"space": ColourSpace(colour), "profile": None}
    if not colour.lower().endswith((".icc", ".icm")):
        names = ", ".join(ColourSpace)
        raise BadRequest(f"--colour {colour} names no space; use {names}, or an ICC profile's file.")
    if form in (Format.JXL, Format.HTML, Format.EXR, Format.HDR, Format.DNG):
        raise BadRequest(f"--colour {colour} does not go with {WRITERS[str(form)].title}, which holds no profile.")
    path = os.path.abspath(colour)
    chosen_profile(path)
    return {"profile": path}


def _words(options: Namespace) -> Words:
    keywords = tuple(k.strip() for k in (getattr(options, "keywords", None) or "").split(",") if k.strip())
    return Words(getattr(options, "creator", None) or "", getattr(options, "rights", None) or "",
                 getattr(options, "title", None) or "", getattr(options, "caption", None) or "", keywords,
                 bool(getattr(options, "location", False)))


def layers_folder(options: Namespace) -> Path | None:
    """The folder that --layers names; a picture that stands there is the first frame, and layers go into the file."""
    wanted = getattr(options, "layers", None)
    if wanted and os.path.isfile(wanted) and hasattr(options, "frames"):
        options.frames.insert(0, wanted)
        options.layers = ""
    return Path(options.layers) if getattr(options, "layers", None) else None


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
