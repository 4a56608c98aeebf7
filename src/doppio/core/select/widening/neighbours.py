"""Every passage with its neighbours."""

from doppio.core.kinds import Setting, Settings, whole
from doppio.core.select.pool import Pool
from doppio.core.select.widening.around import neighbours
from doppio.core.select.widening.kind import Widened


class WithNeighbours:
    """See the module."""

    name, title, order, widens = "neighbours", "with neighbours", 2, True
    summary = "{each_side} each side"
    settings: tuple[Setting, ...] = (whole("each_side", "Chunks each side", 1, 20, 1),)

    def widened(self, pool: Pool, settings: Settings) -> Widened:
        wide = [neighbours(pool.table, chunk, settings["each_side"]) for chunk in pool.chunks.tolist()]
        return Widened.each(pool, wide, "with its neighbours")


KIND = WithNeighbours()
