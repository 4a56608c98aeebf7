"""No widening: what was found is what is handed on."""

from doppio.core.kinds import Setting, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.widening.kind import NONE, Widened


class AsFound:
    """See the module."""

    name, title, order, widens = NONE, "as found", 1, False
    settings: tuple[Setting, ...] = ()

    def widened(self, pool: Pool, settings: Settings) -> Widened:
        return Widened(((),) * len(pool), ("",) * len(pool))


KIND = AsFound()
