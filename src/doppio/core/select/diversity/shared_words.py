"""Passages are alike by the words that they share."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings
from doppio.core.select.diversity.kind import STRENGTH
from doppio.core.select.pool import Pool
from doppio.core.text.units import folded_words


class BySharedWords:
    """The cosine of two passages as sets of words: what they share over the root of the product of their sizes."""

    name, title, order = "shared-words", "varied, by shared words", 3
    chooses, compares_vectors = True, False
    summary = "strength {strength}"
    settings: tuple[Setting, ...] = (STRENGTH,)

    def likeness(self, pool: Pool, settings: Settings) -> NDArray[np.float32]:
        held = [_words(text) for text in pool.texts]
        columns = {word: place for place, word in enumerate(sorted(set().union(*held)))}
        there = np.zeros((len(held), len(columns)), np.float32)
        for row, words in enumerate(held):
            there[row, [columns[word] for word in words]] = 1
        sizes = np.maximum(there.sum(axis=1), 1)
        return np.asarray(there @ there.T / np.sqrt(sizes[:, None] * sizes[None, :]), np.float32)


# Passages come again with every question.
@lru_cache(maxsize=8192)
def _words(text: str) -> frozenset[str]:
    return frozenset(folded_words(text)) - {""}


KIND = BySharedWords()
