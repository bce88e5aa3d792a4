"""The options of `windfell apply`."""

from __future__ import annotations

from argparse import ArgumentParser


def add_apply(p: ArgumentParser) -> None:
    p.add_argument("recipe", metavar="RECIPE", help="a recipe's file, kept from a set in the window")
    p.add_argument("frames", nargs="+", metavar="CARD_OR_FRAMES", help="a folder, or pictures")
    p.add_argument("--out", required=True, metavar="DIR", help="where the pictures and report.html go")
    p.add_argument("--watch", action="store_true",
                   help="wait for new frames in the folder and make each set when nothing more comes")
    p.add_argument("--settle", type=float, default=20.0, metavar="S",
                   help="with --watch: a set is whole when nothing came for so long")
    p.add_argument("--until", type=float, default=None, metavar="S",
                   help="with --watch: end when nothing came for so long")
    p.add_argument("--report", metavar="FILE.json", help="what was made, as JSON")
