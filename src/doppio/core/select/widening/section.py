"""Every passage with all of its section."""

from doppio.core.kinds import Setting, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.widening.around import section
from doppio.core.select.widening.kind import Widened


class WholeSection:
    """See the module."""

    name, title, order, widens = "section", "whole sections", 3, True
    settings: tuple[Setting, ...] = ()

    def widened(self, pool: Pool, settings: Settings) -> Widened:
        wide = [section(pool.table, chunk) for chunk in pool.chunks.tolist()]
        return Widened.each(pool, wide, "its whole section")


KIND = WholeSection()
