"""Labelled questions in and out."""

from collections.abc import Sequence

from django.db import transaction
from django.db.models import Prefetch

from doppio.core.measure.questions import Question as CoreQuestion
from doppio.core.measure.questions import Span
from doppio.core.measure.relevance import document_positions
from doppio.core.pipeline import Pipeline
from doppio.library.models import Document, Workspace
from doppio.library.texts import RecordedTexts
from doppio.questions.models import AnswerSpan, Question

BATCH = 500


@transaction.atomic
def load_questions(workspace: Workspace, questions: Sequence[CoreQuestion]) -> bool:
    """Replace the workspace's questions by these, all or nothing; False where they are the same already."""
    if core_questions(workspace) == list(questions):
        return False
    workspace.questions.all().delete()
    workspace.trials.all().delete()
    documents = dict(workspace.documents.values_list("name", "pk"))
    records = Question.objects.bulk_create(
        [
            Question(
                workspace=workspace,
                identity=question.id,
                text=question.text,
                tags=list(question.tags),
                position=position,
            )
            for position, question in enumerate(questions)
        ],
        BATCH,
    )
    AnswerSpan.objects.bulk_create(
        [
            AnswerSpan(
                question=record,
                document_id=documents[span.document],
                start=span.start,
                end=span.end,
                grade=span.grade,
            )
            for record, question in zip(records, questions, strict=True)
            for span in question.spans
        ],
        BATCH,
    )
    return True


def core_questions(workspace: Workspace) -> list[CoreQuestion]:
    """The workspace's questions for the core, in their order; those that lost all of their labels are left out.

    Without its labels a question would be taken for one that nothing answers.
    """
    documents = Document.objects.only("pk", "name")
    rows = workspace.questions.prefetch_related("spans", Prefetch("spans__document", documents)).order_by("position")
    return [core_question(row) for row in rows if not is_lost(row)]


def is_lost(row: Question) -> bool:
    """Whether a question had labels, and all of them lost their place."""
    spans = row.spans.all()
    return bool(spans) and all(span.lost for span in spans)


def core_question(row: Question) -> CoreQuestion:
    spans = (
        Span(span.document.name, span.start, span.end, span.grade)
        for span in row.spans.all()
        if not span.lost and span.document is not None
    )
    return CoreQuestion(
        row.identity,
        row.text,
        tuple(spans),
        tuple(row.tags),
    )


def positions(pipeline: Pipeline) -> dict[str, int]:
    """Position of each document in a pipeline's chunk table, by name."""
    assert isinstance(pipeline.texts, RecordedTexts)
    return document_positions(pipeline.texts.corpus.names)
