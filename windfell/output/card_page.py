"""What came of a card, as one HTML page with small pictures and figures."""

from __future__ import annotations

import base64
import html
from collections.abc import Sequence
from pathlib import Path

from windfell.output.metadata import SOFTWARE

HEAD = """<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{title}</title>
<style>
body {{ margin: 2rem auto; max-width: 70rem; padding: 0 1rem; font: 16px/1.5 system-ui, sans-serif;
  background: #f2efe8; color: #26241f; }}
article {{ display: grid; grid-template-columns: minmax(10rem, 22rem) 1fr; gap: 1rem 1.5rem; padding: 1rem 0;
  border-top: 1px solid #c9c2b2; }}
img {{ max-width: 100%; height: auto; border-radius: 3px; }}
dl {{ display: grid; grid-template-columns: max-content 1fr; gap: 0 1rem; margin: 0; }}
dt {{ color: #6a6455; }} dd {{ margin: 0; font-variant-numeric: tabular-nums; }}
.wrong {{ color: #8c2f1b; }} h2 {{ margin: 0 0 .3rem; font-size: 1.15rem; }}
</style></head><body>
<h1>{title}</h1>
<p>{summary}</p>
"""


def card_page(title: str, rows: Sequence, seconds: float) -> str:
    """The page of `rows` (what `engine.applying.Made` holds)."""
    made = [r for r in rows if r.path is not None]
    summary = f"{len(made)} of {len(rows)} written in {seconds:.0f} s. {SOFTWARE}."
    parts = [HEAD.format(title=html.escape(title), summary=html.escape(summary))]
    for row in rows:
        parts.append(_article(row))
    return "".join([*parts, "</body></html>\n"])


def _article(row) -> str:
    picture = ""
    if row.small:
        data = base64.b64encode(row.small).decode()
        picture = f'<img alt="{html.escape(row.name)}" src="data:image/jpeg;base64,{data}">'
    facts = [("Kind", f"{row.kind}, {row.frames} frames" if row.frames else row.kind)]
    if row.path is not None:
        facts += [("File", Path(row.path).name), ("Size", f"{row.width} x {row.height} px"),
                  ("Made in", f"{row.seconds:.1f} s"), *row.figures]
    words = "".join(f"<dt>{html.escape(k)}</dt><dd>{html.escape(str(v))}</dd>" for k, v in facts)
    wrong = [row.problem] if row.problem else []
    wrong += [f"{name}: {why}" for name, why in row.left_out]
    lines = "".join(f'<p class="wrong">{html.escape(w)}</p>' for w in wrong)
    name = html.escape(row.name or "A file")
    return f"<article><div>{picture}</div><div><h2>{name}</h2><dl>{words}</dl>{lines}</div></article>\n"
