"""One recipe over one question set: traces boiled down to metrics, levels and the ledger."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from doppio.core.measure.answers import AnswerFigures, answer_figures, answers_told
from doppio.core.measure.ledger import CHUNKS, cause, in_play, ledger
from doppio.core.measure.measuring import Metrics, handed_at, mean, measure
from doppio.core.measure.questions import Question
from doppio.core.measure.relevance import COVER, Relevance, document_positions, relevance
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.trace import Trace

CUTOFFS = (1, 3, 5, 10, 20)


@dataclass(frozen=True)
class Row:
    """What a trial knows of one question.

    ranks : for every stage the rank of the first relevant chunk, from 1, or None
    in_play : for every stage whether the answer goes on from there
    answer : what was answered beside the labels; None where nothing answers, or nothing is labelled
    """

    question: Question
    trace: Trace
    relevance: Relevance
    cause: str
    in_play: dict[str, bool]
    ranks: dict[str, int | None]
    metrics: dict[str, Metrics]
    answer: AnswerFigures | None = None


@dataclass(frozen=True)
class Trial:
    """Results of a recipe over a question set.

    stages : for every stage its mean metrics over the answerable questions
    levels : for "documents", "chunks" and every stage the number of answerable questions still in play
    ledger : questions a cause
    intact : answerable questions that have a span whole in one chunk
    seconds : time a step, summed over the questions
    answers : what the answers are worth, see `answers_told`; empty where nothing answers
    """

    rows: tuple[Row, ...]
    stages: dict[str, Metrics]
    levels: dict[str, int]
    ledger: dict[str, int]
    intact: int
    answerable: int
    seconds: dict[str, float]
    answers: dict[str, float] = field(default_factory=dict)


def run_trial(
    pipeline: Pipeline,
    documents: Sequence[str],
    questions: Sequence[Question],
    *,
    cutoffs: Sequence[int] = CUTOFFS,
    cover: float = COVER,
    progress: Progress | None = None,
) -> Trial:
    """Ask every question and measure every stage.

    Parameters
    ----------
    pipeline : Pipeline
    documents : sequence of str
        Ids of the corpus's documents, in its order.
    questions : sequence of Question
    cutoffs : sequence of int
        The values of k.
    cover : float
        See `relevance`.
    """
    progress = progress or Silent()
    positions = document_positions(documents)
    progress.start("ask questions", len(questions), "questions")
    rows = []
    asked = pipeline.ask_many([q.text for q in questions], [q.beside for q in questions])
    for question, trace in zip(questions, asked, strict=True):
        rows.append(_row(pipeline, positions, question, trace, cutoffs, cover))
        progress.advance(1)
    return summarise(rows, pipeline.recipe.stages)


def summarise(rows: Sequence[Row], stages: Sequence[str]) -> Trial:
    """Boil rows down to a trial."""
    real = [row for row in rows if row.question.answerable]
    seconds: dict[str, float] = {}
    for row in rows:
        for step, value in row.trace.seconds.items():
            seconds[step] = seconds.get(step, 0.0) + value
    return Trial(
        rows=tuple(rows),
        stages={stage: mean(row.metrics[stage] for row in real) for stage in stages},
        levels={
            "documents": len(real),
            **{stage: sum(row.in_play[stage] for row in real) for stage in (CHUNKS, *stages)},
        },
        ledger=ledger(row.cause for row in rows),
        intact=sum(any(row.relevance.intact) for row in real),
        answerable=len(real),
        seconds=seconds,
        answers=answers_told((row.question.answerable, row.trace, row.answer) for row in rows),
    )


def _row(
    pipeline: Pipeline,
    positions: dict[str, int],
    question: Question,
    trace: Trace,
    cutoffs: Sequence[int],
    cover: float,
) -> Row:
    relevant = relevance(pipeline.chunks, positions, question, cover)
    ranks: dict[str, int | None] = {}
    metrics: dict[str, Metrics] = {}
    for stage in trace.stages:
        here = relevant.at(stage)
        ranks[stage.stage] = here.first(stage.chunks)
        if question.answerable:
            metrics[stage.stage] = measure(stage.ranking, here, pipeline.chunks, cutoffs, handed_at(stage))
    return Row(
        question,
        trace,
        relevant,
        cause(trace, relevant, question.answerable),
        in_play(trace, relevant),
        ranks,
        metrics,
        answer_figures(trace, relevant, pipeline.chunks, pipeline.texts) if question.answerable else None,
    )
