"""Every passage with all of its page: what is found on one page by its words and by its looks is one passage."""

from doppio.core.kinds import Setting, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.widening.kind import Widened


class WholePage:
    """See the module. A passage over two pages takes both; one of a document without pages stays as it is."""

    name, title, order, widens = "page", "whole pages", 6, True
    settings: tuple[Setting, ...] = ()

    def widened(self, pool: Pool, settings: Settings) -> Widened:
        own = pool.ranges.tolist()
        found = pool.source.pages(pool.chunks.tolist())
        # What is handed on may reach beyond the chunk that the page was told by.
        wide = [
            (document, min(low, start), max(high, end))
            for (document, low, high), (start, end) in zip(own, found, strict=True)
        ]
        return Widened.each(pool, wide, "its whole page")


KIND = WholePage()
