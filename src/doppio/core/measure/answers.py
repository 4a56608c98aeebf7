"""What is an answer worth? Its words beside the labelled ones, its citations, and its silence.

References
----------
.. [1] P. Rajpurkar and others, "SQuAD: 100,000+ Questions for Machine Comprehension of Text", EMNLP 2016: token F1
   and exact match.
"""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from statistics import fmean

from doppio.core.chunking.table import ChunkTable, ChunkTexts
from doppio.core.measure.relevance import Relevance
from doppio.core.select.answer.pieces import pieces_of
from doppio.core.text.units import folded_words
from doppio.core.trace import CONTEXT, SaidTrace, Trace

Range = tuple[int, int, int]


@dataclass(frozen=True)
class AnswerFigures:
    """An answer beside the labels of its question; the best label counts. From 0 to 1, larger is better.

    silent : whether nothing was said
    f1 : harmonic mean of the share of its words that the label has and of the label's words that it has
    exact : whether both are the same words in the same order
    holds : share of the label's words that it has
    labelled : of each sentence, whether its place, or else a piece that it cites, is labelled
    """

    silent: bool
    f1: float
    exact: float
    holds: float
    labelled: tuple[bool, ...] = ()

    @property
    def cited(self) -> float | None:
        """Share of its sentences that are labelled; None where it is silent."""
        return fmean(self.labelled) if self.labelled else None


def answer_figures(trace: Trace, relevance: Relevance, table: ChunkTable, texts: ChunkTexts) -> AnswerFigures | None:
    """What the answer of a trace is worth; None where nothing answers, or no label has a place.

    Notes
    -----
    Words are compared without case and punctuation. A question that nothing answers has no labels: only its silence
    counts, see `answers_told`.
    """
    spans = [span for span in relevance.ranges if span is not None]
    if trace.answer is None or not spans:
        return None
    said = trace.answer.sentences
    if not said:
        return AnswerFigures(True, 0.0, 0.0, 0.0)
    firsts = [table.of_document(document).start for document, _, _ in spans]
    labels = texts.between(firsts, [start for _, start, _ in spans], [end for _, _, end in spans])
    own = _words(trace.answer.text)
    beside = [(_f1(own, words), float(own == words), _held(own, words)) for words in map(_words, labels)]
    pieces = [piece.range for piece in pieces_of(trace.stage(CONTEXT), table)]
    labelled = tuple(_is_labelled(one, pieces, spans) for one in said)
    f1, exact, holds = (max(column) for column in zip(*beside, strict=True))
    return AnswerFigures(False, f1, exact, holds, labelled)


def answers_told(rows: Iterable[tuple[bool, Trace, AnswerFigures | None]]) -> dict[str, float]:
    """Figures over questions: whether each is answerable, its trace, and its own figures.

    Returns
    -------
    dict
        `f1`, `exact` and `holds` in the mean over answerable questions, silence counting as 0; `cited` over those
        that were answered; `silent_right` of the `unanswerable` ones and `silent_wrong` of the `answerable` ones are
        counted. Empty where nothing answers.
    """
    every = list(rows)
    asked = [(able, trace.answer) for able, trace, _ in every if trace.answer is not None]
    if not asked:
        return {}
    own = [figures for _, _, figures in every if figures is not None]
    cited = [figures.cited for figures in own if figures.cited is not None]
    means = (
        {name: fmean(getattr(figures, name) for figures in own) for name in ("f1", "exact", "holds")} if own else {}
    )
    return {
        **means,
        **({"cited": fmean(cited)} if cited else {}),
        "answerable": sum(able for able, _ in asked),
        "unanswerable": sum(not able for able, _ in asked),
        "silent_wrong": sum(able and not answer.sentences for able, answer in asked),
        "silent_right": sum(not able and not answer.sentences for able, answer in asked),
    }


def _is_labelled(said: SaidTrace, pieces: Sequence[Range], spans: Sequence[Range]) -> bool:
    own: list[Range] = [(said.document, said.start, said.end)] if said.start >= 0 else []
    own = own or [pieces[number - 1] for number in said.cites if 0 < number <= len(pieces)]
    return any(
        one == document and start < high and low < end for one, start, end in own for document, low, high in spans
    )


def _words(text: str) -> list[str]:
    return [word for word in folded_words(text) if word]


def _shared(own: Sequence[str], label: Sequence[str]) -> int:
    return sum((Counter(own) & Counter(label)).values())


def _f1(own: Sequence[str], label: Sequence[str]) -> float:
    return 2 * _shared(own, label) / (len(own) + len(label)) if own and label else float(own == label)


def _held(own: Sequence[str], label: Sequence[str]) -> float:
    return _shared(own, label) / len(label) if label else 1.0
