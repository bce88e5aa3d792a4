"""How large a set's picture is written."""

from __future__ import annotations

from windfell.output.page import PAGE_SIDE
from windfell.recipe.model import Kind, Project
from windfell.recipe.output import Format

INCH_MM, PRINT_DPI = 25.4, 300.0


def output_scale(project: Project, set_id: str, size: tuple[int, int]) -> float:
    """The scale at which the set is written, by the width, height, share or megapixels asked for."""
    frame_set = project.set(set_id)
    o = frame_set.output
    if o.width_px is not None:
        sphere = frame_set.kind is Kind.PANORAMA and frame_set.view.full_sphere
        return 1.0 if sphere else o.width_px / size[0]
    if o.height_px is not None:
        return o.height_px / size[1]
    if o.long_px is not None:
        return o.long_px / max(size)
    if o.print_mm is not None:
        return o.print_mm / INCH_MM * (o.dpi or PRINT_DPI) / size[0]
    if o.scale_pct is not None:
        return o.scale_pct / 100
    if o.megapixels is not None:
        return float((o.megapixels * 1e6 / (size[0] * size[1])) ** 0.5)
    if o.format is Format.HTML:
        return min(1.0, PAGE_SIDE / max(size))
    return 1.0
