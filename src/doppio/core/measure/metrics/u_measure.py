"""U-measure: what is read is text, so what counts is how many characters stand before an answer's end.

What is handed on is read from the top. Each answer earns its grade where the part of it that is handed on first ends,
less the further down that is, and nothing beyond 6,000 characters: U = sum of g (1 - position / 6000) over the sum of
the grades. 6,000 characters are about the 1,500 tokens that a context usually has. Unlike measures by rank it tells a
list of long passages from one of short ones.

References
----------
.. [1] T. Sakai, Z. Dou, "Summaries, ranked retrieval and sessions: a unified framework for information access
   evaluation", SIGIR 2013.
"""

from itertools import accumulate

from doppio.core.kinds import Setting
from doppio.core.measure.judged import NEVER, Judged

READ = 6000


class UMeasure:
    """See the module."""

    name, title, order, cut, everyday = "u", "U-measure", 10, False, True
    help = "answers' worth, less the more characters are read before their end"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        relevance = judged.relevance
        pieces = judged.pieces(len(judged.ranking))
        begins = list(accumulate((end - start for _, start, end in pieces), initial=0))
        earned = 0.0
        for place, grade, span in zip(judged.first.tolist(), relevance.grades, relevance.ranges, strict=True):
            if place == NEVER:
                continue
            _, low, high = pieces[place]
            reached = begins[place] + (high if span is None else min(span[2], high)) - low
            earned += float(grade) * max(1 - reached / READ, 0)
        total = float(relevance.grades.sum())
        return earned / total if total else 0.0


KIND = UMeasure()
