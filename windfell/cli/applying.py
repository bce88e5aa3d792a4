"""`windfell apply`: a whole card, or a folder that is being filled, made by a recipe."""

from __future__ import annotations

import os
import sys
import time
from argparse import Namespace
from pathlib import Path

from windfell.cli.writing import write_report
from windfell.engine.applying import Made, made_card
from windfell.engine.core import Engine
from windfell.engine.places import make_folder
from windfell.engine.watching import Watched
from windfell.errors import BadRequest, CannotJoin
from windfell.frames.listing import pictures_in
from windfell.job import Job
from windfell.output.card_page import card_page
from windfell.recipe.manners import read_recipe
from windfell.recipe.written import written_whole

PAGE = "report.html"


def run_apply(options: Namespace, job: Job) -> None:
    """Make every set of the files given; tell each as it is written; a page of all at the end."""
    recipe = read_recipe(Path(options.recipe))
    folder = Path(options.out)
    if options.watch and not (len(options.frames) == 1 and os.path.isdir(options.frames[0])):
        raise BadRequest("--watch needs one folder to look at.")
    paths: list[str] = []
    for given in options.frames:
        paths += pictures_in(given) if os.path.isdir(given) else [os.path.abspath(given)]
    if not paths and not options.watch:
        raise BadRequest("There are no pictures there.")
    make_folder(folder)
    engine, begun = Engine.by_settings(), time.monotonic()
    rows: list[Made] = []

    def make(files: list[str]) -> None:
        rows.extend(made_card(engine, recipe, files, folder, job, _told))
        _write_page(folder, recipe.name, rows, time.monotonic() - begun)

    if options.watch:
        watched = Watched(options.frames[0], options.settle)
        for files in watched.sets(job, options.until):
            make(files)
    else:
        make(paths)
    if options.report:
        write_report(Path(options.report), {"kind": "card", "recipe": recipe.name, "sets": [_words(r) for r in rows]})
    if rows and not any(r.path for r in rows):
        raise CannotJoin(f"No set could be made; {folder / PAGE} says why.")


def _told(made: Made) -> None:
    if made.path is not None:
        print(made.path, flush=True)
    else:
        print(f"windfell: {made.name} could not be made: {made.problem}", file=sys.stderr, flush=True)


def _write_page(folder: Path, name: str, rows: list[Made], seconds: float) -> None:
    with written_whole(folder / PAGE, flush=False) as temporary:
        temporary.write_text(card_page(name, rows, seconds), encoding="utf-8")


def _words(r: Made) -> dict:
    return {"name": r.name, "kind": r.kind, "frames": r.frames, "file": None if r.path is None else str(r.path),
            "width": r.width, "height": r.height, "seconds": round(r.seconds, 3), "problem": r.problem or None,
            "left_out": [{"file": n, "reason": w} for n, w in r.left_out]}
