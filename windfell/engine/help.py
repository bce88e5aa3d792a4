"""The help a recipe holds for its registration, by frame number."""

from __future__ import annotations

from collections.abc import Sequence

from windfell.align import help as align
from windfell.errors import BadRequest
from windfell.recipe.model import FrameSet


def help_of(frame_set: FrameSet) -> align.Help:
    """What concerns the frames in use; the rest waits until its frames are taken back."""
    at = {f.id: n for n, f in enumerate(frame_set.used)}
    r = frame_set.registration
    return align.Help(
        tuple(align.HandPoint(at[p.a], at[p.b], (p.ax, p.ay), (p.bx, p.by), p.weight)
              for p in r.points if p.a in at and p.b in at),
        tuple(align.PlumbLine(at[x.frame], x.points, str(x.kind)) for x in r.lines if x.frame in at),
        tuple(align.HandPose(at[f.id], f.pose.yaw_deg, f.pose.pitch_deg, f.pose.roll_deg)
              for f in frame_set.used if f.pose is not None),
        frozenset((at[d.a], at[d.b], d.x, d.y) for d in r.dropped if d.a in at and d.b in at),
        r.worst_px,
        (r.rows, r.columns) if r.rows and r.columns else None,
    )


def neighbours(rows: int, columns: int, count: int) -> Sequence[tuple[int, int]] | None:
    """Pairs of frames next to each other, diagonally too, in a layout taken row by row; None without one.

    Raises BadRequest if the layout does not hold just so many frames.
    """
    if not rows and not columns:
        return None
    if rows * columns != count:
        raise BadRequest(f"A layout of {rows} rows of {columns} holds {rows * columns} frames, not {count}.")
    found = []
    for n in range(count):
        y, x = divmod(n, columns)
        for dy, dx in ((0, 1), (1, -1), (1, 0), (1, 1)):
            if 0 <= x + dx < columns and y + dy < rows:
                found.append((n, n + dy * columns + dx))
    return found
