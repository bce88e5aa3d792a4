"""Findings: each preventable fault, what it will cost, which frames, and what mends it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Weight(StrEnum):
    """How much a finding matters: it spoils the picture, it may show, or it is good to know."""

    WRONG = "wrong"
    DOUBTFUL = "doubtful"
    NOTE = "note"


class Mend(StrEnum):
    """What mends a finding."""

    NONE = "none"
    KEEP_ASIDE = "keep aside"
    MATCH = "match"
    LENS = "correct the lens"
    ALIGN = "align"
    FISHEYE = "correct as a fisheye"
    FIELDS = "use as darks or flats"


@dataclass(frozen=True)
class Finding:
    """`frames` are ids. `safe`: mending it loses nothing and needs no judgement."""

    fault: str
    weight: Weight
    title: str
    cost: str
    frames: tuple[str, ...]
    mend: Mend = Mend.NONE
    mend_words: str = ""
    safe: bool = False
