"""Which pairs of many frames are worth matching: by a global description of each frame."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from windfell.align.features import Features

WORDS, ROUNDS = 48, 6
SAMPLE = 60
NEAR_IN_ORDER, MOST_ALIKE = 3, 10
ALL_UP_TO = 24


def likely_pairs(features: Sequence[Features], all_up_to: int = ALL_UP_TO) -> list[tuple[int, int]]:
    """Pairs (a, b), a < b: all of up to so many frames; of more, neighbours in order and the alike.

    Alike by vectors of locally aggregated descriptors (Jegou et al. 2010), whose words are
    learned from the set itself.
    """
    count = len(features)
    if count <= all_up_to:
        return [(a, b) for a in range(count) for b in range(a + 1, count)]
    found = {(a, b) for a in range(count) for b in range(a + 1, min(count, a + 1 + NEAR_IN_ORDER))}
    described = _aggregated(features)
    likeness = described @ described.T
    np.fill_diagonal(likeness, -2)
    for a, row in enumerate(likeness):
        for b in np.argsort(-row)[:MOST_ALIKE]:
            found.add((min(a, int(b)), max(a, int(b))))
    return sorted(found)


def _aggregated(features: Sequence[Features]) -> NDArray[np.float32]:
    """(frames, WORDS * length of a descriptor) unit vectors."""
    rng = np.random.default_rng(4)
    pool = np.concatenate([f.vectors(SAMPLE) for f in features if len(f)])
    words = pool[rng.choice(len(pool), min(WORDS, len(pool)), replace=False)].copy()
    for _ in range(ROUNDS):
        nearest = np.argmax(pool @ words.T, axis=1)
        for w in range(len(words)):
            members = pool[nearest == w]
            if len(members):
                words[w] = members.mean(axis=0)
        words /= np.linalg.norm(words, axis=1, keepdims=True) + 1e-9
    out = np.zeros((len(features), *words.shape), np.float32)
    for n, f in enumerate(features):
        if len(f):
            vectors = f.vectors()
            nearest = np.argmax(vectors @ words.T, axis=1)
            np.add.at(out[n], nearest, vectors - words[nearest])
    flat = out.reshape(len(features), -1)
    flat = np.sign(flat) * np.sqrt(np.abs(flat))
    return flat / (np.linalg.norm(flat, axis=1, keepdims=True) + 1e-9)
