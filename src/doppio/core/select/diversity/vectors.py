"""Passages are alike by the cosine of their vectors."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings
from doppio.core.select.diversity.kind import STRENGTH
from doppio.core.select.pool import Pool


class ByVectors:
    """See the module; opposite vectors share nothing either."""

    name, title, order = "vectors", "varied, by vectors", 2
    chooses = compares_vectors = True
    summary = "strength {strength}"
    settings: tuple[Setting, ...] = (STRENGTH,)

    def likeness(self, pool: Pool, settings: Settings) -> NDArray[np.float32]:
        vectors = pool.vectors
        lengths = np.linalg.norm(vectors, axis=1, keepdims=True)
        unit = vectors / np.maximum(lengths, 1e-12)
        return np.clip(unit @ unit.T, 0, 1).astype(np.float32)


KIND = ByVectors()
