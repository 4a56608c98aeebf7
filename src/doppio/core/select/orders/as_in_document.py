"""Passages of a document one after another as they stand in it; documents by their best passage."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings


class AsInDocument:
    """See the module."""

    name, title, order = "as-in-document", "as in the document", 3
    settings: tuple[Setting, ...] = ()

    def written(self, ranges: NDArray[np.int64], settings: Settings) -> NDArray[np.int64]:
        documents = ranges[:, 0]
        _, first, of = np.unique(documents, return_index=True, return_inverse=True)
        return np.lexsort((ranges[:, 1], first[of]))


KIND = AsInDocument()
