"""Every passage with all of its document."""

from doppio.core.kinds import Setting, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.widening.around import whole_document
from doppio.core.select.widening.kind import Widened


class WholeDocument:
    """See the module."""

    name, title, order, widens = "whole-document", "whole documents", 4, True
    settings: tuple[Setting, ...] = ()

    def widened(self, pool: Pool, settings: Settings) -> Widened:
        wide = [whole_document(pool.table, chunk) for chunk in pool.chunks.tolist()]
        return Widened.each(pool, wide, "its whole document")


KIND = WholeDocument()
