"""Versions are not looked for."""

from collections.abc import Sequence

from doppio.core.kinds import Setting, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.versions.kind import NONE


class Every:
    """See the module."""

    name, title, order, chooses = NONE, "every version", 1, False
    settings: tuple[Setting, ...] = ()

    def best(self, pool: Pool, places: Sequence[int], settings: Settings) -> int:
        return places[0]


KIND = Every()
