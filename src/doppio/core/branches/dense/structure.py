"""Ways to find near vectors, built over one segment and kept as arrays; which there are the kinds say themselves."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.structures.kind import STRUCTURES, Arrays, Held
from doppio.core.kinds import Settings
from doppio.core.progress import Progress, Silent

KIND = "structure"


@dataclass(frozen=True)
class Structure:
    """A structure over the vectors of a segment, opened."""

    kind: str
    held: Held
    bytes: int

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        """Rows worth scoring with their full vectors, at most `count`."""
        return self.held.candidates(vectors, question, count, settings, dead)


def built_settings(settings: Settings) -> Settings:
    """The part of a recipe's `structure` that its artifact depends on."""
    kind = STRUCTURES.get(settings["kind"])
    own = {setting.name: settings[setting.name] for setting in kind.settings if setting.built}
    return {"kind": kind.name, **own, **({"edition": kind.edition} if kind.edition > 1 else {})}


def build_structure(vectors: Vectors, settings: Mapping[str, Any], progress: Progress | None = None) -> Arrays:
    """Build a structure over the vectors of a segment.

    Parameters
    ----------
    settings : mapping
        The recipe's `structure`; its kind is not "exact".

    Returns
    -------
    dict of arrays, as `open_structure` takes them
    """
    progress = progress or Silent()
    kind = STRUCTURES.get(settings["kind"])
    progress.start(f"build {kind.name}", len(vectors), "chunks")
    return kind.build(vectors, settings, progress)


def open_structure(kind: str, arrays: Mapping[str, NDArray[Any]]) -> Structure:
    """A structure from the arrays of its artifact."""
    return Structure(kind, STRUCTURES.get(kind).open(arrays), sum(array.nbytes for array in arrays.values()))


def grown(
    structure: Structure, now: NDArray[np.int64], vectors: Vectors, progress: Progress | None = None
) -> Arrays | None:
    """A structure over more vectors, made from one over some of them; None where it has to be built anew.

    Parameters
    ----------
    now : (n,) int64 array
        Which row of `vectors` each row of the structure becomes; -1 where it is gone.
    """
    return STRUCTURES.get(structure.kind).grown(structure.held, now, vectors, progress or Silent())
