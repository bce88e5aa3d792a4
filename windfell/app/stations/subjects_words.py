"""What moves, said: all that was found in a sentence or two, and the piece in hand."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from windfell.engine.following import Followed
from windfell.engine.stack_subjects import Mover, Subjects

MOST_NAMES, MOST_DROPPED = 3, 2
LEAST_DRIFT_EV = 0.02


def names_of(movers: Sequence[Mover], some: Sequence[int], numbers: Sequence[int]) -> str:
    """Some of the movers by track and frame, the first few; `numbers`: what a person calls the frames in use."""
    more = len(some) - MOST_NAMES
    names = (f"track {movers[j].track + 1} of frame {numbers[movers[j].frame]}" for j in some[:MOST_NAMES])
    return ", ".join(names) + (f" and {more} more" if more > 0 else "")


def all_of_it(found: Subjects, taken: int, clashes: int, boxed: Followed | None, numbers: Sequence[int]) -> str:
    """How many pieces there are and are taken, what is wrong with them, and what was left out."""
    if not found.movers:
        said = "Nothing that moves was found."
    else:
        tracks = len({m.track for m in found.movers})
        words = "track" if tracks == 1 else "tracks"
        said = f"{len(found.movers)} pieces in {tracks} {words}, {taken} taken."
    if clashes:
        said += f" {clashes} {'pair shares' if clashes == 1 else 'pairs share'} a place."
    for frame, why in found.dropped[:MOST_DROPPED]:
        said += f" Frame {numbers[frame]} left out: {why}."
    if boxed is not None:
        said += " Only the boxed subject is on the shelf" + _followed(boxed, numbers)
    if found.standing:
        unsure = sum(not s.sure for s in found.standing)
        places = len(found.standing)
        said += f" At {places} place{'s' * (places > 1)} something stands for long"
        said += f", at {unsure} it cannot be told which is the ground." if unsure else "."
    return said


def _followed(boxed: Followed, numbers: Sequence[int]) -> str:
    lost = [str(numbers[n]) for n in boxed.lost]
    said = f"; it was not found in frame{'s' * (len(lost) > 1)} {', '.join(lost)}" if lost else ""
    if not 0.7 < boxed.larger < 1.4:
        said += f"; it becomes {boxed.larger:.1f} times as large"
    return said + "."


def one_of_it(found: Subjects, n: int, against: Sequence[int], numbers: Sequence[int]) -> str:
    """One piece: how large, how its light was matched, and whose place it shares."""
    mover = found.movers[n]
    share = 100 * mover.piece.area / mover.scale**2 / (found.size[0] * found.size[1])
    ev = round(float(np.log2(np.mean(mover.gain))), 2) + 0.0
    more = f"; shares its place with {names_of(found.movers, against, numbers)}" if against else ""
    warmer = float(np.log2(mover.gain[0] / mover.gain[2]))
    way = "warmer" if warmer > 0 else "colder"
    drift = f" and made {way} by {abs(warmer):.2f} EV" if abs(warmer) > LEAST_DRIFT_EV else ""
    return (f"Track {mover.track + 1}, frame {numbers[mover.frame]}: {share:.1f} % of the picture, light "
            f"matched by {ev:+.2f} EV{drift}{more}.")
